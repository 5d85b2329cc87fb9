import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import type { Delivery, JournalEntry, Rollout } from '@barrow/core';
import { barrow } from './support/service.js';
import { delivered, discover, isEnded, isHeld, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** One network, one change: who is written below what goes down. The router carries the switch behind it, and nothing else leads there. */
describe('a router, and the switch behind it', () => {
  let scene: Scene;
  const heard: JournalEntry[] = [];
  const said = new Set<string>();
  let ended: Rollout;
  let before: JournalEntry[];
  let put: Delivery | undefined;
  const ids = new Map<string, string>();

  /** Plays a rollout to its end; what it journals is heard, and why somebody waits is asked at each event. */
  async function play(id: string): Promise<Rollout> {
    const { client } = scene.served;
    const stop = new AbortController();
    const { journal } = await client.rollout(id);
    await client.say(id, 'start');
    try {
      for await (const event of client.events({ after: journal, signal: stop.signal })) {
        if (event.kind !== 'journal' || event.entry.rollout !== id) continue;
        heard.push(event.entry);
        const view = await client.rollout(id);
        for (const run of view.runs) if (run.waits) said.add(`${run.name} ${run.waits.text}`);
        if (isEnded(view)) return view;
      }
    } finally {
      stop.abort();
    }
    throw new Error('the events ended first');
  }

  beforeAll(async () => {
    scene = await setScene({ network: 111, only: ['quay-rt-1', 'dunmoor-rt-1', 'dunmoor-sw-1'] });
    await prepare(scene);
    const { client } = scene.served;
    for (const d of await client.devices()) ids.set(d.name, d.id);
    // First the router alone, while an image is staged on the switch.
    const [image] = (await client.images()).filter((i) => i.version === '4.3.0' && i.hardwareRevisions.includes('B1'));
    const [made] = await client.deliver({ image: image!.sha256, devices: ['dunmoor-sw-1'], place: 'device' });
    await play((await client.plan({ devices: ['dunmoor-rt-1'], first: 0 })).id);
    [put] = await delivered(client, [made!.id]);
    before = heard.splice(0);
    said.clear();
    // Then both, the router set back.
    const router = scene.fleet.device('dunmoor-rt-1');
    router.choose('wr110-R7.02.simg');
    router.restart();
    await vi.waitUntil(() => router.state === 'up' && router.running.version === 'R7.02', { timeout: 60_000 });
    await discover(client);
    ended = await play((await client.plan({ devices: ['dunmoor-rt-1', 'dunmoor-sw-1'], first: 0, atOnce: 2 })).id);
  });
  afterAll(() => scene?.end());

  /** The journal's places of an event of a device. */
  const at = (name: string, so: (e: JournalEntry['event']) => boolean): number[] =>
    heard.flatMap(({ event }, i) => ('run' in event && event.run === ids.get(name) && so(event) ? [i] : []));

  it('keep apart while an image is staged on the switch ahead of a rollout', () => {
    expect(put).toMatchObject({ state: 'verified' });
    const entered = before.find(({ event }) => event.kind === 'stretch-entered' && event.stretch === 2)!;
    expect(entered.event.at).toBeGreaterThanOrEqual(Date.parse(put!.endedAt!) - 1);
  });

  it('are both verified', () => {
    expect(ended.runs.map((r) => r.outcome)).toEqual(['verified', 'verified']);
    for (const name of ['dunmoor-rt-1', 'dunmoor-sw-1']) expect(scene.fleet.device(name).counters).toMatchObject({ powerLosses: 0 });
    expect(scene.fleet.device('dunmoor-sw-1').counters).toMatchObject({ reboots: 1, activations: 1 });
  });

  it('are never under way against each other: the router goes down only while nobody below it is written', () => {
    const [from] = at(
      'dunmoor-rt-1',
      (e) => e.kind === 'stretch-entered' && e.claims.some((c) => c.mode === 'exclusive' && c.key.startsWith('up:')),
    );
    const [to] = at('dunmoor-rt-1', (e) => e.kind === 'step-done' && e.step === 'checks');
    const writes = at('dunmoor-sw-1', (e) => e.kind === 'step-begun' && ['transfer', 'activate', 'reboot', 'return'].includes(e.step));
    const ends = at('dunmoor-sw-1', (e) => e.kind === 'step-done' && ['verify-image', 'checks'].includes(e.step));
    expect(writes).toHaveLength(4);
    for (const begun of writes) {
      const over = ends.find((e) => e > begun)!;
      expect(
        begun > to! || over < from!,
        `the switch had begun ${begun} and ended ${over}; the router was down from ${from} to ${to}`,
      ).toBe(true);
    }
  });

  it('say why they wait', () => {
    const about = [...said].filter((s) => s.includes('dunmoor-rt-1') && s.includes('dunmoor-sw-1'));
    expect(about.length, [...said].join('; ')).toBeGreaterThan(0);
    for (const text of about)
      expect(text).toMatch(
        /^(dunmoor-rt-1 waits for dunmoor-sw-1: it hangs on this device, and must not lose it now|dunmoor-sw-1 waits for dunmoor-rt-1, on which it hangs, to be back)$/,
      );
  });

  it('read as they are in the command line', async () => {
    const { code, out } = await barrow(['rollout', 'show', ended.id], { data: scene.data });
    expect(code).toBe(0);
    expect(out).toContain('verified');
  });
});

describe('a switch that failed, and the router above it', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 112, only: ['quay-rt-1', 'dunmoor-rt-1', 'dunmoor-sw-1'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('is guarded until a person has looked: another rollout waits, says for whom, and goes on when it is released', async () => {
    const { client } = scene.served;
    scene.fleet.fault('dunmoor-sw-1', 'never-returns');
    const plan = await client.plan({ devices: ['dunmoor-sw-1', 'quay-rt-1'], first: 0, atOnce: 1 });
    await client.say(plan.id, 'start');
    const held = await rolloutUntil(client, plan.id, isHeld);
    expect(held.runs.find((r) => r.name === 'dunmoor-sw-1')).toMatchObject({
      outcome: 'failed',
      cause: { code: 'never-returned' },
      guarded: true,
    });
    const above = await client.plan({ devices: ['dunmoor-rt-1'], first: 0 });
    await client.say(above.id, 'start');
    const waits = (r: Rollout) => r.runs[0]!.phase === 'parked' && r.runs[0]!.step === 'activate';
    const parked = await rolloutUntil(client, above.id, waits);
    const why = 'waits for dunmoor-sw-1 (failed: retry it, or release it): it hangs on this device, and must not lose it now';
    expect(parked.runs[0]!.waits?.text).toBe(why);
    const shown = await barrow(['rollout', 'show', above.id], { data: scene.data });
    expect(shown.out.replace(/\s+/g, ' ')).toContain(`parked before activate: ${why}`);
    expect(scene.fleet.device('dunmoor-rt-1').counters.reboots).toBe(0);
    const released = await barrow(['rollout', 'release', plan.id, 'dunmoor-sw-1', '--reason', 'its lamps are dark'], { data: scene.data });
    expect(released).toMatchObject({ code: 0, err: '' });
    expect((await rolloutUntil(client, above.id, isEnded)).totals).toMatchObject({ verified: 1 });
    const again = await barrow(['rollout', 'release', plan.id, 'dunmoor-sw-1'], { data: scene.data });
    expect(again.code).toBe(4);
    expect(again.err).toContain('dunmoor-sw-1 holds nothing');
    expect((await client.report(plan.id)).deeds.map((d) => d.what)).toContain('released dunmoor-sw-1: its lamps are dark');
  });
});
