import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { LiveEvent, Rollout, RunDetail, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { writeScenarioLibrary } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { barrow, serve, type Ran } from './support/service.js';
import { addImagesAndTargets, discover, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

/** Who does not come back is started anew by cutting its power where it is fed; each device is asked what truly happened. */
describe('a device that hangs at its restart', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const plan = (...devices: string[]): Promise<Rollout> =>
    client.plan({ devices, first: 0, atOnce: 4, failureLimit: 9, wayBack: true, unsaved: 'save' });
  const begun = async (...devices: string[]): Promise<Rollout> => {
    const planned = await plan(...devices);
    expect(planned.leftOut).toEqual([]);
    await client.say(planned.id, 'start', { accept: ['all'] });
    return planned;
  };
  const over = (id: string): Promise<Rollout> => rolloutUntil(client, id, isAtRest);
  const runOf = ({ runs }: Rollout, name: string): RunView => runs.find((r) => r.name === name)!;
  const detailOf = (rollout: Rollout, name: string): Promise<RunDetail> => client.run(rollout.id, runOf(rollout, name).id);
  type Event = Extract<LiveEvent, { kind: 'journal' }>['entry']['event'];
  const heard = async (rollout: Rollout, so: (event: Event) => boolean): Promise<void> => {
    for await (const event of client.events({ after: rollout.journal }))
      if (event.kind === 'journal' && event.entry.rollout === rollout.id && so(event.entry.event)) return;
  };
  const noticedIn = ({ runs }: Rollout, name: string): string =>
    runs.find((r) => r.name === name)!.notices.find((n) => n.includes('its power'))!;
  const begins = (step: string) => (event: Event) => event.kind === 'step-begun' && event.step === step;
  const counters = (name: string) => scene.fleet.machine(name).counters;
  const families: [string, [string, string][]][] = [
    // Longer than it is waited for, so that the limit is what it has to wait for.
    ['owlpane-camera', [['writeLimit: 6 min\n    recovery: [wait, power-cycle]', 'writeLimit: 35 min\n    recovery: [power-cycle]']]],
    ['wendlock-branch', [['recovery: [wait, power-cycle, earlier-image]', 'recovery: [power-cycle]']]],
    ['tollard-desk', [['recovery: [wait, power-cycle]', 'recovery: [power-cycle]']]],
  ];

  const ofQuay = ['rt-1', 'core-1', 'core-2', 'sw-1', 'sw-2', 'sw-3', 'pdu-1', 'cam-1', 'cam-2', 'phone-1', 'phone-2', 'ap-1', 'wlc-1'];
  const only = [...ofQuay.map((n) => `quay-${n}`), ...['rt-1', 'sw-1', 'pdu-1', 'phone-1'].map((n) => `dunmoor-${n}`)];
  beforeAll(async () => {
    scene = await setScene({ network: 132, scale: 100, only, families: Object.fromEntries(families) });
    ({ client } = scene.served);
    await addWholeNetworks(client, 132, ['quay-house', 'dunmoor-depot']);
    await discover(client);
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    for (const batch of await batchesOf(library.add, false)) await takeBatch(client, batch, {});
    await client.setTarget({ family: 'owlpane-camera', model: 'OC-400', version: '2.12.0' });
    await addImagesAndTargets(client, scene.images);
    await client.setTarget({ family: 'tarnbrook-core', model: 'TB-4812', version: '6.2.0' });
    await client.setTarget({ family: 'tollard-desk', version: '3.0.2' });
  });
  afterAll(() => scene?.end());

  it('is in the plan with where its power can be cut, or why it cannot', async () => {
    const planned = await plan('quay-cam-1', 'quay-rt-1', 'dunmoor-sw-1', 'quay-sw-1');
    const noticed = (name: string): string => noticedIn(planned, name);
    // What only a table of addresses suggests is said, and not relied upon.
    const maybe = /: that (port \d+) of (quay-sw-\d) feeds it is only suggested/.exec(noticed('quay-cam-1'))!;
    await client.setDevice('quay-cam-1', { feed: `${maybe[2]!}:${maybe[1]!}` });
    expect(noticedIn(await plan('quay-cam-1'), 'quay-cam-1')).toMatch(
      /^its power is cut at port \d+ of quay-sw-\d if it does not come back$/,
    );
    expect(noticed('quay-rt-1')).toBe('its power is cut at outlet 1 of quay-pdu-1 if it does not come back');
    const not = 'its power is not cut if it does not come back: ';
    expect(noticed('dunmoor-sw-1')).toBe(`${not}dunmoor-pdu-1, which feeds it, is reached through it`);
    expect(noticed('quay-sw-1')).toBe(`${not}nobody knows what feeds it`);
    expect(planned.passages.flatMap((p) => p.rungs).map((r) => r.text)).toContain('started anew by cutting its power');
    // What would take another's power with it is not switched by itself.
    await client.setDevice('quay-cam-2', { feed: 'quay-pdu-1:outlet 1' });
    expect((await plan('quay-rt-1')).runs[0]!.notices).toContain(
      'its power is cut if it does not come back only on your word: quay-cam-2 would lose power with it, on outlet 1 of quay-pdu-1',
    );
    expect((await cli('rollout', 'plan', 'quay-rt-1', '--way-back')).out).toContain(
      'started anew by cutting its power on your word, since others share it',
    );
    await client.setDevice('quay-cam-2', { feed: null });
  });

  it('comes back when its port gives it no power for a moment, after it can write no more, and is verified; others keep theirs', async () => {
    scene.fleet.machine('quay-cam-1').faults.add('hangs-at-restart');
    const planned = await begun('quay-cam-1');
    const done = await over(planned.id);
    expect(runOf(done, 'quay-cam-1'), JSON.stringify(runOf(done, 'quay-cam-1'))).toMatchObject({ outcome: 'verified', cause: null });
    expect(counters('quay-cam-1')).toMatchObject({ powerCuts: 1, writesDone: 1, restartsInWrite: 0 });
    for (const name of ['quay-cam-2', 'quay-phone-1', 'quay-phone-2', 'quay-ap-1']) expect(counters(name).powerCuts, name).toBe(0);
    const { events, conversations } = await detailOf(done, 'quay-cam-1');
    // What was said to the switch that feeds it is kept as well.
    expect(conversations.find((c) => c.step === 'cut-power')!.text).toMatch(/^SET\n1\.3\.6\.1\.2\.1\.105\.1\.1\.1\.3\.1\.\d+ = 2$/m);
    const cut = events.flatMap(({ event: e }) => (e.kind === 'step-done' && e.step === 'cut-power' ? [e.facts!] : []))[0]!;
    expect(cut['from']).toMatch(/^port \d+ of quay-sw-\d$/);
    // 35 min of the camera's time.
    expect(cut['afterMs']).toBeGreaterThanOrEqual(21_000);
    expect((await cli('rollout', 'show', done.id)).out).toContain('quay-cam-1');
    // That it needed this is in the report, though it is verified.
    const report = await client.report(done.id);
    expect(report.runs.find((r) => r.name === 'quay-cam-1')!.rungs).toMatchObject([
      { text: 'started anew by cutting its power', for: { cause: { code: 'never-returned' } }, by: null, failed: null },
    ]);
    const page = (await cli('report', done.id, '--format', 'html')).out.replace(/\s+/g, ' ');
    expect(page.slice(page.indexOf('What failed, and what was tried'))).toMatch(/quay-cam-1<.*cutting its power<.*it worked/);
    expect((await cli('report', done.id, '--format', 'csv')).out).toContain('started anew by cutting its power: worked');
  });

  it('comes back by its outlet, also when the service is killed while that is off', async () => {
    scene.fleet.machine('quay-rt-1').faults.add('hangs-at-restart');
    const planned = await begun('quay-rt-1');
    await heard(planned, begins('give-power'));
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale, args: ['--families', join(scene.data, '..', 'families')] });
    ({ client } = scene.served);
    const done = runOf(await over(planned.id), 'quay-rt-1');
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'verified' });
    expect(counters('quay-rt-1')).toMatchObject({ powerCuts: 1, writesDone: 1, activations: 1, reboots: 1, restartsInWrite: 0 });
    expect(counters('quay-core-1').powerCuts).toBe(0);
  });

  it('whose power another shares is dark until a person says that the other may lose it too', async () => {
    await client.setDevice('quay-phone-2', { feed: 'quay-sw-1:port 9' });
    const cam = scene.fleet.machine('quay-cam-2');
    const feed = /that port (\d+) of (\S+) feeds/.exec(noticedIn(await plan('quay-cam-2'), 'quay-cam-2'))!;
    const at = `${feed[2]!}:port ${feed[1]!}`;
    await client.setDevice('quay-cam-2', { feed: at });
    await client.setDevice('quay-phone-2', { feed: at });
    cam.faults.add('hangs-at-restart');
    const planned = await begun('quay-cam-2');
    const failed = runOf(await over(planned.id), 'quay-cam-2');
    expect(failed).toMatchObject({ outcome: 'failed', cause: { code: 'never-returned' }, takeBack: null, cutsOff: ['quay-phone-2'] });
    expect(cam.counters.powerCuts).toBe(0);
    const look = await cli('rollout', 'take-back', planned.id, 'quay-cam-2', '--look');
    expect(look.out).toContain('quay-phone-2 loses power with it');
    const refused = await cli('rollout', 'take-back', planned.id, 'quay-cam-2');
    expect(refused.code, refused.out).not.toBe(0);
    expect(refused.err).toContain('quay-phone-2 would lose theirs with it: that has to be accepted');
    expect(cam.counters.powerCuts).toBe(0);
    const said = await cli('rollout', 'take-back', planned.id, 'quay-cam-2', '--accept', 'cut-off');
    expect(said.code, said.err).toBe(0);
    const done = runOf(await over(planned.id), 'quay-cam-2');
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'verified' });
    expect(cam.counters).toMatchObject({ powerCuts: 1, restartsInWrite: 0 });
    expect((await cli('report', planned.id, '--format', 'json')).out).toContain('and accepted that others lose their power with it');
    await client.setDevice('quay-phone-2', { feed: null });
  });

  it('is failed when its outlet cannot be switched; when that stays off, whoever reads it is told so first', async () => {
    const failing = async (fault: string, name: string, tried: string, first: string, cuts: number): Promise<void> => {
      const planned = await plan(name);
      const feeder = /of (\S+) if/.exec(noticedIn(planned, name))![1]!;
      scene.fleet.machine(name).faults.add('hangs-at-restart');
      await scene.fleet.fault(feeder, fault);
      await client.say(planned.id, 'start', { accept: ['all'] });
      const done = runOf(await over(planned.id), name);
      await scene.fleet.fault(feeder, fault, false);
      expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'failed', cause: { code: first } });
      expect(done.tried.map((t) => [t.means, t.cause.code])).toEqual([['power-cycle', tried]]);
      expect(counters(name).powerCuts).toBe(cuts);
    };
    await Promise.all([
      failing('keeps-power-on', 'quay-phone-1', 'power-not-switched', 'never-returned', 0),
      failing('keeps-power-off', 'dunmoor-phone-1', 'power-left-off', 'power-left-off', 1),
    ]);
  });

  it('has power again when it was cut, and what feeds it does not say so: it comes back, and is verified', async () => {
    const planned = await plan('quay-phone-2');
    const feeder = /of (\S+) if/.exec(noticedIn(planned, 'quay-phone-2'))![1]!;
    scene.fleet.machine('quay-phone-2').faults.add('hangs-at-restart');
    await scene.fleet.fault(feeder, 'hides-power');
    const before = counters('quay-phone-2').powerCuts;
    await client.say(planned.id, 'start', { accept: ['all'] });
    const done = await over(planned.id);
    await scene.fleet.fault(feeder, 'hides-power', false);
    const run = runOf(done, 'quay-phone-2');
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'verified', tried: [] });
    expect(counters('quay-phone-2')).toMatchObject({ powerCuts: before + 1, restartsInWrite: 0 });
    const { events } = await detailOf(done, 'quay-phone-2');
    const cut = events.flatMap(({ event: e }) => (e.kind === 'step-done' && e.step === 'cut-power' ? [e.facts!] : []))[0]!;
    // Nobody knows when it was cut, or whether: that is kept, and no moment is made up.
    expect(cut).toMatchObject({ unsure: expect.any(String) as string });
    expect(cut).not.toHaveProperty('cutAt');
    expect((await cli('report', done.id)).out).toContain('cutting its power: it came back, and whether that was done nobody knows: ');
  });

  it('keeps its power when it answers and lets nobody in', async () => {
    const core = scene.fleet.fixture('quay-core-1');
    const planned = await begun('quay-core-1');
    await heard(planned, begins('return'));
    core.faults.add('slow-login');
    const done = runOf(await over(planned.id), 'quay-core-1');
    core.faults.clear();
    expect(done, JSON.stringify(done)).toMatchObject({ outcome: 'failed', cause: { code: 'locked-out' } });
    expect(core.counters.powerCuts).toBe(0);
  });
});
