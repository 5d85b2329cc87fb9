import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import type { Rollout, SoakView } from '@barrow/core';
import type { BarrowClient } from '@barrow/client';
import { hasChromium } from './support/browser.js';
import { openPage } from './support/console.js';
import { barrow, serve, type Ran } from './support/service.js';
import { isEnded, isHeld, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** One version leaks, one has a port that comes and goes, one is merely busier: the first two are found, the third is told. */
describe('a soak that looks', () => {
  let scene: Scene;
  let client: BarrowClient;
  let held: Rollout;
  let soak: SoakView;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const finding = (model: string) => soak.findings.filter((f) => f.model === model);
  const first = ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-rt-1'];

  beforeAll(async () => {
    scene = await setScene({ network: 146, scale: 200 });
    ({ client } = scene.served);
    await prepare(scene);
    await scene.fleet.fault('quay-sw-1', 'leaks-on-new');
    await scene.fleet.fault('quay-sw-2', 'leaks-on-new');
    await scene.fleet.fault('quay-sw-3', 'flaps-on-new');
    await scene.fleet.fault('quay-rt-1', 'busier-on-new');
    const plan = await client.plan({
      devices: [...first, 'gannet-sw-1', 'gannet-sw-2'],
      waves: [{ name: 'early', devices: first }],
      atOnce: 10,
      // Twenty-five minutes of theirs.
      soakSeconds: 8,
    });
    expect(plan.waves.map((w) => w.gate.watch)).toEqual([true, undefined]);
    await client.say(plan.id, 'start', { accept: ['all'] });
    held = await rolloutUntil(client, plan.id, (r) => isHeld(r) || isEnded(r));
    soak = (await client.soaks(plan.id))[0]!;
  });
  afterAll(() => scene?.end());

  it('holds the gate for what got worse, and says what, of how many, and what their untouched twins do', () => {
    expect(held).toMatchObject({ phase: 'held', heldBy: 'Barrow' });
    expect(
      held.runs
        .filter((r) => r.outcome === 'verified')
        .map((r) => r.name)
        .sort(),
    ).toEqual([...first].sort());
    expect(soak).toMatchObject({ wave: 0, name: 'early', worse: expect.stringMatching(/^free memory of 2 of 2 upgraded TB-2424 falls/) });
    expect(held.heldBecause).toBe(`what soaked got worse: ${soak.worse}`);
    expect(held.waves[0]!.soak).toEqual({ judged: true, worse: soak.worse });
    expect(finding('TB-2424').map((f) => [f.measure, f.verdict])).toEqual([['free memory', 'worse']]);
    expect(finding('TB-2424')[0]!.text).toMatch(/falls [34]\.\d MB an hour; of [345] untouched twins none does$/);
    expect(finding('TB-2408')).toMatchObject([{ measure: 'ports that come and go', verdict: 'worse' }]);
    expect(finding('TB-2408')[0]!.text).toMatch(
      /^1 of 1 upgraded TB-2408 had ports come and go, \d+ times; of 5 untouched twins none does$/,
    );
  });

  it('tells who is merely busier, and holds nothing for it', () => {
    expect(finding('WR-110')).toMatchObject([{ measure: 'load of the processor', verdict: 'told' }]);
    expect(finding('WR-110')[0]!.text).toMatch(
      /^load of the processor of 1 upgraded WR-110 is 3\d %, of 1 untouched at most 1\d %: busier, and no harm$/,
    );
  });

  it('draws what was seen, of those that were upgraded and of those that nobody touched', async () => {
    const { series } = finding('TB-2424')[0]!;
    expect(series.filter((s) => s.upgraded).map((s) => s.name)).toEqual(['quay-sw-1', 'quay-sw-2']);
    expect(series.filter((s) => !s.upgraded).length).toBeGreaterThanOrEqual(3);
    for (const { points } of series) expect(points.length).toBeGreaterThanOrEqual(4);
    const said = await cli('rollout', 'soak', held.id);
    expect(said.code).toBe(0);
    expect(said.out).toContain('2 things got worse');
    expect(said.out).toMatch(/quay-sw-1 +upgraded +[▁▂▃▄▅▆▇█]+/);
    expect((await cli('rollout', 'show', held.id)).out).toContain('got worse while it soaked: free memory of 2 of 2');
  });

  it.skipIf(!hasChromium)('is drawn in the console beside its wave, each finding with its lines', async () => {
    const { page, end } = await openPage(scene.served, `/rollouts/${held.id}`);
    const wave = page.getByRole('group', { name: 'What was seen while wave 1 soaked' });
    await wave.getByText('2 things got worse').waitFor();
    const memory = wave.locator('.finding', { hasText: 'free memory of 2 of 2 upgraded TB-2424' });
    expect(await memory.locator('polyline.upgraded').count()).toBe(2);
    expect(await memory.locator('polyline:not(.upgraded)').count()).toBeGreaterThanOrEqual(3);
    // Each line says whose it is, and to what it came.
    const [, was, is] = /^quay-sw-\d, upgraded: (\d+\.\d) MB → (\d+\.\d) MB$/.exec(
      (await memory.locator('polyline.upgraded title').first().textContent())!,
    )!;
    expect(Number(is)).toBeLessThan(Number(was));
    expect(await page.getByRole('alert').textContent()).toContain('what soaked got worse');
    expect(await end()).toEqual([]);
  });

  it('goes on by a word, and the report keeps what was seen', async () => {
    await client.say(held.id, 'continue');
    const done = await rolloutUntil(client, held.id, isEnded);
    expect(done.totals).toMatchObject({ verified: 6 });
    const report = await client.report(held.id);
    expect(report.soaks).toMatchObject([{ wave: 'early', worse: soak.worse, findings: soak.findings.map((f) => f.text) }]);
    expect(await client.reportAs(held.id, 'html')).toContain('free memory of 2 of 2 upgraded TB-2424');
  });

  it('goes on with what it has seen when the service is started anew, until it has seen enough', async () => {
    // Its twins are those that were upgraded before, and they are well now.
    for (const name of ['quay-sw-1', 'quay-sw-2']) await scene.fleet.fault(name, 'leaks-on-new', false);
    await scene.fleet.fault('eelgate-sw-1', 'leaks-on-new');
    const plan = await client.plan({
      devices: ['eelgate-sw-1', 'eelgate-sw-2'],
      waves: [{ name: 'one', devices: ['eelgate-sw-1'] }],
      soakSeconds: 8,
    });
    await client.say(plan.id, 'start', { accept: ['all'] });
    await rolloutUntil(client, plan.id, (r) => r.waves[0]!.phase === 'soaking');
    await scene.served.stop();
    const stopped = Date.now();
    // For all of its time nobody looks.
    await vi.waitUntil(() => Date.now() > stopped + 8000, { timeout: 60_000 });
    scene.served = await serve(scene.data, { scale: 200 });
    ({ client } = scene.served);
    const done = await rolloutUntil(client, plan.id, (r) => isEnded(r) || isHeld(r));
    expect(done).toMatchObject({ phase: 'held', heldBecause: expect.stringContaining('free memory of 1 of 1 upgraded TB-2424') as string });
    const [{ findings }] = (await client.soaks(plan.id)) as [SoakView];
    // The twins were looked at before, too.
    for (const { points, name } of findings[0]!.series.filter((s) => !s.upgraded))
      expect(points.filter(([at]) => at < stopped).length, name).toBeGreaterThan(0);
    await client.say(plan.id, 'continue');
    await rolloutUntil(client, plan.id, isEnded);
  });

  it('looks once more at each of them when it is over: who runs what it ran before is told, and by whom it may be', async () => {
    expect((await cli('device', 'set', 'sandpiper-sw-1', '--decided-by', 'the harbour office')).code).toBe(0);
    const plan = await client.plan({
      devices: ['sandpiper-sw-1', 'curlew-sw-1'],
      waves: [{ name: 'one', devices: ['sandpiper-sw-1'] }],
      gates: { one: { soakSeconds: 2 } },
    });
    await client.say(plan.id, 'start', { accept: ['all'] });
    await rolloutUntil(client, plan.id, (r) => r.waves[0]!.phase === 'soaking');
    const fallen = scene.fleet.device('sandpiper-sw-1');
    fallen.persistent.nextBoot = fallen.persistent.store.find((s) => s.version === '4.2.1')!.name;
    fallen.losePower();
    const done = await rolloutUntil(client, plan.id, (r) => isEnded(r) || isHeld(r));
    const text = 'sandpiper-sw-1 runs 4.2.1 and not 4.3.0: reverted by the harbour office';
    expect(done).toMatchObject({ phase: 'held', heldBecause: expect.stringContaining(`what soaked got worse: ${text}`) as string });
    const [{ findings }] = (await client.soaks(plan.id)) as [SoakView];
    expect(findings.filter((f) => f.measure === 'the look after the soak').map((f) => f.text)).toEqual([text]);
    // Its record says so, and it is behind.
    expect(await client.device('sandpiper-sw-1')).toMatchObject({ firmware: '4.2.1', standing: 'behind' });
    expect((await cli('rollout', 'soak', plan.id)).out).toContain(text);
    await client.say(plan.id, 'continue');
    await rolloutUntil(client, plan.id, isEnded);
  });

  it('passes where nothing got worse, and says when too little was seen', async () => {
    const plan = await client.plan({
      devices: ['quay-sw-4', 'eelgate-sw-3'],
      waves: [{ name: 'one', devices: ['quay-sw-4'] }],
      gates: { one: { soakSeconds: 6 } },
    });
    await client.say(plan.id, 'start', { accept: ['all'] });
    const done = await rolloutUntil(client, plan.id, (r) => isEnded(r) || isHeld(r));
    expect(done.phase).toBe('ended');
    expect((await client.soaks(plan.id))[0]).toMatchObject({ worse: null, findings: [] });
    const short = await client.plan({ devices: ['dunmoor-rt-1', 'dunmoor-sw-1'], first: 1, soakSeconds: 1 });
    await client.say(short.id, 'start', { accept: ['all'] });
    await rolloutUntil(client, short.id, (r) => isEnded(r) || isHeld(r));
    const [told] = await client.soaks(short.id);
    expect(told!.findings.map((f) => f.verdict)).toEqual(['unknown']);
    expect(told!.findings[0]!.text).toMatch(/fewer than 4 say nothing|no twin was left untouched/);
  });
});

describe('a wave that a person holds back', () => {
  let scene: Scene;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  beforeAll(async () => {
    scene = await setScene({ network: 147, only: ['quay-sw-1', 'eelgate-sw-1'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('is not opened until they say so; those before it go on', async () => {
    const { client } = scene.served;
    // Its first wave waits until somebody says so: nothing is passed meanwhile.
    const plan = await client.plan({ devices: ['quay-sw-1', 'eelgate-sw-1'], first: 1, soakSeconds: 0, approval: true });
    const early = await cli('rollout', 'hold', plan.id, '--wave', '2');
    expect([early.code, early.err]).toEqual([4, expect.stringContaining('planned and was not started')]);
    await client.say(plan.id, 'start', { accept: ['all'] });
    const held = await cli('rollout', 'hold', plan.id, '--wave', '2', '--reason', 'the ferry leaves at six');
    expect(held.out).toContain(
      `Wave 2 (rest) of ${plan.name} is held back: it is not opened until \`barrow rollout continue ${plan.id} --wave 2\`.`,
    );
    for (const [wave, words] of [
      ['2', 'held back already'],
      ['1', 'Wave 1 is '],
      ['7', 'none with the number 7'],
    ] as const)
      expect((await cli('rollout', 'hold', plan.id, '--wave', wave)).err).toContain(words);
    if (hasChromium) {
      // Let it be opened, and held back again, in the console.
      const { page, end } = await openPage(scene.served, `/rollouts/${plan.id}`);
      const wave = page.getByRole('region', { name: 'Wave 2' });
      await wave.getByText('Held back by first admin: the ferry leaves at six.').waitFor();
      // By key: a running rollout moves what stands below it, and a click can miss.
      await wave.getByRole('button', { name: 'Let it be opened' }).press('Enter');
      // The whole page is told when it fails: it says why.
      await expect.poll(() => page.locator('main').innerText(), { timeout: 30_000 }).toContain('Hold it back');
      await wave.getByRole('button', { name: 'Hold it back' }).press('Enter');
      await wave.getByText('Held back by first admin: from the console.').waitFor();
      expect(await end()).toEqual([]);
      await client.say(plan.id, 'continue', { wave: 1 });
      await client.say(plan.id, 'hold', { wave: 1, reason: 'the ferry leaves at six' });
    }
    await client.say(plan.id, 'approve', { wave: 0 });
    const waiting = await rolloutUntil(client, plan.id, (r) => r.waves[0]!.phase === 'passed');
    const second = waiting.runs.find((r) => r.wave === 1)!;
    expect(second).toMatchObject({
      phase: 'waiting',
      waits: { text: 'waits: wave 2 (rest) is held back by first admin: the ferry leaves at six' },
    });
    expect((await cli('rollout', 'show', plan.id)).out).toContain('held back by first admin: the ferry leaves at six');
    expect((await cli('rollout', 'continue', plan.id, '--wave', '2')).out).toContain('is opened when its turn comes');
    const done = await rolloutUntil(client, plan.id, isEnded);
    expect(done.totals).toMatchObject({ verified: 2 });
    const deeds = (await client.report(plan.id)).deeds.map((d) => d.what);
    expect(deeds.slice(0, 2)).toEqual(['started the rollout', 'held wave 2 back: the ferry leaves at six']);
    expect(deeds.at(-1)).toBe('had wave 2 opened when its turn comes');
  });
});

describe("a person's word", () => {
  let scene: Scene;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  beforeAll(async () => {
    scene = await setScene({ network: 150, only: ['quay-sw-1', 'quay-sw-2', 'eelgate-sw-1'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('tells beforehand what it would do, and to whom; and who is done by hand is looked at, not believed', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-1', 'quay-sw-2', 'eelgate-sw-1'], first: 1, soakSeconds: 0, approval: true });
    await client.say(plan.id, 'start', { accept: ['all'] });
    const waiting = await rolloutUntil(client, plan.id, (r) => r.totals.verified === 1);
    const second = waiting.runs.filter((r) => r.wave === 1).map((r) => r.name);
    const stop = await cli('rollout', 'stop', plan.id, '--look');
    expect(stop.out).toBe(
      `End withdrawn, as they are: 2 devices (${second.join(', ')}).\nIt cannot be continued then; who was withdrawn can be retried.\n\nNothing was said to it.\n`,
    );
    expect((await cli('rollout', 'hold', plan.id, '--look')).out).toContain('Are not begun until you say continue: 2 devices');
    const [mine, other] = second as [string, string];
    expect((await cli('rollout', 'take-over', plan.id, mine, '--look')).out).toContain(`${mine} is yours: Barrow does nothing more to it`);
    expect((await client.rollout(plan.id)).runs.find((r) => r.name === mine)).toMatchObject({ outcome: null });
    const taken = await cli('rollout', 'take-over', plan.id, mine);
    expect(taken.out).toContain(`Yours: ${mine} in ${plan.name}.`);
    expect(taken.out).toContain(`\`barrow rollout retry ${plan.id} ${mine}\``);
    const now = await client.rollout(plan.id);
    expect(now.runs.find((r) => r.name === mine)).toMatchObject({ outcome: 'skipped', detail: 'first admin does it by hand' });
    await client.say(plan.id, 'approve', { wave: 0 });
    await rolloutUntil(client, plan.id, isEnded);
    // The hand has done nothing: Barrow finds that, and does it.
    expect(scene.fleet.device(mine).running.version).toBe('4.2.1');
    await client.sayRun(plan.id, mine, 'retry');
    const done = await rolloutUntil(client, plan.id, isEnded);
    expect(done.runs.map((r) => [r.name, r.outcome]).sort()).toEqual(
      [mine, other, waiting.runs.find((r) => r.wave === 0)!.name].sort().map((n) => [n, 'verified']),
    );
    // Past the point of no return, or ended, it cannot be had.
    const late = await cli('rollout', 'take-over', plan.id, mine);
    expect([late.code, late.err]).toEqual([4, expect.stringContaining('has ended: verified')]);
  });
});
