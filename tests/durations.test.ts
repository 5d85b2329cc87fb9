import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { barrow, serve, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** What devices of one family and model took is what the next plan counts with. */
describe('the durations of a plan', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const newest = async (): Promise<Rollout> => client.rollout((await client.rollouts())[0]!.id);

  beforeAll(async () => {
    scene = await setScene({ network: 136, scale: 100, only: ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'eelgate-sw-1', 'gannet-sw-1'] });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('are those of the family files at first, and are learned from what was done, over a restart', async () => {
    const told = await cli('rollout', 'plan', 'quay-sw-1', 'quay-sw-2', 'eelgate-sw-1', '--first', '0', '--at-once', '3');
    expect(told, told.err).toMatchObject({ code: 0 });
    expect(told.out.replace(/\s+/g, ' ')).toContain(
      'Durations are those of the family files: none of these took anything here often enough yet.',
    );
    const { id } = await newest();
    await client.say(id, 'start', { accept: ['all'] });
    const done = await rolloutUntil(client, id, isAtRest);
    expect(done.totals.verified, JSON.stringify(done.runs)).toBe(3);
    expect(await scene.served.stop()).toBe(0);
    scene.served = await serve(scene.data, { scale: 100 });
    ({ client } = scene.served);

    // Another of the same model, and of the same family another model that nobody has upgraded yet.
    const next = await cli('rollout', 'plan', 'gannet-sw-1', 'quay-sw-3', '--first', '0');
    expect(next, next.err).toMatchObject({ code: 0 });
    expect(next.out.replace(/\s+/g, ' ')).toContain(
      'Durations of 1 of 2 devices are what their family and model took here before, as far as that is known (3 times each step); the others by their family file.',
    );
    const planned = await newest();
    expect(planned.learned).toEqual({ devices: 1, least: 3, most: 3 });
    // What the three took, the one that is planned is taken to take.
    const { runs } = await client.timeline(id);
    const took = runs.map((r) => r.parts.reduce((sum, p) => sum + Date.parse(p.until) - Date.parse(p.from), 0)).sort((a, b) => a - b);
    const { typicalMs } = planned.runs.find((r) => r.name === 'gannet-sw-1')!;
    expect(typicalMs).toBeGreaterThan(took[0]! / 2);
    expect(typicalMs).toBeLessThan(took[2]! * 2);
    expect(typicalMs).not.toBe(done.runs[0]!.typicalMs);
  });
});
