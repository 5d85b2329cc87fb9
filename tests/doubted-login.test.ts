import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import type { Rollout, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { barrow } from './support/service.js';
import { patient } from './support/odd-gates.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** A login that had worked everywhere, and is refused: by one device, or by all that ask the server that knows it. */
describe('a login that is refused', () => {
  let scene: Scene;
  let client: BarrowClient;
  const said = 'ferry-ssh had worked and is refused by';
  const switches = ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'eelgate-sw-1', 'eelgate-sw-2', 'gannet-sw-1', 'gannet-sw-2'];
  /** Where nothing is done by any rollout. */
  const standing = ['quay-rt-1', 'dunmoor-rt-1'];
  const all = [...switches, ...standing];
  const refuse = async (on: boolean, ...names: string[]): Promise<void> => {
    for (const name of names) await scene.fleet.fault(name, 'refuses-login', on);
  };
  const begin = async (...devices: string[]): Promise<Rollout> => {
    const plan = await client.plan({ devices, first: 0, atOnce: 8, failureLimit: 100, wayBack: true, unsaved: 'save' });
    await client.say(plan.id, 'start', { accept: ['all'] });
    return plan;
  };
  const runOf = ({ runs }: Rollout, name: string): RunView => runs.find((r) => r.name === name)!;
  /** Of waiting nothing is journalled. */
  const inDoubt = async (id: string): Promise<Rollout> => {
    await expect.poll(async () => (await client.rollout(id)).runs.every((run) => run.waits?.text.includes(said)), patient).toBe(true);
    return client.rollout(id);
  };
  const restarting = (id: string): Promise<Rollout> => rolloutUntil(client, id, (r) => r.runs.every((run) => run.step === 'return'));
  const refusals = (): number => all.reduce((sum, name) => sum + scene.fleet.device(name).counters.refusedLogins, 0);

  beforeAll(async () => {
    scene = await setScene({ network: 157, scale: 200, only: all });
    ({ client } = scene.served);
    await prepare(scene);
  });
  beforeEach(() => refuse(false, ...all));
  afterAll(() => scene?.end());

  it('by all, before they are begun with, is one cause, waited for, and hardly tried', async () => {
    await refuse(true, ...all);
    const before = refusals();
    const { id } = await begin('quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'eelgate-sw-2');
    const waiting = await inDoubt(id);
    expect(waiting.runs.map((r) => [r.phase, r.step])).toEqual(Array.from({ length: 4 }, () => ['busy', 'preflight']));
    // Each its own once at most, others that are asked, and then one of them now and then.
    expect(refusals() - before).toBeLessThanOrEqual(4 + 2 + 2);
    // Whom a person leaves out need not wait.
    await client.sayRun(id, 'eelgate-sw-2', 'skip', { reason: 'not tonight' });
    const left = await rolloutUntil(client, id, (r) => runOf(r, 'eelgate-sw-2').outcome !== null);
    expect(runOf(left, 'eelgate-sw-2')).toMatchObject({ outcome: 'skipped', detail: 'not tonight; its login was waited for' });
    await refuse(false, ...all);
    const done = await rolloutUntil(client, id, isAtRest);
    expect(done.runs.map((r) => r.outcome).sort()).toEqual(['skipped', 'verified', 'verified', 'verified']);
  });

  it('by all, while they restart, is waited for as well, and nothing is taken back', async () => {
    const { id } = await begin('quay-sw-4', 'eelgate-sw-1');
    await restarting(id);
    await refuse(true, ...all);
    const waiting = await inDoubt(id);
    expect(runOf(waiting, 'quay-sw-4')).toMatchObject({ phase: 'busy', outcome: null });
    const shown = await barrow(['rollout', 'show', id, '--url', scene.served.url, '--token', scene.served.token]);
    expect(shown.out.replace(/\s+/g, ' ')).toContain(said);
    await refuse(false, ...all);
    const done = await rolloutUntil(client, id, isAtRest);
    for (const run of done.runs) expect(run).toMatchObject({ outcome: 'verified', tried: [], rung: null });
    for (const name of ['quay-sw-4', 'eelgate-sw-1'])
      expect(scene.fleet.device(name).counters).toMatchObject({ reboots: 1, activations: 1 });
  });

  it('by one alone is that one: another is asked, and lets it in', async () => {
    const { id } = await begin('eelgate-sw-2');
    await restarting(id);
    await refuse(true, 'eelgate-sw-2');
    const done = await rolloutUntil(client, id, isAtRest);
    expect(runOf(done, 'eelgate-sw-2')).toMatchObject({ outcome: 'failed', cause: { code: 'login-lost' } });
  });

  it('by all, and for good, fails who waited an hour for it, by that cause, with nothing tried on it', async () => {
    const { id } = await begin('gannet-sw-1');
    await restarting(id);
    await refuse(true, ...all);
    const done = await rolloutUntil(client, id, isAtRest);
    expect(runOf(done, 'gannet-sw-1')).toMatchObject({ outcome: 'failed', cause: { code: 'credential-suspended' }, tried: [] });
    await refuse(false, ...all);
    // It is compared then, and was good all the time.
    await client.sayRun(id, 'gannet-sw-1', 'retry');
    expect(runOf(await rolloutUntil(client, id, isAtRest), 'gannet-sw-1').outcome).toBe('verified');
  });
});
