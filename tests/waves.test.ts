import { readFileSync } from 'node:fs';
import { writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BarrowClient } from '@barrow/client';
import type { Rollout } from '@barrow/core';
import { barrow, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

const devices = ['gannet-sw-1', 'gannet-sw-2', 'quay-sw-1', 'quay-sw-2', 'eelgate-sw-1'];

describe('waves that a person chooses', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const plan = (...more: string[]): Promise<Ran> => cli('rollout', 'plan', ...more);
  const waves = async () => {
    const newest = await client.rollout((await client.rollouts())[0]!.id);
    return newest.waves.map((w) => [w.name, ...newest.runs.filter((r) => r.wave === w.index).map((r) => r.name)]);
  };
  beforeAll(async () => {
    scene = await setScene({ network: 129, scale: 100, only: devices });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('are planned by name, then by site, with a gate of their own', async () => {
    const told = await plan(
      '--wave',
      'pilot: quay-sw-2, gannet-sw-1',
      '--rest',
      'site',
      '--gate',
      'pilot: soak 2h, share 50%, absent 0, approval',
    );
    expect(told, told.err).toMatchObject({ code: 0 });
    expect(await waves()).toEqual([
      ['pilot', 'gannet-sw-1', 'quay-sw-2'],
      ['eelgate', 'eelgate-sw-1'],
      ['gannet-point', 'gannet-sw-2'],
      ['quay-house', 'quay-sw-1'],
    ]);
    expect(told.out).toContain("gate: soak 2 h, held at 1 failed or 50 %, at most 0 absent, a person's word");
    expect(told.out).toContain('Wave 2 (eelgate), 1 device, waiting; gate: soak 10 min, held at 1 failed');
  });

  it('are planned by shares, and shown as a chart before anything begins', async () => {
    expect(await plan('--first', '0', '--rest', '40%,40%', '--soak', '30s')).toMatchObject({ code: 0 });
    expect((await waves()).map(([name, ...of]) => [name, of.length])).toEqual([
      ['to 40 %', 2],
      ['to 80 %', 2],
      ['rest', 1],
    ]);
    const { out } = await cli('rollout', 'rehearse', 'latest', '--chart');
    for (const name of devices) expect(out).toMatch(new RegExp(`^${name} +[┊ ]*[▒░·]+[▓█]+`, 'm'));
    const [{ id } = { id: '' }] = await client.rollouts();
    const { runs } = await client.rehearsal(id);
    expect(runs.every((r) => r.parts.length === 3 && r.dark.length === 1 && r.cut.length === 0)).toBe(true);
  });

  it('are told apart from those of another plan, line by line', async () => {
    await plan('--first', '0', '--soak', '30s');
    const [one, other] = await client.rollouts();
    const told = await cli('rollout', 'compare', one!.id, other!.id);
    expect(told, told.err).toMatchObject({ code: 0 });
    expect(told.out).toMatch(/^≠ waves +all +to 40 %, to 80 %, rest *$/m);
    expect(told.out).toMatch(/^≠ of that soaking +0 s +1 min *$/m);
    expect(told.out).toMatch(/^ {2}devices +5 +5 *$/m);
    await plan('quay-sw-1', '--first', '0');
    const less = await cli('rollout', 'compare', (await client.rollouts())[0]!.id, one!.id, '--json');
    expect(less.json<{ onlyIn: string[][] }>().onlyIn).toEqual(
      [[], devices.filter((d) => d !== 'quay-sw-1').sort()].map((l) => expect.arrayContaining(l) as string[]),
    );
    expect((await cli('rollout', 'compare', one!.id, 'r-none')).code).toBe(2);
  });

  it('are kept as a file, planned anew from it, and what is otherwise by then is told', async () => {
    await plan('--wave', 'pilot: quay-sw-2, gannet-sw-1', '--rest', 'site', '--gate', 'pilot: soak 2h, limit 2', '--at-once', '3', '--between', '22:00-04:00'); // prettier-ignore
    const [{ id } = { id: '' }] = await client.rollouts();
    const kept = join(scene.data, '..', 'night.json');
    expect(await cli('rollout', 'write', id, '--output', kept)).toMatchObject({ code: 0, err: `Written to ${kept}.\n` });
    const again = await cli('rollout', 'plan-from', kept);
    expect(again, again.err).toMatchObject({ code: 0 });
    const [one, other] = await Promise.all((await client.rollouts()).slice(0, 2).map((r) => client.rollout(r.id)));
    expect(one!.remarks).toEqual(other!.remarks);
    // All but when it was made, and what the clock says of its window.
    const shape = (r: Rollout) => [
      r.waves.map((w) => [w.name, w.gate]),
      r.runs.map((x) => [x.name, x.wave, x.from, x.target, x.legs.map((leg) => leg.image)]),
      [r.name, r.limits, r.apartMs, r.unsaved, r.wayBack, r.windows.map((w) => [w.text, w.devices])],
    ];
    expect(shape(one!)).toEqual(shape(other!));
    // What is written is the same again, but for when it was made.
    const { madeAt, ...file } = await client.planFile(one!.id);
    expect(file).toEqual({ ...(JSON.parse(readFileSync(kept, 'utf8')) as object), madeAt: undefined });
    expect(madeAt).not.toBe(other!.createdAt);
    // By then one is gone, one goes elsewhere, one is called otherwise, and one cannot go.
    const changed: typeof file = JSON.parse(JSON.stringify(file)) as typeof file;
    const all = changed.waves.flatMap((w) => w.devices);
    const of = (name: string) => all.find((d) => d.device === name)!;
    of('eelgate-sw-1').serial = 'gone';
    of('quay-sw-2').target = '4.2.9';
    Object.assign(of('quay-sw-1'), { device: 'the-old-name', from: '4.1.0' });
    of('gannet-sw-2').device = 'another-old-name';
    await client.setPin({ device: 'gannet-sw-2', reason: 'printers', askAgain: '2031-01-31' });
    await writeFile(kept, JSON.stringify({ ...changed, madeAt }));
    const differs = (await cli('rollout', 'plan-from', kept, '--json')).json<Rollout>();
    expect(differs.remarks).toEqual(
      expect.arrayContaining([
        'eelgate-sw-1 of the file is not in this plan: no device with the serial gone is known.',
        expect.stringMatching(/^another-old-name of the file is not in this plan: pinned at 4\.2\.1 until 2031-01-31: printers/),
        'quay-sw-2 goes to 4.3.0, in the file to 4.2.9.',
        'quay-sw-1 (the-old-name in the file) runs 4.2.1, in the file 4.1.0.',
      ]),
    );
    await client.removePin('gannet-sw-2');
    // What is none is refused in words.
    for (const [text, why] of [
      ['{', 'is no JSON'],
      ['{}', 'name is missing'],
      [JSON.stringify({ ...changed, madeAt, atOnes: 4 }), '"atOnes" is not known here: is atOnce meant?'],
      [
        JSON.stringify({ ...changed, madeAt, waves: [{ ...changed.waves[0], devices: [of('eelgate-sw-1')] }] }),
        'No device of the file is known here',
      ],
    ] as const) {
      await writeFile(kept, text);
      const refused = await cli('rollout', 'plan-from', kept);
      expect(refused.code).toBeGreaterThan(1);
      expect(refused.err).toContain(why);
    }
  });

  it('say whom they name in vain', async () => {
    await client.setDevice('gannet-sw-2', { note: 'left alone' });
    const told = await plan('gannet-sw-1', '--wave', 'pilot: gannet-sw-1, gannet-sw-2', '--first', '0');
    expect(told.out).toContain('gannet-sw-2 is named for the wave pilot, and not in this plan.');
  });

  it.each([
    ['a wave without a name', ['--wave', 'quay-sw-1'], 2, 'says no wave'],
    ['a wave without devices', ['--wave', 'pilot:'], 2, 'says no wave'],
    ['a device in two', ['--wave', 'a: quay-sw-1', '--wave', 'b: quay-sw-1'], 4, 'quay-sw-1 is named for the wave a, and for b'],
    ['two of a name', ['--wave', 'a: quay-sw-1', '--wave', 'a: quay-sw-2'], 4, 'The wave "a" is named twice'],
    ['a device that there is not', ['--wave', 'a: quay-sw-99'], 2, '"quay-sw-99" is not known'],
    ['a gate of no wave', ['--gate', 'pilot: soak 2h'], 4, 'There is no wave "pilot" in this plan'],
    ['a gate of nothing', ['--gate', 'first: patience 2h'], 2, 'A gate has no "patience"'],
    ['an approval that nothing waits for', ['--gate', 'rest: approval'], 4, 'Nothing waits for an approval after the last wave, rest'],
    ['a division that there is not', ['--rest', 'colour'], 2, 'cannot be divided by "colour"'],
    ['a share that is none', ['--failure-share', 'some'], 2, '"some" is no share'],
    ['a share beyond all', ['--failure-share', '200%'], 2, 'at most 100'],
  ])('refuse %s', async (_, args, code, says) => {
    const told = await plan(...args);
    expect(told.err).toContain(says);
    expect(told.code).toBe(code);
  });

  it('are gone through one after the other, the approval of one where it was said', async () => {
    await plan('gannet-sw-1', 'quay-sw-1', '--wave', 'pilot: gannet-sw-1', '--first', '0', '--soak', '0', '--gate', 'pilot: approval');
    const [{ id } = { id: '' }] = await client.rollouts();
    await expect(client.foretold(id)).rejects.toMatchObject({ problem: { status: 409, code: 'rollout-not-so' } });
    await client.say(id, 'start');
    const waiting = await rolloutUntil(client, id, (r) => r.waves[0]!.phase === 'soaking');
    expect(waiting.runs.map((r) => [r.name, r.outcome])).toEqual([
      ['gannet-sw-1', 'verified'],
      ['quay-sw-1', null],
    ]);
    expect(waiting.runs[1]!.waits?.text).toBe('waits for an approval of wave 1 (pilot)');
    expect(scene.fleet.device('quay-sw-1').counters.pulls).toBe(0);
    const told = await client.foretold(id);
    expect(told).toMatchObject({ approvals: ['pilot'], stuck: null, held: false });
    expect(Date.parse(told.endsAt)).toBeGreaterThan(Date.now());
    expect((await cli('rollout', 'show', id)).out).toMatch(/It ends about .*, if the wave pilot is approved at once: /);
    await client.say(id, 'approve', { wave: 0 });
    const { endedAt } = await rolloutUntil(client, id, (r) => r.phase === 'ended');
    expect(scene.fleet.device('quay-sw-1').counters.reboots).toBe(1);
    // Then the end is known.
    expect(await client.foretold(id)).toMatchObject({ endsAt: endedAt, stuck: null });
  });
});
