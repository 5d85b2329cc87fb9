import { readdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Report, Rollout, RunDetail, RunView } from '@barrow/core';
import type { BarrowClient } from '@barrow/client';
import { writeScenarioLibrary, type Fixture } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { barrow, serve, type Ran } from './support/service.js';
import { delivered, discover, rolloutUntil, isEnded, isHeld, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';
import { bareClient, rrq } from '../packages/wire/tests/bare-client.js';

/** Each family's own way to a new version, from the plan to the verified device; the device is asked what truly happened. */
describe('a rollout by the way of its family', () => {
  let scene: Scene;
  let client: BarrowClient;
  const undo: (() => unknown)[] = [];
  const fixture = (name: string): Fixture => scene.fleet.fixture(name);
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const plan = async (...devices: string[]): Promise<Rollout> => client.plan({ devices, first: 0, atOnce: 4 });
  const roll = async (...devices: string[]): Promise<Rollout> => {
    const planned = await plan(...devices);
    expect(planned.leftOut).toEqual([]);
    await client.say(planned.id, 'start', { accept: ['all'] });
    return rolloutUntil(client, planned.id, isOver);
  };
  const outcome = ({ runs }: Rollout, name: string): Pick<RunView, 'outcome' | 'detail'> & { cause: string | null } => {
    const { outcome, detail, cause } = runs.find((r) => r.name === name)!;
    return { outcome, detail, cause: cause?.code ?? null };
  };
  /** Ended, or held with nothing under way: a failure must not be waited for. */
  const isOver = (r: Rollout): boolean => isEnded(r) || isHeld(r);
  const verified = { outcome: 'verified', detail: null, cause: null };
  const detailOf = (rollout: Rollout, name: string): Promise<RunDetail> =>
    client.run(rollout.id, rollout.runs.find((r) => r.name === name)!.id);

  beforeAll(async () => {
    scene = await setScene({ network: 114, scale: 100, whole: true });
    ({ client } = scene.served);
    await addWholeNetworks(client, 114, ['quay-house', 'gannet-point', 'dunmoor-depot']);
    await discover(client);
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    for (const batch of await batchesOf(library.add, false)) await takeBatch(client, batch, {});
    await client.setTarget({ family: 'owlpane-camera', model: 'OC-400', version: '2.12.0' });
    await client.setTarget({ family: 'stavewell-strip', version: '1.13' });
    await client.setTarget({ family: 'tarnbrook-core', model: 'TB-3608', version: '6.1.2' });
    await client.setTarget({ family: 'tarnbrook-core', model: 'TB-4812', version: '6.2.0' });
    await client.setTarget({ family: 'fennwave-controller', version: '9.6.0' });
    await client.setTarget({ family: 'fennwave-ap', model: 'FA-310', version: '9.6.0' });
    await client.setTarget({ family: 'fennwave-ap', model: 'FA-110', version: '9.4.5' });
    await client.setTarget({ family: 'tollard-desk', version: '3.0.2' });
  });
  afterAll(async () => {
    for (const step of undo) step();
    await scene?.end();
  });

  it('carries a file to the page of a camera, which starts anew by itself, and finds its settings again', async () => {
    const camera = fixture('quay-cam-1');
    const done = await roll('quay-cam-1');
    expect(outcome(done, 'quay-cam-1')).toEqual(verified);
    expect(camera.facts.firmware).toBe('2.12.0');
    expect(camera.counters).toMatchObject({ writesBegun: 1, writesDone: 1, activations: 1, reboots: 1, restartsInWrite: 0 });
    const { checks, conversations } = await detailOf(done, 'quay-cam-1');
    expect(checks.map((c) => [c.name, c.result])).toEqual([
      ['serial', 'passed'],
      ['version', 'passed'],
      ['restart', 'passed'],
      ['configuration', 'passed'],
      ['doors', 'passed'],
      ['logins', 'passed'],
      ['clock', 'passed'],
      ['picture', 'passed'],
    ]);
    // What was said over its pages is kept, and its secrets are not in it.
    expect(conversations.find((c) => c.step === 'preflight')!.text).toContain('GET /update/about');
    expect(conversations.map((c) => c.text).join()).not.toContain('pilot-boat-3');
    expect((await client.transfers(1))[0]).toMatchObject({ protocol: 'push', state: 'done', file: 'oc400r2-2.12.0.simg' });
  });

  it('takes a camera from what was put aside ahead, and carries nothing again', async () => {
    const image = (await client.images()).find((i) => i.file === 'oc400r2-2.12.0.simg')!;
    const [delivery] = await client.deliver({ image: image.sha256, devices: ['quay-cam-2'], place: 'device', makeRoom: false });
    await delivered(client, [delivery!.id]);
    const moved = (await client.transfers(100)).length;
    expect(outcome(await roll('quay-cam-2'), 'quay-cam-2')).toEqual(verified);
    expect(fixture('quay-cam-2').facts.firmware).toBe('2.12.0');
    expect((await client.transfers(100)).length).toBe(moved);
  });

  it('lets a power strip fetch over HTTP, and take the file at its own restart', async () => {
    const strip = fixture('quay-pdu-1');
    const done = await roll('quay-pdu-1');
    expect(outcome(done, 'quay-pdu-1')).toEqual(verified);
    expect(strip.facts.firmware).toBe('1.13');
    expect(strip.counters).toMatchObject({ writesDone: 1, reboots: 1, restartsInWrite: 0, powerLosses: 0 });
    expect((await client.transfers(1))[0]).toMatchObject({ protocol: 'http', state: 'done', verified: true });
  });

  it('lays a rule for a desk phone, has it look by a message, and takes it over two images; its switch stays up meanwhile', async () => {
    const phone = fixture('quay-phone-1');
    const planned = await plan('quay-phone-1');
    expect(planned.runs[0]!.legs.map((l) => [l.from, l.to])).toEqual([
      ['2.8.1', '2.9.0'],
      ['2.9.0', '3.0.2'],
    ]);
    await client.say(planned.id, 'start', { accept: ['all'] });
    const done = await rolloutUntil(client, planned.id, isOver);
    expect(outcome(done, 'quay-phone-1')).toEqual(verified);
    expect(phone.facts.firmware).toBe('3.0.2');
    expect(phone.counters).toMatchObject({ writesDone: 2, reboots: 2, restartsInWrite: 0, powerLosses: 0 });
    const moved = await client.transfers(2, { device: 'quay-phone-1' });
    expect(moved.map((t) => [t.file, t.state])).toEqual([
      ['d40-3.0.2.simg', 'done'],
      ['d40-2.9.0.simg', 'done'],
    ]);
    const { checks, conversations } = await detailOf(done, 'quay-phone-1');
    expect(checks.map((c) => [c.name, c.result, c.after])).toContainEqual(['3.0.2: version', 'passed', '3.0.2']);
    expect(conversations.find((c) => c.step === 'transfer')!.text).toContain('look at your rule at ');
    // What was laid for it is there no more.
    expect(readdirSync(join(scene.data, 'laid'))).toEqual([]);
  });

  it('begins nothing with a phone in a call, and says of one that never looks that nothing came', async () => {
    const [busy, deaf] = [fixture('quay-phone-2'), fixture('quay-phone-3')];
    busy.faults.add('in-a-call');
    deaf.faults.add('never-asks');
    const planned = await client.plan({ devices: ['quay-phone-2', 'quay-phone-3'], first: 0, atOnce: 2, failureLimit: 3 });
    await client.say(planned.id, 'start', { accept: ['all'] });
    await rolloutUntil(client, planned.id, (r) => r.runs.some((x) => x.name === 'quay-phone-3' && x.step === 'transfer'));
    const { tftp } = await client.about();
    const [, port] = /:(\d+)$/.exec(tftp)!;
    const rule = `${deaf.facts.mac.replaceAll(':', '')}.rule`;
    const asked = async (from: string): Promise<Buffer> => {
      const socket = await bareClient(undo, from);
      socket.send(rrq(rule, 'octet'), Number(port));
      return (await socket.next()).packet;
    };
    // It is laid for this phone alone: neither a stranger nor another phone is given it.
    for (const from of ['127.0.0.1', busy.facts.address!]) expect((await asked(from)).readUInt16BE(0), from).toBe(5);
    const given = await asked(deaf.facts.address!);
    expect(given.readUInt16BE(0)).toBe(3);
    expect(given.subarray(4).toString()).toMatch(
      new RegExp(`^phone ${deaf.facts.mac}\nrun 2\\.9\\.0\nfile d40-2\\.9\\.0\\.simg\noctets \\d+\nsum [0-9a-f]{64}\n`),
    );
    const done = await rolloutUntil(client, planned.id, isOver);
    expect(outcome(done, 'quay-phone-2')).toMatchObject({ outcome: 'not-begun', cause: 'device-in-use' });
    expect(outcome(done, 'quay-phone-3')).toMatchObject({ outcome: 'failed', cause: 'never-asked' });
    for (const phone of [busy, deaf]) {
      expect(phone.facts.firmware).toBe('2.8.1');
      expect(phone.counters).toMatchObject({ writesBegun: 0, reboots: 0 });
      phone.faults.clear();
    }
  });

  it('takes a stack over two images in one run, each verified before the next', async () => {
    const stack = fixture('gannet-stk-1');
    const planned = await plan('gannet-stk-1');
    expect(planned.runs[0]).toMatchObject({ from: '5.0.4', target: '6.1.2', file: 'tb36-6.1.2.simg' });
    expect(planned.runs[0]!.legs.map((l) => [l.from, l.to, l.file])).toEqual([
      ['5.0.4', '5.9.0', 'tb36-5.9.0.simg'],
      ['5.9.0', '6.1.2', 'tb36-6.1.2.simg'],
    ]);
    expect(planned.runs[0]!.notices).toContain('5.9.0 → 6.1.2, each verified before the next');
    const told = await cli('rollout', 'start', planned.id, '--accept', 'all', '--follow');
    expect(told, told.out + told.err).toMatchObject({ code: 0 });
    expect(told.out).toMatch(/1\/18 preflight of 5\.9\.0/);
    expect(told.out).toMatch(/18\/18 checks of 6\.1\.2/);
    // The point of no return is told for each.
    expect(told.out.match(/point of no return/g)).toHaveLength(2);
    const done = await client.rollout(planned.id);
    expect(outcome(done, 'gannet-stk-1')).toEqual(verified);
    expect(stack.facts.firmware).toBe('6.1.2');
    expect(stack.counters).toMatchObject({ writesDone: 2, activations: 2, reboots: 2 });
    const { runs, images } = await client.report(planned.id);
    expect(images.map((i) => i.version).sort()).toEqual(['5.9.0', '6.1.2']);
    expect(runs[0]).toMatchObject({ before: '5.0.4', after: '6.1.2', outcome: 'verified' });
    expect(runs[0]!.checks.filter((c) => c.name.endsWith('version')).map((c) => [c.name, c.after])).toEqual([
      ['5.9.0: version', '5.9.0'],
      ['6.1.2: version', '6.1.2'],
    ]);
    expect(runs[0]!.checks.filter((c) => c.name.endsWith('members')).map((c) => [c.result, c.before, c.after])).toEqual([
      ['passed', '3', '3'],
      ['passed', '3', '3'],
    ]);
  });

  it.each([
    [
      'stays on what it ran before',
      'member-stays-behind',
      'member-behind',
      /^members: before 3, after 3, 1 of them on another version\. member 3 \(TB36\S+C\) runs 5\.0\.4/,
    ],
    [
      'does not come back',
      'member-stays-away',
      'member-missing',
      /^members: before 3, after 2\. member 3 \(TB36\S+C\) is not there any more$/,
    ],
    [
      'is in the place of another',
      'members-change-places',
      'member-moved',
      /^members: before 3, after 3\. member 3 \(TB36\S+C\) is member 2 now; member 2 \(TB36\S+B\) is member 3 now/,
    ],
  ] as const)('is not content with a stack of which one member %s', async (_, fault, cause, detail) => {
    const stack = fixture('gannet-stk-1');
    stack.choose('own-5.0.4');
    await stack.restart();
    await discover(client, ['gannet-point']);
    stack.faults.add(fault);
    const done = await roll('gannet-stk-1');
    stack.faults.clear();
    expect(done.runs[0]).toMatchObject({
      outcome: 'failed',
      step: 'checks',
      cause: { code: cause },
      detail: expect.stringMatching(detail) as string,
    });
    // What it is of three tells its first member alone.
    expect(stack.facts.firmware).toBe('5.9.0');
  });

  it('exchanges a boot loader first, then carries three files in their order, one core switch at a time', async () => {
    const [one, two] = [fixture('quay-core-1'), fixture('quay-core-2')];
    const planned = await plan('quay-core-1', 'quay-core-2');
    expect(planned.runs[0]!.legs.map((l) => [l.component, l.from, l.to])).toEqual([
      ['boot-loader', '2.0', '2.1'],
      ['system', '6.1.2', '6.2.0'],
    ]);
    await client.say(planned.id, 'start', { accept: ['all'] });
    const done = await rolloutUntil(client, planned.id, isOver);
    expect([outcome(done, 'quay-core-1'), outcome(done, 'quay-core-2')]).toEqual([verified, verified]);
    for (const core of [one, two]) {
      expect(core.facts).toMatchObject({ firmware: '6.2.0', bootLoader: '2.1' });
      expect(core.counters).toMatchObject({ reboots: 2, restartsInWrite: 0 });
    }
    // While one was down, the other was up: each is the way of somebody.
    const { runs } = await client.report(planned.id);
    const down = (steps: Report['runs'][number]['steps']): [number, number][] =>
      [0, 1].map((leg) => {
        const at = (step: string) => steps.find((s) => s.step === step && s.leg === leg)!;
        return [Date.parse(at('reboot').begunAt), Date.parse(at('return').endedAt!)];
      });
    for (const [from, to] of down(runs[0]!.steps))
      for (const [other, until] of down(runs[1]!.steps)) expect(to <= other || until <= from).toBe(true);
  });

  it('tells a refusal of the device by its cause, and that it runs what it ran', async () => {
    await scene.fleet.fault('gannet-cam-1', 'wrong-model');
    const done = await roll('gannet-cam-1');
    expect(outcome(done, 'gannet-cam-1')).toMatchObject({ outcome: 'failed', cause: 'wrong-hardware' });
    expect(fixture('gannet-cam-1').counters).toMatchObject({ writesBegun: 0, reboots: 0 });
    await scene.fleet.fault('gannet-cam-1', 'wrong-model', false);
  });

  it('says of a camera that came back on what it ran before that it is old', async () => {
    await scene.fleet.fault('dunmoor-cam-1', 'returns-on-old-version');
    const done = await roll('dunmoor-cam-1');
    expect(outcome(done, 'dunmoor-cam-1')).toMatchObject({ outcome: 'failed', cause: 'old-version' });
    await scene.fleet.fault('dunmoor-cam-1', 'returns-on-old-version', false);
  });

  it('asks a camera that was left in the middle of its upload, and carries nothing twice', async () => {
    const camera = fixture('dunmoor-cam-1');
    const before = { ...camera.counters };
    const planned = await plan('dunmoor-cam-1');
    await client.say(planned.id, 'start', { accept: ['all'] });
    await expect.poll(() => camera.writing, { interval: 2 }).toBe(true);
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale });
    ({ client } = scene.served);
    const done = await rolloutUntil(client, planned.id, isOver);
    expect(outcome(done, 'dunmoor-cam-1')).toEqual(verified);
    expect(camera.facts.firmware).toBe('2.12.0');
    expect(camera.counters).toMatchObject({ writesBegun: before.writesBegun + 1, reboots: before.reboots + 1 });
    const { events } = await detailOf(done, 'dunmoor-cam-1');
    expect(events.map((e) => e.event.kind)).toContain('reconciled');
  });

  it('finds out that a strip lost its settings', async () => {
    await scene.fleet.fault('dunmoor-pdu-1', 'returns-with-settings-lost');
    const done = await roll('dunmoor-pdu-1');
    expect(outcome(done, 'dunmoor-pdu-1')).toMatchObject({ outcome: 'failed', cause: 'settings-changed' });
  });

  it('takes old access points before the release of their controller that serves them no more', async () => {
    const planned = await plan('quay-wlc-1', 'gannet-ap-1', 'gannet-ap-2');
    const needsOf = planned.runs.find((r) => r.name === 'quay-wlc-1')!.notices;
    expect(needsOf).toContain('waits for gannet-ap-1, gannet-ap-2, which it serves no more afterwards as they are');
    await client.discardRollout(planned.id);
  });

  describe('a controller and its access points:', () => {
    const names = [1, 2, 3, 4].map((n) => `quay-ap-${n}`);
    let planned: Rollout;

    it('nothing of them is begun when it failed, and that is said', async () => {
      // There is room for it only when what nobody needs is removed.
      const image = (await client.images()).find((i) => i.file === 'fa310-9.6.0.simg')!;
      const [delivery] = await client.deliver({ image: image.sha256, devices: ['quay-ap-1'], place: 'parent', makeRoom: true });
      expect(await delivered(client, [delivery!.id])).toMatchObject([{ state: 'verified' }]);
      await scene.fleet.fault('quay-wlc-1', 'returns-on-old-version');
      planned = await plan('quay-wlc-1', ...names);
      expect(planned.leftOut).toEqual([]);
      expect(planned.runs.find((r) => r.name === 'quay-ap-1')!.notices[0]).toMatch(/^waits for quay-wlc-1, which has to take fc20-9\.6\.0/);
      await client.say(planned.id, 'start', { accept: ['all'] });
      const held = await rolloutUntil(client, planned.id, isHeld);
      expect(outcome(held, 'quay-wlc-1')).toMatchObject({ outcome: 'failed', cause: 'old-version' });
      await client.say(planned.id, 'continue');
      const ended = await rolloutUntil(client, planned.id, isOver);
      for (const name of names) expect(outcome(ended, name), name).toMatchObject({ outcome: 'not-begun', cause: 'needed-run' });
      for (const name of names) expect(fixture(name).counters, name).toMatchObject({ writesBegun: 0, reboots: 0 });
    });

    it('it goes first, then they by its storage, two at a time', async () => {
      await scene.fleet.fault('quay-wlc-1', 'returns-on-old-version', false);
      const id = (name: string) => planned.runs.find((r) => r.name === name)!.id;
      await expect(client.sayRun(planned.id, id('quay-ap-1'), 'retry')).rejects.toThrow(/quay-ap-1 needs quay-wlc-1: retry that one/);
      await client.sayRun(planned.id, id('quay-wlc-1'), 'retry');
      const waiting = await rolloutUntil(client, planned.id, (r) => r.runs.some((x) => x.waits !== null));
      expect(waiting.runs.find((r) => r.name === 'quay-ap-1')!.waits!.text).toBe('waits for quay-wlc-1, which has to be done first');
      const done = await rolloutUntil(client, planned.id, isOver);
      for (const name of ['quay-wlc-1', ...names]) expect(outcome(done, name), name).toEqual(verified);
      expect(fixture('quay-wlc-1').facts.firmware).toBe('9.6.0');
      for (const name of names) {
        expect(fixture(name).facts.firmware, name).toBe('9.6.0');
        expect(fixture(name).counters, name).toMatchObject({ writesDone: 1, reboots: 1, restartsInWrite: 0 });
      }
      // Their image came to the storage once.
      expect(fixture('quay-wlc-1').shelf.counters.taken).toBe(1);
      const { runs } = await client.report(planned.id);
      const times = runs
        .filter((r) => r.name !== 'quay-wlc-1')
        .map(
          ({ steps }) =>
            [steps.findLast((s) => s.step === 'reboot')!.begunAt, steps.findLast((s) => s.step === 'checks')!.endedAt!] as const,
        );
      for (const [from] of times) expect(times.filter(([a, b]) => a <= from && from < b).length).toBeLessThanOrEqual(2);
      // None went down before its controller was verified.
      const controller = runs.find((r) => r.name === 'quay-wlc-1')!.endedAt!;
      for (const [from] of times) expect(from >= controller).toBe(true);
    });
  });
});
