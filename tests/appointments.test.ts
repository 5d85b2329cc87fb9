import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BarrowClient } from '@barrow/client';
import { barrow, serve, type Ran } from './support/service.js';
import { isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

describe('a rollout that begins at a moment', () => {
  let scene: Scene;
  let client: BarrowClient;
  /** By how much the service's clock is ahead of ours. */
  let aheadMs = 0;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const planned = async (device: string, more: object = {}): Promise<string> =>
    (await client.plan({ devices: [device], first: 0, soakSeconds: 0, ...more })).id;
  /** Kills the service, and starts it with a clock that says so many minutes later. */
  const startAgain = async (minutes: number): Promise<void> => {
    await scene.served.kill();
    aheadMs += minutes * 60_000;
    scene.served = await serve(scene.data, { scale: scene.scale, unruly: { clockMs: aheadMs } });
    ({ client } = scene.served);
  };
  const there = (minutes: number): string => new Date(Date.now() + aheadMs + minutes * 60_000).toISOString();

  beforeAll(async () => {
    scene = await setScene({ network: 135, only: ['gannet-sw-1', 'quay-sw-1', 'quay-sw-2', 'quay-sw-4', 'eelgate-sw-1'] });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('is not begun before, keeps its moment over a kill, and begins by itself', async () => {
    const id = await planned('gannet-sw-1');
    const said = await cli('rollout', 'start', id, '--at', '+2h', '--accept', 'all');
    expect(said).toMatchObject({ code: 0 });
    expect(said.out).toMatch(/is not begun yet\. It begins at .+, not after .+, as first admin said\./);
    expect((await cli('rollout', 'show', id)).out).toContain('It begins at');
    await startAgain(60);
    expect(await client.rollout(id)).toMatchObject({ phase: 'planned', begins: { missed: null, by: 'first admin' } });
    expect(scene.fleet.device('gannet-sw-1').counters.pulls).toBe(0);
    // A minute after it, and not yet an hour.
    await startAgain(61);
    const done = await rolloutUntil(client, id, isEnded);
    expect(done).toMatchObject({ startedBy: 'first admin', totals: { verified: 1 }, begins: null });
  });

  it('begins no more when Barrow was not there in time, and says so', async () => {
    const id = await planned('quay-sw-1');
    expect((await cli('rollout', 'start', id, '--at', there(30), '--start-before', there(40), '--accept', 'all')).code).toBe(0);
    await startAgain(41);
    await expect
      .poll(async () => (await client.rollout(id)).begins?.missed)
      .toMatch(/^Barrow was not there at .+, and after .+ it was not to begin$/);
    expect((await cli('rollout', 'show', id)).out).toMatch(/It was to begin at .+, and did not: Barrow was not there/);
    expect((await client.rollout(id)).phase).toBe('planned');
    // A person may have it begin all the same.
    expect((await cli('rollout', 'start', id, '--accept', 'all')).code).toBe(0);
    expect(await rolloutUntil(client, id, isEnded)).toMatchObject({ totals: { verified: 1 }, begins: null });
  });

  it('does not begin while another has its devices, and says so', async () => {
    const id = await planned('quay-sw-2');
    const first = await planned('quay-sw-2');
    await client.say(id, 'start', { accept: ['all'], at: there(30) });
    await client.say(first, 'start', { accept: ['all'] });
    await client.say(first, 'hold', { reason: 'to keep it' });
    await startAgain(31);
    await expect.poll(async () => (await client.rollout(id)).begins?.missed).toMatch(/^quay-sw-2 \(r-/);
    await client.say(first, 'stop');
    await rolloutUntil(client, first, isEnded);
  });

  it('does not begin by itself when that was taken back', async () => {
    const id = await planned('quay-sw-2');
    expect((await cli('rollout', 'start', id, '--at', 'none')).err).toContain('It was not to begin by itself');
    await client.say(id, 'start', { accept: ['all'], at: there(30) });
    expect((await cli('rollout', 'start', id, '--at', 'none')).out).toContain('does not begin by itself any more');
    expect((await client.rollout(id)).begins).toBeNull();
  });

  it('is refused where the moments do not fit', async () => {
    const id = await planned('quay-sw-2');
    const refused = (times: object) =>
      client.say(id, 'start', { accept: ['all'], ...times }).then(
        () => null,
        (e: { problem: { code: string } }) => e.problem.code,
      );
    expect(await refused({ at: there(-1) })).toBe('time-past');
    expect(await refused({ at: there(61 * 1440) })).toBe('time-far');
    expect(await refused({ at: there(30), latest: there(29) })).toBe('times-crossed');
    expect(await refused({ doneBy: there(-1) })).toBe('done-too-late');
    expect(await refused({ at: there(30), doneBy: there(30) })).toBe('done-too-late');
    expect(await refused({ at: 'tomorrow' })).toBe('request-malformed');
    expect((await client.rollout(id)).begins).toBeNull();
    expect(await cli('rollout', 'start', id, '--start-before', '22:00')).toMatchObject({
      code: 2,
      err: expect.stringContaining('belongs to --at') as string,
    });
    expect(await cli('rollout', 'start', id, '--at', '+2h', '--follow')).toMatchObject({
      code: 2,
      err: expect.stringContaining('nothing to watch until then') as string,
    });
    expect(await cli('rollout', 'start', id, '--at', 'soon')).toMatchObject({
      code: 2,
      err: expect.stringContaining('takes a moment, not "soon"') as string,
    });
  });

  it('is held when it was to be done by a moment, and is not', async () => {
    const { id } = await client.plan({ devices: ['quay-sw-2', 'quay-sw-4'], first: 1, soakSeconds: 0, approval: true });
    const begun = await cli('rollout', 'start', id, '--done-by', there(60 * 24), '--accept', 'all');
    expect(begun.out).toMatch(/^Started .+ It is to be done by .+: nobody goes down who would not be back by then\./);
    await rolloutUntil(client, id, (r) => r.totals.verified === 1);
    await startAgain(60 * 24 + 1);
    const held = await rolloutUntil(client, id, (r) => r.phase === 'held');
    expect(held).toMatchObject({ begins: null, heldBy: 'Barrow' });
    expect(held.heldBecause).toMatch(/^it was to be done by .+, and is not$/);
    // A person may have it go on, and is not held up again.
    await client.say(id, 'continue');
    const opens = /^Wave 1 \(first\) has 1 verified\.\n.+ wave 2 \(rest\) is opened: 1 device \(quay-sw-\d\)\.$/m;
    const look = await cli('rollout', 'approve', id, '--look');
    expect(look.out).toMatch(opens);
    expect(look.out).toContain('Nothing was said to it.');
    expect((await client.rollout(id)).waves[0]!.approvedBy).toBeNull();
    // The newest plan is the latest one for who looks at a plan, and the one under way for who says a word to it.
    const next = await client.plan({ devices: ['eelgate-sw-1'], first: 0 });
    expect((await cli('rollout', 'discard', 'latest')).out).toContain(`Discarded ${next.name}.`);
    const given = await cli('rollout', 'approve', 'latest');
    expect(given.out).toMatch(/^Approved: wave 1 of /);
    expect(given.out).toMatch(opens);
    expect(await rolloutUntil(client, id, isEnded)).toMatchObject({ totals: { verified: 2 } });
  });
});
