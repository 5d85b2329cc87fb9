import { describe, expect, it } from 'vitest';
import {
  decide,
  fold,
  initialState,
  Ledger,
  makePassage,
  NeedsInCircle,
  readPlan,
  rehearse,
  whyWaiting,
  type Plan,
  type Way,
} from '@barrow/core';
import { nineSteps, planOf } from './plans.js';
import { World } from './world.js';

const minute = 60_000;
const gate = { soakMs: 0, failureLimit: 9, approval: false };
/** All of one site, any number of them at once. */
const together = (devices: number, apartMs: number, over: object = {}): Plan =>
  planOf({ devices, first: 0, atOnce: 50, apartMs, gate, each: Array.from({ length: devices }, () => ({ site: 'quay', ...over })) });

describe('devices of one site', () => {
  it('begin to go down as far apart as was said, and bring their images at once', () => {
    const played = rehearse(together(4, 30 * minute), 0);
    const begins = played.runs.map((r) => r.downFrom!).sort((a, b) => a - b);
    for (const [i, at] of begins.slice(1).entries()) expect(at - begins[i]!).toBe(30 * minute);
    expect(played.mostAtOnce).toBe(4);
    expect(rehearse(together(4, 0), 0).endsAt).toBeLessThan(30 * minute);
  });

  it('wait for nobody of another site', () => {
    const one = rehearse(planOf({ devices: 3, first: 0, atOnce: 9, apartMs: 30 * minute, gate }), 0);
    expect(one.endsAt).toBeLessThan(30 * minute);
  });

  it('say so while they wait, and until when', () => {
    const world = new World(together(2, 10 * minute));
    world.settle();
    while (world.state.runs.every((r) => r.phase !== 'parked' || r.stretch !== 2)) finishStep(world);
    world.settle();
    while (world.runsIn('busy').length > 1) finishStep(world);
    const waiting = world.state.runs.findIndex((r) => r.phase === 'parked');
    const why = whyWaiting(world.state, waiting, world.ledger, () => '', world.now);
    expect(why).toEqual({ text: 'waits: the one before it at quay has begun only just now', until: world.now + 10 * minute });
    // A ledger that is made anew from what stands there knows it too.
    const anew = new Ledger();
    anew.add(fold(world.plan, world.journal));
    expect(whyWaiting(world.state, waiting, anew, () => '', world.now)).toEqual(why);
    world.finish();
    expect(world.state.phase).toBe('ended');
  });

  it('wait for one that is taken back at that very moment', () => {
    const minutes = 10 * minute;
    const world = new World({ ...together(2, minutes), wayBack: true });
    const [first, second] = world.plan.runs.map((r) => r.id);
    const stands = (id: string) => world.state.runs[world.state.indexOf.get(id)!]!;
    world.settle();
    while (!stands(first!).pastReturn) finishStep(world, first);
    while (stands(second!).stretch < 2) finishStep(world, second);
    const { step } = world.plan.passages[0]!.steps[stands(first!).step]!;
    world.happen({ kind: 'step-failed', at: world.now, run: first!, step, cause: 'never-returned', detail: 'silent' });
    expect(world.state.runs.map((r) => r.phase)).toEqual(['broken', 'parked']);
    // It is the other's turn at the very moment in which the first one is broken.
    world.now = world.ledger.freeFrom('apart:quay');
    const entered = decide(world.state, world.ledger, world.now).flatMap((c) => (c.kind === 'enter-stretch' ? [c.run] : []));
    expect(entered).toEqual([first]);
    expect(world.ledger.freeFrom('apart:quay')).toBe(world.now + minutes);
  });

  it('are taken back without that wait', () => {
    const world = new World({ ...together(2, 10 * minute), wayBack: true });
    world.settle();
    for (let step = 0; step < 40 && world.state.runs.every((r) => r.rung === null); step++) {
      const past = world.runsIn('busy').find(({ index }) => world.state.runs[index]!.pastReturn);
      if (!past) {
        finishStep(world);
        continue;
      }
      const step = world.plan.passages[0]!.steps[world.state.runs[past.index]!.step]!.step;
      world.happen({ kind: 'step-failed', at: world.now, run: past.id, step, cause: 'never-returned', detail: 'silent' });
      world.settle();
    }
    expect(world.state.runs.filter((r) => r.rung !== null && r.phase === 'busy')).toHaveLength(1);
  });

  function finishStep(world: World, of?: string): void {
    const busy = world.runsIn('busy');
    const { id, index } = busy.find((r) => r.id === of) ?? busy[0]!;
    const { step } = world.plan.passages[0]!.steps[world.state.runs[index]!.step]!;
    world.happen({ kind: 'step-done', at: world.now, run: id, step });
    world.settle();
  }
});

describe('what is handled through one parent', () => {
  it('begins to go down as far apart as its family says', () => {
    const way: Way = { ...nineSteps(), throughParent: { most: 9, apartMs: 20 * minute } };
    const through = makePassage([{ image: 'a'.repeat(64), component: 'system', from: '4.2.1', to: '4.3.0', bytes: 0, way }], 2);
    const plan = planOf({
      devices: 3,
      first: 0,
      atOnce: 9,
      gate,
      each: Array.from({ length: 3 }, () => ({ via: 'wlc', passage: through })),
    });
    expect(plan.spacing).toEqual({ 'parent:wlc': 10 * minute });
    const begins = rehearse(plan, 0).runs.map((r) => r.downFrom!);
    expect(Math.max(...begins) - Math.min(...begins)).toBe(20 * minute);
    expect(readPlan(JSON.parse(JSON.stringify(plan)))).toEqual(plan);
  });
});

describe('runs that wait for each other', () => {
  const needing = (...needs: number[]) => ({ needs: needs.map((n) => ({ leg: 0, device: `d${n}` })) });

  it('are refused when they are planned, by name', () => {
    expect(() => planOf({ devices: 3, each: [needing(3), needing(1), needing(2)] })).toThrow(NeedsInCircle);
    expect(() => planOf({ devices: 4, first: 0, each: [{}, needing(4), needing(1, 2), needing(3)] })).toThrow(
      'sw-3 waits for sw-2 waits for sw-4 waits for sw-3',
    );
    expect(() => planOf({ devices: 3, each: [needing(1)] })).toThrow('sw-1 waits for sw-1');
  });

  it('are refused when they are read, so that no rollout waits for ever', () => {
    const plan = planOf({ devices: 3, each: [{}, needing(1), needing(2)] });
    expect(readPlan(JSON.parse(JSON.stringify(plan)))).toEqual(plan);
    const runs = plan.runs.map((r) => (r.id === 'd1' ? { ...r, needs: [{ leg: 0, run: 'd3' }] } : r));
    expect(() => readPlan(JSON.parse(JSON.stringify({ ...plan, runs })))).toThrow(NeedsInCircle);
  });

  it('are not those that stand in a row, however long and however often one is named', () => {
    const each = Array.from({ length: 300 }, (_, i) => (i === 0 ? {} : needing(i, 1)));
    const plan = planOf({ devices: 300, first: 0, atOnce: 300, each, gate });
    const first = plan.runs.findIndex((r) => r.id === 'd1');
    // The second names it twice.
    expect(initialState(plan).dependants.get(first)).toHaveLength(300);
    expect(initialState(planOf({ devices: 3 })).dependants.size).toBe(0);
  });
});

describe('what only a person can do', () => {
  it('is asked while others hold every place, and holds none', () => {
    const [first, ...more] = nineSteps().stretches;
    const asks: Way = {
      ...nineSteps(),
      stretches: [{ name: 'seat', steps: [{ step: 'by-hand', usualMs: minute, words: 'Open it.' }] }, first!, ...more],
    };
    const byHand = makePassage([{ image: 'a'.repeat(64), component: 'system', from: '4.2.1', to: '4.3.0', bytes: 0, way: asks }]);
    const world = new World(
      planOf({
        devices: 3,
        first: 0,
        atOnce: 1,
        gate,
        each: [{ site: 'a' }, { site: 'b', passage: byHand }, { site: 'c', passage: byHand }],
      }),
    );
    world.settle();
    const steps = world
      .runsIn('busy')
      .map(({ index }) => world.plan.passages[world.plan.runs[index]!.passage]!.steps[world.state.runs[index]!.step]!.step);
    expect(steps.sort()).toEqual(['by-hand', 'by-hand', 'preflight']);
  });
});
