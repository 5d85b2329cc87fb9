import { describe, expect, it } from 'vitest';
import { apply, initialState, Ledger, type Claim, type Holder } from '@barrow/core';
import { passage, planOf, type PlanShape } from './plans.js';
import { World } from './world.js';

const one: Holder = { rollout: 'r-a', run: 'd1' };
const two: Holder = { rollout: 'r-a', run: 'd2' };
const other: Holder = { rollout: 'r-b', run: 'd1' };
const shared = (key: string): Claim => ({ key, mode: 'shared' });
const exclusive = (key: string): Claim => ({ key, mode: 'exclusive' });
const named = ({ rollout, run }: Holder): string => `${rollout}/${run}`;
/** All at one site, in the order of their numbers; `id`: several share one ledger. */
const world = (shape: Partial<PlanShape> = {}, ledger = new Ledger(), together: World[] = []): World =>
  new World(planOf({ devices: 3, first: 0, atOnce: 9, each: [1, 2, 3].map(() => ({ site: 'a' })), ...shape }), ledger, together);
/** Begun, and its wave open: nobody has entered. */
const opened = (shape: Partial<PlanShape> = {}, ledger = new Ledger(), together: World[] = []): World => {
  const made = world(shape, ledger, together);
  made.happen({ kind: 'wave-opened', at: made.now, wave: 0 });
  return made;
};
const enter = (w: World, left: readonly number[] = [], wall = w.now, now = wall): number[] =>
  [...w.ledger.enter(w.state, new Set(left), wall, now)].map(({ index }) => index);

describe('the ledger', () => {
  it('lets many share a key up to the least limit of all rollouts, and one alone have it', () => {
    const ledger = new Ledger();
    ledger.hold(one, [shared('up:x'), exclusive('device:x')]);
    expect(ledger.admits(shared('up:x'), named(two))).toBe(true);
    expect(ledger.admits(exclusive('up:x'), named(two))).toBe(false);
    expect(ledger.admits(exclusive('up:x'), named(one))).toBe(true);
    expect(ledger.admits(shared('device:x'), named(two))).toBe(false);
    expect(ledger.admits(shared('device:x'), named(one))).toBe(true);
    expect(ledger.admits(exclusive('nobody:has'), named(two))).toBe(true);
    expect(ledger.mostOf('rollout')).toBe(Infinity);
    const a = world({ atOnce: 2, id: 'r-a' }, ledger);
    const key = a.plan.runs[0]!.room[0]!;
    expect(ledger.mostOf(key)).toBe(2);
    ledger.hold(two, [shared(key)]);
    expect(ledger.admits(shared(key), named(other))).toBe(true);
    ledger.hold(other, [shared(key)]);
    expect(ledger.admits(shared(key), 'r-c/d1')).toBe(false);
    // Who holds one of the places itself may keep it.
    expect(ledger.admits(shared(key), named(other))).toBe(true);
    ledger.remove('r-a');
    expect(ledger.mostOf(key)).toBe(Infinity);
    expect(ledger.admits(shared(key), 'r-c/d1')).toBe(true);
  });

  it('knows who holds what, and what of several claims cannot be had: the first, or the one that tells most', () => {
    const ledger = new Ledger();
    ledger.hold(one, [exclusive('site:a'), exclusive('device:x'), exclusive('up:x')]);
    expect(ledger.holdersOf('device:x')).toEqual([one]);
    expect(ledger.holdersOf('device:y')).toEqual([]);
    const claims = [shared('store:q'), shared('site:a'), exclusive('device:x'), shared('up:x')];
    expect(ledger.lacks(claims, two)).toEqual(shared('site:a'));
    expect(ledger.lacksMost(claims, two)).toEqual(exclusive('device:x'));
    expect(ledger.lacksMost([shared('store:q'), shared('site:a')], two)).toEqual(shared('site:a'));
    expect([ledger.lacks(claims, one), ledger.lacksMost(claims, one), ledger.lacks([shared('store:q')], two)]).toEqual([null, null, null]);
  });

  it('counts what is let go, and nothing that is held on to', () => {
    const ledger = new Ledger();
    const claims = [exclusive('device:x'), shared('up:x'), shared('up:x')];
    ledger.hold(one, claims);
    expect(ledger.releases).toBe(0);
    ledger.hold(one, [...claims]);
    expect(ledger.releases).toBe(0);
    for (const changed of [
      [exclusive('device:x'), shared('up:x')],
      [shared('device:x'), shared('up:x')],
      [exclusive('device:y'), shared('up:x')],
    ]) {
      const before = ledger.releases;
      ledger.hold(one, changed);
      expect(ledger.releases).toBe(before + 1);
    }
    expect(ledger.holdersOf('device:x')).toEqual([]);
    expect(ledger.admits(shared('device:x'), named(two))).toBe(true);
    ledger.hold(two, [shared('up:x')]);
    ledger.release(one);
    ledger.release(one);
    ledger.release('r-a/nobody');
    expect(ledger.releases).toBe(4);
    expect(ledger.holdersOf('up:x')).toEqual([two]);
    ledger.release(named(two));
    expect(ledger.holdersOf('up:x')).toEqual([]);
    // What one had for itself alone is for all again, once it is let go.
    ledger.hold(one, [exclusive('up:x')]);
    ledger.release(one);
    ledger.hold(two, [shared('up:x')]);
    expect(ledger.admits(shared('up:x'), named(other))).toBe(true);
  });

  it('keeps what has to be taken one after the other as far apart as any rollout says', () => {
    const ledger = new Ledger();
    expect(ledger.freeFrom('apart:a')).toBe(-Infinity);
    const a = opened({ apartMs: 1000, id: 'r-a' }, ledger);
    expect(ledger.freeFrom('apart:a')).toBe(-Infinity);
    const take = (w: World, run: string, at: number): void => {
      const claims = [{ key: 'apart:a', mode: 'shared' as const }];
      w.happen({ kind: 'stretch-entered', at, run, stretch: 0, attempt: 1, claims });
    };
    take(a, 'd1', 5000);
    expect(ledger.freeFrom('apart:a')).toBe(6000);
    expect(ledger.freeFrom('apart:b')).toBe(-Infinity);
    const b = opened({ apartMs: 3000, id: 'r-b', from: 11 }, ledger);
    expect(ledger.freeFrom('apart:a')).toBe(8000);
    // An earlier moment that is told later moves nothing.
    take(b, 'd11', 4000);
    expect(ledger.freeFrom('apart:a')).toBe(8000);
    ledger.remove('r-b');
    expect(ledger.freeFrom('apart:a')).toBe(6000);
    ledger.remove('r-a');
    expect(ledger.freeFrom('apart:a')).toBe(-Infinity);
    expect(ledger.mayBeTaken('r-a')).toBeNull();
  });
});

describe('who is let in', () => {
  it('goes by its place in the plan, holds what it claims from then on, and is not asked about again', () => {
    const w = opened({ atOnce: 2 });
    expect(enter(w)).toEqual([0, 1]);
    expect(w.ledger.holdersOf('device:d1').map(named)).toEqual(['r-test/d1']);
    expect(w.ledger.holdersOf('device:d3')).toEqual([]);
    // Nothing was let go meanwhile: there is nothing to look at.
    expect(enter(w)).toEqual([]);
    w.ledger.release({ rollout: 'r-test', run: 'd1' });
    expect(enter(w)).toContain(0);
  });

  it('is nobody of those who are left out, who keep their place', () => {
    const w = opened();
    expect(enter(w, [0, 2])).toEqual([1]);
    w.ledger.hold(one, [shared('x:x')]);
    w.ledger.release(one);
    expect(enter(w)).toEqual([0, 1, 2]);
  });

  it('waits for what another holds, and stands where it stood when that is free', () => {
    const w = opened();
    w.ledger.hold(one, [exclusive('device:d1')]);
    w.ledger.hold(two, [exclusive('device:d2')]);
    expect(enter(w)).toEqual([2]);
    w.ledger.release(two);
    w.ledger.release(one);
    expect(enter(w).slice(0, 2)).toEqual([0, 1]);
  });

  it('is who has begun before who has not', () => {
    const w = opened({ atOnce: 1 });
    // The first cannot begin yet: the second does.
    w.ledger.hold(one, [exclusive('device:d1')]);
    for (const step of ['preflight', 'backup']) {
      w.settle();
      w.happen({ kind: 'step-done', at: w.now, run: 'd2', step });
    }
    expect(w.state.runs.map((r) => r.phase)).toEqual(['waiting', 'parked', 'waiting']);
    w.ledger.release(one);
    expect(enter(w)).toEqual([1]);
  });

  it('waits again for what it needs, when that was there already and is retried', () => {
    const w = opened({ each: [{ site: 'a' }, { site: 'a' }, { site: 'a', needs: [{ leg: 0, device: 'd1' }] }] });
    const at = w.now;
    const d3 = w.state.indexOf.get('d3')!;
    w.happen({ kind: 'run-skipped', at, run: 'd1', by: 'Barrow', reason: 'there already' });
    w.happen({ kind: 'run-retried', at, run: 'd1', by: 'somebody' });
    expect(enter(w)).not.toContain(d3);
    w.happen({ kind: 'run-skipped', at, run: 'd1', by: 'Barrow', reason: 'there already' });
    expect(enter(w)).toContain(d3);
  });

  it('is taken up anew as it stood, with what it holds', () => {
    const w = opened({ atOnce: 2, apartMs: 1000 });
    w.settle();
    const anew = new Ledger();
    anew.add(w.state);
    expect(anew.holdersOf('device:d1').map(named)).toEqual(w.ledger.holdersOf('device:d1').map(named));
    expect(anew.holdersOf('device:d3')).toEqual([]);
    expect([...anew.enter(w.state)].map((c) => c.index)).toEqual([]);
    // Taken up twice, it is there once.
    anew.add(w.state);
    expect(anew.mostOf('rollout:r-test')).toBe(w.ledger.mostOf('rollout:r-test'));
    anew.remove('r-test');
    expect(anew.holdersOf('device:d1')).toEqual([]);
    expect([...anew.enter(w.state)]).toEqual([]);
  });

  it('of two rollouts is told apart, and what one lets go is looked at by the other', () => {
    const together: World[] = [];
    const ledger = new Ledger();
    const a = opened({ id: 'r-a' }, ledger, together);
    const b = opened({ id: 'r-b' }, ledger, together);
    expect(enter(a)).toEqual([0, 1, 2]);
    expect(enter(b)).toEqual([]);
    expect(enter(b)).toEqual([]);
    ledger.remove('r-a');
    expect(enter(b)).toEqual([0, 1, 2]);
    expect(enter(a)).toEqual([]);
  });

  it('of those that begin apart is one, and it says when the next may', () => {
    const down = passage(undefined, {
      ...{ name: 'at once', component: 'system', pointOfNoReturn: 'reboot' },
      stretches: [{ name: 'change', steps: ['reboot', 'return'].map((step) => ({ step, usualMs: 10 })) }],
    });
    const w = opened({ apartMs: 500, each: [1, 2, 3].map(() => ({ site: 'a', passage: down })) });
    expect(enter(w, [], 1000)).toEqual([0]);
    expect(w.ledger.mayBeTaken('r-test')).toBe(1500);
    w.ledger.hold(one, [shared('x:x')]);
    w.ledger.release(one);
    expect(enter(w, [0], 1499)).toEqual([]);
    expect(w.ledger.mayBeTaken('r-test')).toBe(1500);
    expect(enter(w, [0], 1500)).toEqual([1]);
    expect(w.ledger.mayBeTaken('r-test')).toBe(2000);
  });
});

describe('what it costs to let somebody in', () => {
  it('is a look at who gets in and at the first of each queue who does not, and nothing while nothing changed', () => {
    const w = opened({ atOnce: 1 });
    expect(enter(w)).toEqual([0]);
    expect(w.ledger.looks).toBe(2);
    expect(enter(w)).toEqual([]);
    expect(w.ledger.looks).toBe(2);
  });
});

describe('whose limits count', () => {
  it('are those that are under way: not of who is planned or has ended, whatever is noted of them', () => {
    const ledger = new Ledger();
    const [key] = [planOf({ devices: 1, id: 'r-a' }).runs[0]!.room[0]!];
    const state = initialState(planOf({ devices: 1, first: 0, atOnce: 2, id: 'r-a' }));
    const note = { kind: 'noted', at: 0, by: 'somebody', text: 'so' } as const;
    ledger.follow(state, note);
    expect(ledger.mostOf(key)).toBe(Infinity);
    ledger.follow(apply(state, { kind: 'rollout-started', at: 0, by: 'somebody' }), { kind: 'rollout-started', at: 0, by: 'somebody' });
    expect(ledger.mostOf(key)).toBe(2);
    state.phase = 'ended';
    ledger.follow(state, { kind: 'rollout-ended', at: 0 });
    ledger.follow(state, note);
    expect(ledger.mostOf(key)).toBe(Infinity);
  });
});

describe('of several queues', () => {
  const down = passage(undefined, {
    ...{ name: 'at once', component: 'system', pointOfNoReturn: 'reboot' },
    stretches: [{ name: 'change', steps: ['reboot', 'return'].map((step) => ({ step, usualMs: 10 })) }],
  });
  const six = ['a', 'a', 'b', 'b', 'c', 'c'].map((site) => ({ site, passage: down }));

  it('those are let in that come first, whichever queue they stand in', () => {
    /** Site by site, however long their ways are. */
    const bySite = (perSite: number, atOnce: number): World => {
      const plan = planOf({ devices: 6, first: 0, each: six, perSite, atOnce });
      const w = new World({ ...plan, runs: [...plan.runs].sort((a, b) => a.site.localeCompare(b.site)) });
      w.happen({ kind: 'wave-opened', at: w.now, wave: 0 });
      return w;
    };
    expect(enter(bySite(2, 3))).toEqual([0, 1, 2]);
    expect(enter(bySite(1, 2))).toEqual([0, 2]);
    expect(enter(bySite(1, 3))).toEqual([0, 2, 4]);
  });

  it('the first that may be taken again says when that is', () => {
    const w = opened({ devices: 6, each: six, apartMs: 500 });
    for (const [run, at] of [
      ['d1', 1000],
      ['d3', 700],
      ['d5', 900],
    ] as const)
      w.happen({
        kind: 'stretch-entered',
        at,
        run,
        stretch: 0,
        attempt: 1,
        claims: [shared(`apart:${w.plan.runs.find((r) => r.id === run)!.site}`)],
      });
    expect(enter(w, [], 1100)).toEqual([]);
    expect(w.ledger.mayBeTaken('r-test')).toBe(1200);
  });

  it('who waits for the one before it is one queue at each site, and looked at once', () => {
    const w = opened({ devices: 6, each: six, apartMs: 500 });
    expect(enter(w, [], 1000)).toEqual([0, 2, 4]);
    expect(w.ledger.looks).toBe(6);
  });
});

describe('windows', () => {
  const spans = [
    [1000, 200_000_000],
    [300_000_000, 500_000_000],
  ] as const;
  const down = passage(undefined, {
    ...{ name: 'at once', component: 'system', pointOfNoReturn: 'reboot' },
    stretches: [{ name: 'change', steps: ['reboot', 'return'].map((step) => ({ step, usualMs: 10 })) }],
  });
  const windowed = (): World => opened({ window: { text: 'a test', spans }, each: [1, 2, 3].map(() => ({ site: 'a', passage: down })) });

  it('keep those that need them out until they open, and say when that is, where somebody waits', () => {
    const w = windowed();
    expect(w.ledger.lookAtWindows(w.state, 0)).toEqual({ next: null, over: [] });
    expect(enter(w, [], 0)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 0)).toEqual({ next: 1000, over: [] });
    expect(enter(w, [], 0)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 1000)).toEqual({ next: null, over: [] });
    expect(enter(w, [], 1000)).toEqual([0, 1, 2]);
  });

  it('of which one is too short any more send them to the next, and are over after the last', () => {
    const w = windowed();
    expect(enter(w, [], 199_999_999)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 199_999_999).next).toBeNull();
    expect(enter(w, [], 199_999_999)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 199_999_999)).toEqual({ next: 300_000_000, over: [] });
    expect(w.ledger.lookAtWindows(w.state, 250_000_000).next).toBeNull();
    expect(enter(w, [], 250_000_000)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 250_000_000)).toEqual({ next: 300_000_000, over: [] });
    w.ledger.lookAtWindows(w.state, 600_000_000);
    expect(enter(w, [], 600_000_000)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 600_000_000)).toEqual({ next: null, over: Object.keys(w.plan.windows!) });
  });

  it.each([
    [[3000, 2000, 4000], 2000],
    [[2000, 3000, 4000], 2000],
    [[4000, 3000, 2000], 2000],
  ])('that open at %j wake it for the first of them', (opens, first) => {
    const w = opened({
      each: opens.map((from, i) => ({
        site: 'a',
        passage: down,
        window: { name: `night ${i}`, window: { text: `from ${from}`, spans: [[from, 100_000_000]] as const } },
      })) as never,
    });
    w.ledger.lookAtWindows(w.state, 0);
    expect(enter(w, [], 0)).toEqual([]);
    expect(w.ledger.lookAtWindows(w.state, 0)).toEqual({ next: first, over: [] });
    // Who waits for another one is not looked at.
    expect(w.ledger.looks).toBe(3);
    w.ledger.lookAtWindows(w.state, first);
    expect(enter(w, [], first)).toEqual([opens.indexOf(first)]);
    expect(w.ledger.looks).toBe(4);
  });

  it('are those of one rollout, as is when all is to be done', () => {
    const ledger = new Ledger();
    const together: World[] = [];
    const shape = { window: { text: 'a test', spans }, each: [1, 2, 3].map(() => ({ site: 'a', passage: down })) };
    const a = opened({ id: 'r-a', ...shape }, ledger, together);
    const b = opened({ id: 'r-b', from: 11, ...shape }, ledger, together);
    for (const w of [a, b]) ledger.lookAtWindows(w.state, 0);
    expect(enter(a, [], 0)).toEqual([]);
    expect(ledger.lookAtWindows(b.state, 0)).toEqual({ next: null, over: [] });
    for (const w of [a, b]) w.state.doneBy = 1005;
    ledger.lookAtWindows(a.state, 1000);
    expect(enter(a, [], 1000)).toEqual([]);
    expect([ledger.isTooLate(a.state), ledger.isTooLate(b.state)]).toEqual([true, false]);
  });
});
