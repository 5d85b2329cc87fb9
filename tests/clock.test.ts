import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { addImagesAndTargets, addNetworks, discover, isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { serve } from './support/service.js';

describe('a clock that is set while a rollout runs', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 110, only: ['curlew-sw-1', 'sandpiper-sw-1'] });
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale, unruly: {} });
    await addNetworks(scene.served.client, scene.fleet);
    await discover(scene.served.client);
    await addImagesAndTargets(scene.served.client, scene.images);
  });
  afterAll(() => scene?.end());

  it('ends nothing early, makes nothing wait for an hour, and leaves no span negative', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ first: 1, soakSeconds: 2 });
    const asked = Date.now();
    await client.say(plan.id, 'start');
    // In the middle of the first device, and again while the second one waits or runs.
    await rolloutUntil(client, plan.id, (r) => r.runs.some((x) => x.phase === 'busy'));
    scene.served.unruly({ clockMs: -3_600_000 });
    await rolloutUntil(client, plan.id, (r) => r.runs.some((x) => x.phase === 'ended'));
    scene.served.unruly({ clockMs: -7_200_000 });
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.runs.map((r) => r.outcome)).toEqual(['verified', 'verified']);
    // Nor is what the second one fetched: what came after a step of the clock is not taken for what came before it.
    const fetched = await client.transfers();
    for (const { askedAt, endedAt } of fetched) {
      expect(Date.parse(askedAt)).toBeGreaterThanOrEqual(asked - 60_000);
      expect(Date.parse(endedAt!)).toBeGreaterThanOrEqual(Date.parse(askedAt));
    }
    // The service's own time of day is two hours behind by now; what is told of the rollout is not.
    expect(Date.parse((await client.addToken({ name: 'late', role: 'viewer' })).createdAt)).toBeLessThan(asked - 3_600_000);
    for (const { id } of ended.runs) {
      const { events } = await client.run(plan.id, id);
      const moments = events.map((e) => e.event.at);
      expect(moments).toEqual([...moments].sort((a, b) => a - b));
      expect(moments[0]).toBeGreaterThanOrEqual(asked - 60_000);
    }
    for (const { begunAt, endedAt, downMs } of (await client.report(plan.id)).runs) {
      expect(Date.parse(endedAt!)).toBeGreaterThan(Date.parse(begunAt!));
      expect(downMs).toBeGreaterThan(0);
    }
  });
});

describe('a clock that was set while the service was dead', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 152, only: ['curlew-sw-1', 'sandpiper-sw-1'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it.each([
    ['back', -7_200_000, 'curlew-sw-1'],
    ['ahead', 7_200_000, 'sandpiper-sw-1'],
  ])('makes no soak longer or shorter: %s', async (_, clockMs, device) => {
    const plan = await scene.served.client.plan({ devices: [device], soakSeconds: 4, level: true });
    await scene.served.client.say(plan.id, 'start');
    // It soaks, or has: a machine that is busy may see it late.
    await rolloutUntil(scene.served.client, plan.id, (r) => !['waiting', 'open'].includes(r.waves[0]!.phase));
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale, unruly: { clockMs } });
    const { client } = scene.served;
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.totals).toMatchObject({ verified: 1 });
    const at = new Map<string, number>();
    for await (const event of client.events({ after: plan.journal })) {
      if (event.kind !== 'journal' || event.entry.rollout !== plan.id) continue;
      at.set(event.entry.event.kind, event.entry.event.at);
      if (event.entry.event.kind === 'rollout-ended') break;
    }
    const soaked = at.get('soak-ended')! - at.get('wave-ended')!;
    expect(soaked).toBeGreaterThanOrEqual(4000);
    expect(soaked).toBeLessThan(3_600_000);
  });
});
