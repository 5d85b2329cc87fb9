import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { barrow, serve, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** Devices go down only in the window that a person says; what is done before needs none. */
describe('a window', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  /** The time of day, in UTC, so many minutes from now. */
  const clock = (minutes: number): string => new Date(Date.now() + minutes * 60_000).toISOString().slice(11, 16);
  const plan = (from: number, to: number, ...more: string[]): Promise<Ran> =>
    cli('rollout', 'plan', 'gannet-sw-1', '--first', '0', '--between', `${clock(from)}-${clock(to)}`, '--zone', 'UTC', ...more);
  const newest = async (): Promise<Rollout> => client.rollout((await client.rollouts())[0]!.id);

  beforeAll(async () => {
    scene = await setScene({ network: 121, scale: 100, only: ['gannet-sw-1', 'quay-sw-1'] });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('that opens later is waited for with everything prepared, and the device is not touched', async () => {
    const told = await plan(120, 240);
    expect(told, told.out + told.err).toMatchObject({ code: 0 });
    expect(told.out).toMatch(/Devices go down only in the window \d\d:\d\d–\d\d:\d\d \(UTC\), next .+ to .+\./);
    const { id } = await newest();
    const rehearsed = await client.rehearsal(id);
    expect(rehearsed.stuck).toBeNull();
    expect(rehearsed.totalMs).toBeGreaterThan(115 * 60_000);
    // It may begin until shortly before the window closes, and it is the window that makes it long.
    const { next } = (await newest()).windows[0]!;
    expect(rehearsed.latest!.by).toBe(next!.until);
    expect(Date.parse(rehearsed.latest!.begin)).toBeGreaterThan(Date.parse(next!.from));
    expect(rehearsed.latest!.begin < next!.until).toBe(true);
    expect(rehearsed.chain[0]).toMatchObject({ waited: 'waits for its window', names: ['gannet-sw-1'] });
    expect((await cli('rollout', 'rehearse', id)).out).toMatch(/To be over by .+ it has to begin by .+\./);
    await client.say(id, 'start');
    const parked = await rolloutUntil(client, id, (r) => r.runs[0]!.phase === 'parked' && r.runs[0]!.step === 'activate');
    expect(parked.runs[0]!.waits).toEqual({ text: 'waits for its window', until: parked.window!.next!.from });
    expect((await cli('rollout', 'show', id)).out.replace(/\s+/g, ' ')).toContain('parked before activate: waits for its window, until');
    const { counters, persistent } = scene.fleet.device('gannet-sw-1');
    expect(counters).toMatchObject({ pulls: 1, activations: 0, reboots: 0 });
    expect(persistent.store.map((s) => s.version)).toContain('4.3.0');
    await client.say(id, 'stop');
    expect((await rolloutUntil(client, id, isAtRest)).runs[0]).toMatchObject({ outcome: 'withdrawn' });
  });

  it('that is open is used', async () => {
    expect((await plan(-60, 120)).out).toMatch(/, open until /);
    const { id } = await newest();
    await client.say(id, 'start');
    const done = await rolloutUntil(client, id, isAtRest);
    expect(done.runs[0]).toMatchObject({ outcome: 'verified' });
    expect(scene.fleet.device('gannet-sw-1').counters).toMatchObject({ reboots: 1 });
  });

  it('is kept over a restart of the service as it was planned', async () => {
    const planned = await client.plan({
      devices: ['quay-sw-1'],
      first: 0,
      window: { from: clock(180), to: clock(300), days: [], zone: 'UTC' },
    });
    await client.say(planned.id, 'start');
    await rolloutUntil(client, planned.id, (r) => r.runs[0]!.waits?.text === 'waits for its window');
    const until = (await client.rollout(planned.id)).runs[0]!.waits!.until;
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale });
    ({ client } = scene.served);
    const again = await rolloutUntil(client, planned.id, (r) => r.runs[0]!.waits?.text === 'waits for its window');
    expect(again.runs[0]!.waits!.until).toBe(until);
    await client.say(planned.id, 'stop');
  });

  it('of a site is taken where a plan says nothing else, and another plan is told of it', async () => {
    const [from, to] = [clock(60), clock(180)];
    const set = await cli('site', 'set', 'quay-house', '--between', `${from}-${to}`, '--zone', 'UTC');
    expect(set.out.replace(/\s+/g, ' ')).toContain(`its devices go down: ${from}–${to} (UTC)`);
    expect((await cli('site', 'list')).out).toContain(`${from}–${to} (UTC)`);
    // It stays when something else is said of the site, and over a restart.
    expect((await cli('site', 'set', 'quay-house', '--link', '4000')).code).toBe(0);
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale });
    ({ client } = scene.served);
    const house = await client.plan({ devices: ['quay-sw-1'], first: 0 });
    expect(house.windows.map((w) => [w.text, w.devices])).toEqual([[`${from}–${to} (UTC)`, 1]]);
    expect((await cli('rollout', 'show', house.id)).out).toContain(`Devices go down only in the window ${from}–${to} (UTC), next`);
    const tomorrow = new Date(Date.now() + 86_400_000).toISOString().slice(0, 10);
    const told = await cli('rollout', 'plan', 'quay-sw-1', '--first', '0', '--between', '01:00-05:00', '--zone', 'UTC', '--on', tomorrow);
    expect(told.out.replace(/\s+/g, ' ')).toContain(
      `The window that was asked for is taken instead of the one of quay-house (${from}–${to} (UTC)).`,
    );
    const [dated] = (await newest()).windows;
    expect(dated).toMatchObject({ text: `01:00–05:00 on ${tomorrow} (UTC)`, next: { from: `${tomorrow}T01:00:00.000Z` } });
    expect((await cli('site', 'set', 'quay-house', '--between', 'none')).out).toContain('at any time');
    expect((await client.plan({ devices: ['quay-sw-1'], first: 0 })).windows).toEqual([]);
    expect((await cli('site', 'set', 'quay-house', '--between', '22:00-04:00', '--zone', 'Nowhere/At-All')).code).toBe(4);
    expect((await client.sites()).find((s) => s.name === 'quay-house')!.window).toBeNull();
  });

  it.each([
    [['--between', '22:00-04:00', '--on', 'Sat,2026-11-28'], 2, /days of the week or single days, not both/],
    [['--between', '22:00-04:00', '--on', '2020-01-01'], 4, /on 2020-01-01 \(.+\) does not come any more/],
    [['--between', 'night'], 2, /"night" is no window.*22:00-04:00/s],
    [['--between', '22:00-04:00', '--on', 'Sat,Yesterday'], 2, /"Yesterday" is no day of the week.*Mon, Tue/s],
    [['--on', 'Sat'], 2, /belong to --between/],
    [['--between', '22:00-04:00', '--zone', 'Nowhere/At-All'], 4, /"Nowhere\/At-All" is no time zone.*Europe\/London/s],
    [['--between', '25:00-04:00'], 2, /22:00/],
  ])('said as %j is refused, and why', async (args, code, why) => {
    const told = await cli('rollout', 'plan', 'quay-sw-1', ...args);
    expect(told, told.err).toMatchObject({ code });
    expect(told.err).toMatch(why);
  });
});
