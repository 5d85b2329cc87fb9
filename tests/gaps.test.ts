import { join } from 'node:path';
import type { Rollout } from '@barrow/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { barrow, folder, serve } from './support/service.js';
import { changedFamilies, isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

describe('what happens between the plan and the proof', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({
      network: 106,
      only: ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'eelgate-sw-1', 'eelgate-sw-2', 'eelgate-sw-3', 'dunmoor-sw-1'],
    });
    await prepare(scene);
  });
  afterAll(() => scene?.end());
  const upgrade = async (name: string) => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: [name], first: 0, soakSeconds: 0 });
    await client.say(plan.id, 'start');
    return (await rolloutUntil(client, plan.id, isEnded)).runs[0]!;
  };

  it('a service that was stopped for a while judges no device by it', async () => {
    const { client, freeze, thaw } = scene.served;
    const device = scene.fleet.device('quay-sw-1');
    const plan = await client.plan({ devices: ['quay-sw-1'], first: 0, soakSeconds: 0 });
    await client.say(plan.id, 'start');
    await expect.poll(() => device.counters.reboots, { timeout: 60_000, interval: 5 }).toBe(1);
    freeze();
    try {
      // Longer in the device's time than it may take to come back.
      await expect.poll(() => device.state === 'up' && device.upSeconds > 500).toBe(true);
    } finally {
      thaw();
    }
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.runs[0]).toMatchObject({ outcome: 'verified' });
    expect(device.counters).toMatchObject({ activations: 1, reboots: 1 });
    const [run] = (await client.report(plan.id)).runs;
    expect(run!.downMs).toBeGreaterThanOrEqual(0);
  });

  it('a pin that was set meanwhile is obeyed, and told with its reason', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-2'], first: 0, soakSeconds: 0 });
    await client.setPin({ device: 'quay-sw-2', reason: 'ticket printers', askAgain: '2031-01-31' });
    await client.say(plan.id, 'start');
    const [run] = (await rolloutUntil(client, plan.id, isEnded)).runs;
    expect(run).toMatchObject({ outcome: 'not-begun', cause: { code: 'pinned' } });
    expect(run!.detail).toContain('pinned at 4.2.1 until 2031-01-31: ticket printers');
    expect(scene.fleet.device('quay-sw-2').counters).toMatchObject({ pulls: 0, activations: 0, reboots: 0 });
    const refused = await barrow(['rollout', 'plan', 'quay-sw-2'], { data: scene.data });
    expect(refused.err).toContain('quay-sw-2: pinned at 4.2.1 until 2031-01-31: ticket printers');
  });

  it('a target that was taken back meanwhile is obeyed', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-4'], first: 0, soakSeconds: 0 });
    await client.setTarget({ family: 'tarnbrook-access', version: '4.2.1', device: 'quay-sw-4' });
    await client.say(plan.id, 'start');
    const [run] = (await rolloutUntil(client, plan.id, isEnded)).runs;
    expect(run).toMatchObject({ outcome: 'not-begun', cause: { code: 'target-moved' } });
    expect(run!.detail).toBe('planned was 4.3.0; its target is 4.2.1 now');
    expect(scene.fleet.device('quay-sw-4').counters).toMatchObject({ pulls: 0, activations: 0 });
  });

  it('a device that came back with another host key is in the record as it is once the key was accepted', async () => {
    const { client } = scene.served;
    const device = scene.fleet.device('quay-sw-3');
    device.faults.add('returns-with-other-key');
    const run = await upgrade('quay-sw-3');
    expect(run).toMatchObject({ outcome: 'failed', cause: { code: 'host-key-changed' } });
    const shown = (await client.device('quay-sw-3')).shownHostKey!;
    expect(shown).toMatch(/^SHA256:/);
    await client.acceptHostKey('quay-sw-3', shown);
    const [rollout] = await client.rollouts();
    await client.sayRun(rollout!.id, 'quay-sw-3', 'retry');
    const again = (await rolloutUntil(client, rollout!.id, isEnded)).runs[0]!;
    expect(again).toMatchObject({ outcome: 'verified' });
    expect(await client.device('quay-sw-3')).toMatchObject({ firmware: '4.3.0', armed: null, standing: 'at-target' });
    expect(device.counters).toMatchObject({ activations: 1, reboots: 1 });
  });

  it('a device that restarts on its old version is in the record on its old version, and not armed', async () => {
    scene.fleet.fault('eelgate-sw-1', 'returns-on-old-version');
    expect(await upgrade('eelgate-sw-1')).toMatchObject({ outcome: 'failed', cause: { code: 'old-version' } });
    const { firmware, armed } = await scene.served.client.device('eelgate-sw-1');
    expect({ firmware, armed }).toEqual({ firmware: '4.2.1', armed: null });
  });

  it('a device that is not there is waited for while others are under way, and goes on when it answers', async () => {
    const { client } = scene.served;
    const away = scene.fleet.device('eelgate-sw-2');
    away.goDark();
    const plan = await client.plan({ devices: ['eelgate-sw-2', 'eelgate-sw-3'], first: 0, soakSeconds: 0, unsaved: 'save' });
    await client.say(plan.id, 'start');
    await client.say(plan.id, 'hold', { reason: 'to see who is there' });
    const isAway = (r: Rollout): boolean => r.runs.find((x) => x.name === 'eelgate-sw-2')!.phase === 'absent';
    const seen = await rolloutUntil(client, plan.id, isAway);
    const run = seen.runs.find((r) => r.name === 'eelgate-sw-2')!;
    expect(run).toMatchObject({ outcome: null, cause: { code: 'unreachable' } });
    expect(seen.totals.waiting + (seen.totals['under-way'] ?? 0)).toBe(2);
    const shown = await barrow(['rollout', 'show', plan.id], { data: scene.data });
    expect(shown.out).toMatch(/eelgate-sw-2 .*○ (waits: the rollout is held|absent)/);
    away.powerOn();
    await rolloutUntil(client, plan.id, (r) => !isAway(r));
    await client.say(plan.id, 'continue');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.runs.map((r) => r.outcome)).toEqual(['verified', 'verified']);
    const events = (await client.run(plan.id, 'eelgate-sw-2')).events.map((e) => e.event.kind);
    expect(events.filter((k) => k === 'run-absent' || k === 'run-seen')).toEqual(['run-absent', 'run-seen']);
    const [report] = (await client.report(plan.id)).runs.filter((r) => r.name === 'eelgate-sw-2');
    expect(report!.steps.map((s) => `${s.step} ${s.result}`).slice(0, 2)).toEqual(['preflight unreachable', 'preflight done']);
  });

  it('a device that is never seen is not begun, with its reason', async () => {
    const away = scene.fleet.device('eelgate-sw-1');
    away.goDark();
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['eelgate-sw-1'], first: 0, soakSeconds: 0 });
    const ran = await barrow(['rollout', 'start', plan.id, '--follow'], { data: scene.data });
    expect(ran.code).toBe(1);
    expect(ran.out).toMatch(/eelgate-sw-1 +is not there: .*goes on as soon as it answers/);
    expect(ran.out).toMatch(/eelgate-sw-1 +○ not-begun: all others have ended, and it was not to be begun with/);
    expect((await client.rollout(plan.id)).runs[0]).toMatchObject({ outcome: 'not-begun', cause: { code: 'unreachable' } });
    away.powerOn();
    await expect.poll(() => away.state).toBe('up');
  });

  it('a family file that was written otherwise since does not change what was planned by it, and what is planned after', async () => {
    const plan = await scene.served.client.plan({ devices: ['dunmoor-sw-1'], first: 0, soakSeconds: 0 });
    await scene.served.stop();
    const dir = folder();
    const families = changedFamilies(join(dir.path, 'families'), {
      'tarnbrook-access': [['say: test slot ${spare.slot}', 'say: probe slot ${spare.slot}']],
    });
    scene.served = await serve(scene.data, { scale: scene.scale, args: ['--families', families] });
    const { client } = scene.served;
    await client.say(plan.id, 'start');
    expect((await rolloutUntil(client, plan.id, isEnded)).runs[0]).toMatchObject({ outcome: 'verified' });
    expect(await upgrade('eelgate-sw-1')).toMatchObject({ outcome: 'failed', cause: { code: 'unexpected-answer' } });
    dir.remove();
  });
});
