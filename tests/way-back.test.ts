import { generateKeyPairSync } from 'node:crypto';
import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { LiveEvent, Report, Rollout, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { writeScenarioLibrary, type StandIn } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { barrow, serve, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** A device that fails past its point of no return is taken back; the device is asked what truly happened. */
describe('the way back', () => {
  let scene: Scene;
  let client: BarrowClient;
  const device = (name: string): StandIn => scene.fleet.device(name);
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const plan = (wayBack: boolean, ...devices: string[]): Promise<Rollout> => client.plan({ devices, first: 0, wayBack, unsaved: 'save' });
  const runOf = ({ runs }: Rollout, name: string): RunView => runs.find((r) => r.name === name)!;
  const over = async (id: string): Promise<Rollout> => rolloutUntil(client, id, isAtRest);
  /** Waits for the first event of a rollout that is as it should be. */
  const heard = async (
    rollout: Rollout,
    so: (event: Extract<LiveEvent, { kind: 'journal' }>['entry']['event']) => boolean,
  ): Promise<void> => {
    for await (const event of client.events({ after: rollout.journal }))
      if (event.kind === 'journal' && event.entry.rollout === rollout.id && so(event.entry.event)) return;
  };

  beforeAll(async () => {
    scene = await setScene({
      network: 119,
      scale: 100,
      only: ['gannet-sw-1', 'quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'dunmoor-rt-1', 'quay-rt-1'],
    });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('is in the plan: what would be tried, and where there is none', async () => {
    const oneWay = await plan(true, 'dunmoor-rt-1');
    const words = 'one way: if R7.04 fails, Barrow cannot take it back: the store has no image of R7.02 that may be taken after R7.04';
    expect(oneWay.hazards.filter((h) => h.accept)).toEqual([
      expect.objectContaining({ code: 'one-way', groups: [{ words, forMs: null, devices: ['dunmoor-rt-1'] }] }),
    ]);
    expect((await plan(false, 'dunmoor-rt-1')).hazards.filter((h) => h.accept)).toEqual([]);
    // It is begun only by who accepts that, by its name.
    const start = (...accept: string[]) => cli('rollout', 'start', oneWay.id, ...(accept.length > 0 ? ['--accept', accept.join(',')] : []));
    const refused = await start();
    expect(refused).toMatchObject({ code: 4, err: expect.stringContaining('Nobody has accepted one-way') as string });
    expect(refused.err).toContain(`rollout start ${oneWay.id} --accept one-way`);
    expect((await start('oneway')).err).toContain('Is one-way meant?');
    expect((await start('resets')).err).toContain('Nobody has accepted one-way');
    expect((await client.rollout(oneWay.id)).phase).toBe('planned');
    expect(await start('one-way', 'resets')).toMatchObject({ code: 0 });
    await client.say(oneWay.id, 'stop');
    expect((await client.report(oneWay.id)).deeds.map((d) => d.what)).toContain('started the rollout, and accepted one-way');
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    const earlier = library.add.filter((file) => file.includes('wr110-R7.02'));
    expect(earlier.length).toBeGreaterThan(0);
    for (const batch of await batchesOf(earlier, false)) await takeBatch(client, batch, {});
    const told = await cli('rollout', 'plan', 'quay-sw-1', 'dunmoor-rt-1', '--first', '0', '--way-back');
    expect(told, told.out + told.err).toMatchObject({ code: 0 });
    expect(told.out.replace(/\s+/g, ' ')).toContain(
      'A device that fails after it takes the recovery steps of its family, at once: waited for once more, then taken back by its other slot, then given its settings from before, then taken back by the earlier image.',
    );
    expect(told.out).not.toContain('one way');
  });

  it('leads to the other slot, at once, and the switch is as it was', async () => {
    const sw = device('gannet-sw-1');
    const settings = [...sw.settings];
    sw.faults.add('drops-settings-on-new');
    const planned = await plan(true, 'gannet-sw-1');
    const told = await cli('rollout', 'start', planned.id, '--follow');
    sw.faults.clear();
    expect(told, told.out + told.err).toMatchObject({ code: 1 });
    expect(told.out).toMatch(/✕ checks: settings-changed/);
    expect(told.out).toMatch(/1\/6 taken back by its other slot: take-stock/);
    expect(told.out).toMatch(/6\/6 taken back by its other slot: checks/);
    expect(told.out).toMatch(/↺ recovered/);
    expect(told.out.replace(/\s+/g, ' ')).toContain(
      'Then it was taken back by its other slot: it worked. It is good again on 4.2.1, and not at its target.',
    );
    expect(sw.running.version).toBe('4.2.1');
    expect(sw.settings).toEqual(settings);
    // Chosen and restarted once there and once back; written once.
    expect(sw.counters).toMatchObject({ writesDone: 1, activations: 2, reboots: 2, restartsInWrite: 0 });
    const done = await over(planned.id);
    expect(runOf(done, 'gannet-sw-1')).toMatchObject({
      outcome: 'recovered',
      cause: { code: 'settings-changed' },
      step: 'checks',
      takeBack: null,
    });
    const known = (await client.devices()).find((d) => d.name === 'gannet-sw-1')!;
    expect(known).toMatchObject({ firmware: '4.2.1', armed: null });
    const { runs } = await client.report(planned.id);
    expect(runs[0]).toMatchObject({ outcome: 'recovered', before: '4.2.1', after: '4.2.1', target: '4.3.0' });
    expect(runs[0]!.checks.filter((c) => c.name.startsWith('back to 4.2.1: ')).map((c) => [c.name.slice(15), c.result])).toEqual([
      ['serial', 'passed'],
      ['version', 'passed'],
      ['restart', 'passed'],
      ['next boot', 'passed'],
      ['boot loader', 'passed'],
      ['configuration', 'passed'],
      ...['doors', 'spanning tree', 'clock', 'boot list', 'settings source', 'licences', 'log'].map((name) => [name, 'passed']),
    ]);
    // What was taken back can be tried again.
    await client.sayRun(planned.id, 'gannet-sw-1', 'retry');
    expect(runOf(await over(planned.id), 'gannet-sw-1').outcome).toBe('verified');
    expect(sw.running.version).toBe('4.3.0');
  });

  it('leads by the earlier image where there is one flash, on a word, after the rollout has ended and it failed once more', async () => {
    const router = device('dunmoor-rt-1');
    const settings = [...router.settings];
    router.faults.add('drops-settings-on-new');
    const planned = await plan(false, 'dunmoor-rt-1');
    await client.say(planned.id, 'start');
    const failed = await over(planned.id);
    router.faults.clear();
    expect(runOf(failed, 'dunmoor-rt-1')).toMatchObject({ outcome: 'failed', takeBack: 'taken back by the earlier image' });
    expect(router.running.version).toBe('R7.04');
    // Begun anew it is looked at, and fails as before; what it was before its change is known still.
    await client.sayRun(planned.id, 'dunmoor-rt-1', 'retry');
    expect(runOf(await over(planned.id), 'dunmoor-rt-1')).toMatchObject({
      outcome: 'failed',
      step: 'preflight',
      cause: { code: 'settings-changed' },
      takeBack: 'taken back by the earlier image',
    });
    const shown = await cli('rollout', 'show', planned.id);
    expect(shown.out.replace(/\s+/g, ' ')).toContain('it can be taken back by the earlier image, with `barrow rollout take-back`');
    const said = await cli('rollout', 'take-back', planned.id, 'dunmoor-rt-1');
    expect(said, said.err).toMatchObject({ code: 0 });
    const back = runOf(await over(planned.id), 'dunmoor-rt-1');
    expect(back, JSON.stringify(back)).toMatchObject({ outcome: 'recovered', tried: [] });
    expect(router.running.version).toBe('R7.02');
    expect(router.settings).toEqual(settings);
    expect(router.counters).toMatchObject({ activations: 2, reboots: 2, restartsInWrite: 0 });
    expect(await cli('rollout', 'take-back', planned.id, 'dunmoor-rt-1')).toMatchObject({
      code: 4,
      err: expect.stringContaining('dunmoor-rt-1 has ended recovered: there is nothing to take back'),
    });
  });

  it('restarts nothing that came back on its old version by itself', async () => {
    const sw = device('quay-sw-1');
    sw.faults.add('returns-on-old-version');
    const planned = await plan(true, 'quay-sw-1');
    await client.say(planned.id, 'start');
    const done = runOf(await over(planned.id), 'quay-sw-1');
    sw.faults.clear();
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'recovered', cause: { code: 'old-version' } });
    expect(sw.counters).toMatchObject({ activations: 1, reboots: 1 });
    expect(sw.running.version).toBe('4.2.1');
  });

  it('waits once more for a device that takes long, and verifies it when it is there', async () => {
    const sw = device('quay-sw-2');
    sw.faults.add('never-returns');
    const planned = await plan(true, 'quay-sw-2');
    const waitedFor = heard(planned, (e) => e.kind === 'step-failed' && e.cause === 'never-returned');
    await client.say(planned.id, 'start');
    await waitedFor;
    sw.powerOn();
    const done = runOf(await over(planned.id), 'quay-sw-2');
    const mended = [{ text: 'waited for once more', cause: { code: 'never-returned' }, unsure: null }];
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'verified', cause: null, tried: [], mended });
    const shown = await cli('rollout', 'show', planned.id, '--device', 'quay-sw-2');
    expect(shown.out).toContain('(never-returned)');
    expect(shown.out).toContain('Then it was waited for once more: it worked.');
    expect(sw.running.version).toBe('4.3.0');
  });

  it('one that is not there when it is begun anew has not come back since: it can be waited for, and is no one that was never begun', async () => {
    const router = device('dunmoor-rt-1');
    const { activations } = router.counters;
    router.faults.add('never-returns');
    const planned = await plan(false, 'dunmoor-rt-1');
    await client.say(planned.id, 'start', { accept: ['all'] });
    const takeBack = 'waited for once more';
    expect(runOf(await over(planned.id), 'dunmoor-rt-1')).toMatchObject({ outcome: 'failed', cause: { code: 'never-returned' }, takeBack });
    await client.sayRun(planned.id, 'dunmoor-rt-1', 'retry');
    expect(runOf(await over(planned.id), 'dunmoor-rt-1')).toMatchObject({ outcome: 'failed', cause: { code: 'unreachable' }, takeBack });
    router.faults.clear();
    router.powerOn();
    await client.sayRun(planned.id, 'dunmoor-rt-1', 'take-back');
    const done = runOf(await over(planned.id), 'dunmoor-rt-1');
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'verified', cause: null, takeBack: null });
    expect(router.counters).toMatchObject({ activations: activations + 1, restartsInWrite: 0 });
  });

  it('goes on after the service was killed in the middle of it, and restarts nothing twice', async () => {
    const sw = device('quay-sw-3');
    sw.faults.add('drops-settings-on-new');
    const planned = await plan(true, 'quay-sw-3');
    const falling = heard(planned, (e) => e.kind === 'step-begun' && e.leg === 1 && e.step === 'reboot');
    await client.say(planned.id, 'start');
    await falling;
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale });
    ({ client } = scene.served);
    const done = runOf(await over(planned.id), 'quay-sw-3');
    sw.faults.clear();
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'recovered' });
    expect(sw.counters).toMatchObject({ activations: 2, reboots: 2 });
    expect(sw.running.version).toBe('4.2.1');
  });

  it('says all that was tried when none of it led back', async () => {
    const router = device('quay-rt-1');
    router.faults.add('drops-settings-on-new');
    const planned = await plan(true, 'quay-rt-1');
    const broken = heard(planned, (e) => e.kind === 'step-failed' && e.cause === 'settings-changed');
    await client.say(planned.id, 'start');
    await broken;
    router.faults.add('never-asks');
    const done = runOf(await over(planned.id), 'quay-rt-1');
    expect(done, JSON.stringify(done)).toMatchObject({
      outcome: 'failed',
      cause: { code: 'settings-changed' },
      tried: [{ means: 'earlier-image', step: 'transfer', cause: { code: 'never-asked' } }],
    });
    expect(router.running.version).toBe('R7.04');
    const shown = await cli('rollout', 'show', planned.id);
    expect(shown.out.replace(/\s+/g, ' ')).toContain('Then taken back by the earlier image, and that failed too: ');
  });
});

/** What is left of a rollout, and the way back of what it brought, are plans of their own. */
describe('after a rollout', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const newest = async (): Promise<Rollout> => client.rollout((await client.rollouts())[0]!.id);
  let night: Rollout;
  /** How it could be taken back, as told before it began. */
  let ahead = '';
  beforeAll(async () => {
    scene = await setScene({ network: 130, scale: 100, only: ['quay-rt-1', 'gannet-sw-1', 'eelgate-sw-1'] });
    ({ client } = scene.served);
    await prepare(scene);
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    for (const batch of await batchesOf(
      library.add.filter((file) => /wr110-R7.02/.test(file)),
      false,
    ))
      await takeBatch(client, batch, {});
    scene.fleet.fault('gannet-sw-1', 'damaged-in-transit');
    const devices = ['quay-rt-1', 'gannet-sw-1', 'eelgate-sw-1'];
    night = await client.plan({ name: 'the night', devices, first: 0, failureLimit: 9 });
    ahead = (await cli('rollout', 'rehearse', night.id)).out;
    await client.say(night.id, 'start');
    night = await rolloutUntil(client, night.id, isAtRest);
    expect(night.runs.map((r) => [r.name, r.outcome]).sort()).toEqual([
      ['eelgate-sw-1', 'verified'],
      ['gannet-sw-1', 'failed'],
      ['quay-rt-1', 'verified'],
    ]);
    scene.fleet.fault('gannet-sw-1', 'damaged-in-transit', false);
  });
  afterAll(() => scene?.end());

  it('is known before it begins how it could be taken back: who, how long, and who cannot', () => {
    expect(ahead).toMatch(/^After the rollout, `barrow rollout plan-back` can roll back 1 of 3 devices, in about .+\.$/m);
    expect(ahead).toMatch(/^Not eelgate-sw-1, gannet-sw-1: (?!.*R7).+\.$/m);
  });

  it('has a report that shows whether it was changed since, without the service', async () => {
    const file = join(scene.data, '..', 'night.json');
    expect((await cli('report', night.id, '--format', 'json', '--output', file)).code).toBe(0);
    const key = (await cli('report', 'key')).out.trim();
    /** Nothing of the service is named: it is a file and a key. */
    const verify = (...more: string[]): Promise<Ran> => barrow(['report', 'verify', file, ...more]);
    const sound = await verify('--key', key);
    expect(sound).toMatchObject({ code: 0, err: '' });
    expect(sound.out).toMatch(
      /^✓ .*: all \d+ lines are as they were signed\.\n {2}Signed over the journal up to entry \d+ \([0-9a-f]{16}…\)/,
    );
    expect((await verify()).out).toContain(`By the key ${key}`);
    const text = await readFile(file, 'utf8');
    // Written by another hand, it says the same.
    await writeFile(file, JSON.stringify(JSON.parse(text)));
    expect((await verify()).code).toBe(0);
    type Changed = Report & { runs: { outcome: string }[] };
    const changed = async (change: (report: Changed) => unknown): Promise<string> => {
      const report = JSON.parse(text) as Changed;
      change(report);
      await writeFile(file, JSON.stringify(report));
      const ran = await verify('--key', key);
      expect(ran.code, ran.out).toBe(1);
      return ran.out;
    };
    const failed = (JSON.parse(text) as Report).runs.findIndex((r) => r.outcome === 'failed');
    expect(await changed((r) => (r.runs[failed]!.outcome = 'verified'))).toBe('✕ gannet-sw-1: is not as it was signed\n');
    expect(await changed((r) => r.deeds.pop())).toMatch(/^✕ deeds(, line \d+)?: is missing\n$/);
    expect(await changed((r) => r.runs.splice(failed, 1))).toContain('✕ gannet-sw-1: is missing\n');
    expect(await changed((r) => r.deeds.push({ at: r.madeAt, by: 'eve', what: 'approved' }))).toMatch(/deeds, line \d+: was added\n$/);
    // Whoever makes the digests fit has no key to sign them.
    expect(await changed((r) => r.proof!.lines.pop())).toContain('The signature is not one over these digests');
    const { publicKey } = generateKeyPairSync('ed25519');
    const other = publicKey.export({ format: 'der', type: 'spki' }).toString('base64');
    expect(await changed((r) => (r.proof!.publicKey = other))).toContain('It is signed by another key');
    await writeFile(file, '{"runs": []}');
    expect(await verify()).toMatchObject({ code: 2, err: expect.stringContaining('has no signature') as string });

    // Forgeries that leave every signed line in place.
    const run = (JSON.parse(text) as Report).runs[failed]!;
    const good = JSON.stringify({ ...run, outcome: 'verified' });
    const rewrite = (change: (r: Record<string, unknown>) => unknown): string => {
      const given = JSON.parse(text) as Record<string, unknown>;
      change(given);
      return `${JSON.stringify(given, null, 2)}\n`;
    };
    const runsOf = (r: Record<string, unknown>): Report['runs'] => r['runs'] as Report['runs'];
    const forgeries: Readonly<Record<string, string>> = {
      'a run that moved to the head': rewrite((r) => {
        r[`runs/${run.name}`] = run;
        runsOf(r).splice(failed, 1);
      }),
      'a second list of runs before the true one': text.replace('{\n', `{\n  "runs": [${good}],\n`),
      'a second list of runs after the true one': text.replace(/\n\}\n$/, `,\n  "runs": [${good}]\n}\n`),
      'a prototype in the head': text.replace('{\n', `{\n  "__proto__": {"runs": [${good}]},\n`),
      'a prototype in a run': text.replace('"outcome": "failed"', '"outcome": "failed",\n      "__proto__": {"outcome": "verified"}'),
      'a second outcome in a run': text.replace('"outcome": "failed"', '"outcome": "verified",\n      "outcome": "failed"'),
      'a member more in the proof': rewrite((r) => ((r['proof'] as Record<string, unknown>)['runs'] = [run])),
      'a rollout in a list': rewrite((r) => (r['rollout'] = [r['rollout']])),
      'a member more in a run': rewrite((r) => ((runsOf(r)[failed] as unknown as Record<string, unknown>)['verdict'] = 'verified')),
      'a member more in the rollout': rewrite((r) => ((r['rollout'] as Record<string, unknown>)['result'] = 'verified')),
      'runs in another order': rewrite((r) => runsOf(r).reverse()),
      'steps in another order': rewrite((r) => runsOf(r)[0]!.steps.reverse()),
      'members in another order': rewrite((r) => (r['runs'] = runsOf(r).map(({ device, ...rest }) => ({ ...rest, device })))),
      'runs as an object': rewrite((r) => (r['runs'] = Object.fromEntries(runsOf(r).map((one) => [one.name, one])))),
      'a name written as an escape': text.replace(`"name": "${run.name}"`, `"name": "\\u0067${run.name.slice(1)}"`),
      'a number in another form': text.replace(/"attempts": 1\b/, '"attempts": 1.0'),
      'no run at all': rewrite((r) => (r['runs'] = [])),
      'another count': rewrite((r) => ((r['proof'] as { count: number }).count -= 1)),
    };
    for (const [what, forged] of Object.entries(forgeries)) {
      expect(forged, what).not.toBe(text);
      await writeFile(file, forged);
      const ran = await verify('--key', key);
      expect([1, 2], `${what}: ${ran.out}${ran.err}`).toContain(ran.code);
      expect(ran.out, what).not.toContain('✓');
    }
  });

  it('what is left of it is planned anew, and nothing else', async () => {
    expect(await cli('rollout', 'plan-rest', night.id, '--first', '0')).toMatchObject({ code: 0 });
    const rest = await newest();
    expect([rest.name, rest.runs.map((r) => r.name)]).toEqual(['rest of the night', ['gannet-sw-1']]);
    expect(await cli('rollout', 'plan-rest', rest.id)).toMatchObject({ code: 4, err: expect.stringContaining('has not ended') as string });
    await client.say(rest.id, 'start');
    await rolloutUntil(client, rest.id, isAtRest);
    expect(scene.fleet.device('gannet-sw-1').running.version).toBe('4.3.0');
    expect((await cli('rollout', 'plan-rest', rest.id)).err).toContain('Every device of "rest of the night" was verified.');
  });

  it('its verified devices go back to what they ran, as far as an image leads there, whatever their target is', async () => {
    const told = await cli('rollout', 'plan-back', night.id, '--first', '0', '--unsaved', 'save');
    expect(told, told.err).toMatchObject({ code: 0 });
    const back = await newest();
    expect([back.name, back.runs.map((r) => [r.name, r.from, r.target])]).toEqual([
      'back from the night',
      [['quay-rt-1', 'R7.04', 'R7.02']],
    ]);
    expect(back.leftOut.map((l) => l.name)).toEqual(['eelgate-sw-1']);
    expect(told.out.replace(/\s+/g, ' ')).toContain(
      'goes back to R7.02: its settings stay as they are, and the backup from before the night is kept',
    );
    // Rehearsed like any other.
    expect((await client.rehearsal(back.id)).runs[0]!.dark).toHaveLength(1);
    await client.say(back.id, 'start');
    expect((await rolloutUntil(client, back.id, isAtRest)).runs[0]).toMatchObject({ outcome: 'verified' });
    expect(scene.fleet.device('quay-rt-1').running.version).toBe('R7.02');
    expect((await client.device('quay-rt-1')).standing).toBe('behind');
  });

  it('who has gone back, was never brought anywhere, or is pinned stays, and it says why', async () => {
    const why = async (...args: string[]): Promise<string> => {
      const told = await cli('rollout', 'plan-back', ...args);
      expect(told.code, told.out).toBe(4);
      return told.err.replace(/\s+/g, ' ');
    };
    expect(await why(night.id, 'quay-rt-1')).toContain('it runs R7.02 now, and R7.04 was brought');
    expect(await why(night.id, 'gannet-sw-1')).toContain('it was not verified in that rollout');
    const askAgain = new Date(Date.now() + 9 * 86_400_000).toISOString().slice(0, 10);
    await client.setPin({ device: 'eelgate-sw-1', reason: 'the harbour office watches', askAgain });
    expect(await why(night.id, 'eelgate-sw-1')).toContain('the harbour office watches');
    const { id } = await client.plan({ devices: ['quay-rt-1'], first: 0 });
    expect(await why(id)).toContain('No device was verified');
  });
});

/** A switch of two slots is looked at again when it has soaked, and its other slot then holds the same. */
describe('after the soak', () => {
  let scene: Scene;
  let client: BarrowClient;
  beforeAll(async () => {
    scene = await setScene({ network: 120, scale: 100, only: ['gannet-sw-1', 'gannet-sw-2', 'quay-sw-1', 'quay-sw-2', 'dunmoor-rt-1'] });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());
  const roll = async (name: string, meanwhile: () => void = () => undefined): Promise<RunView> => {
    const planned = await client.plan({ devices: [name], first: 0, soakSeconds: 1, level: true });
    await client.say(planned.id, 'start');
    for await (const event of client.events({ after: planned.journal }))
      if (event.kind === 'journal' && event.entry.rollout === planned.id && event.entry.event.kind === 'wave-ended') break;
    meanwhile();
    return (await rolloutUntil(client, planned.id, isAtRest)).runs[0]!;
  };

  it('both slots hold the image, as the switch itself tells by its digest', async () => {
    const sw = scene.fleet.device('gannet-sw-1');
    const run = await roll('gannet-sw-1');
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'verified', cause: null, stepCount: 11 });
    const { sha256 } = (await client.images()).find((i) => i.file === 'tb24-4.3.0.simg')!;
    expect(sw.persistent.store.map((s) => [s.version, s.sha256, s.fault])).toEqual([
      ['4.3.0', sha256, null],
      ['4.3.0', sha256, null],
    ]);
    expect(sw.counters).toMatchObject({ writesDone: 1, doublesBegun: 1, reboots: 1, activations: 1, restartsInWrite: 0 });
  });

  it('one that failed its checks, and was mended, is compared again, soaks, and has both slots alike as well', async () => {
    const sw = scene.fleet.device('gannet-sw-2');
    await scene.fleet.fault('gannet-sw-2', 'complains-on-new');
    const { id } = await client.plan({ devices: ['gannet-sw-2'], first: 0, soakSeconds: 1, level: true });
    await client.say(id, 'start');
    const failed = (await rolloutUntil(client, id, isAtRest)).runs[0]!;
    expect(failed).toMatchObject({ outcome: 'failed', step: 'checks', cause: { code: 'log-complains' } });
    await scene.fleet.fault('gannet-sw-2', 'complains-on-new', false);
    await client.sayRun(id, 'gannet-sw-2', 'retry');
    const run = (await rolloutUntil(client, id, isAtRest)).runs[0]!;
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'verified', cause: null });
    expect(sw.persistent.store.map((s) => s.version)).toEqual(['4.3.0', '4.3.0']);
    expect(sw.counters).toMatchObject({ writesDone: 1, doublesBegun: 1, reboots: 1, activations: 1 });
    const report = await client.report(id);
    expect(report.runs[0]!.checks.find((c) => c.name === 'log')).toMatchObject({ result: 'passed' });
    expect(report.runs[0]!.steps.slice(-3).map((s) => [s.step, s.result])).toEqual([
      ['preflight', 'an earlier attempt brought 4.3.0; all that is compared was compared again'],
      ['settle', 'done'],
      ['level', 'done'],
    ]);
  });

  it('a switch that restarted by itself meanwhile has not settled, and keeps its way back', async () => {
    const sw = scene.fleet.device('quay-sw-1');
    const run = await roll('quay-sw-1', () => sw.losePower());
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'failed', step: 'settle', takeBack: null });
    expect(['restarted-in-soak', 'unreachable']).toContain(run.cause!.code);
    expect(sw.counters.doublesBegun).toBe(0);
    expect(sw.persistent.store.map((s) => s.version).sort()).toEqual(['4.2.1', '4.3.0']);
  });

  it('a slot that holds something else afterwards is not called level', async () => {
    scene.fleet.device('quay-sw-2').faults.add('doubles-badly');
    const run = await roll('quay-sw-2');
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'failed', step: 'level', cause: { code: 'image-damaged' } });
    expect((await client.devices()).find((d) => d.name === 'quay-sw-2')).toMatchObject({ firmware: '4.3.0', armed: null });
  });

  it('is told of a family that has no other copy', async () => {
    const planned = await client.plan({ devices: ['dunmoor-rt-1'], first: 0, level: true });
    expect(planned.runs[0]!.notices).toContain('it is not looked at again after the soak: its family says no way to');
    expect(planned.runs[0]!.stepCount).toBe(9);
  });
});
