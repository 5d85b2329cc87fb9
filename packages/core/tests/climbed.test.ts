import { describe, expect, it } from 'vitest';
import { climbedOf, rolloutEventSchema, type RolloutEvent } from '@barrow/core';
import { namedAt } from './full-scan.js';
import { nineSteps, passage, planOf } from './plans.js';
import { World } from './world.js';

const power = { device: 'd9', name: 'strip', outlet: 'outlet 3' };
const started = (wayBack = true): World => {
  const way = passage(['4.2.1', '4.3.0'], nineSteps(), false, false, true);
  const world = new World(planOf({ devices: 1, first: 0, wayBack, each: [{ passage: way, power }] }));
  world.settle();
  return world;
};
const done = (world: World): void => {
  world.happen({ kind: 'step-done', at: world.now, run: 'd1', ...namedAt(world.state, 0) });
  world.settle();
};
const failAt = (world: World, step: string, cause: string): void => {
  for (let n = 0; n < 20 && namedAt(world.state, 0).step !== step; n++) done(world);
  world.happen({ kind: 'step-failed', at: world.now, run: 'd1', ...namedAt(world.state, 0), cause, detail: `${cause} it was` });
  world.settle();
};
const toItsEnd = (world: World): void => {
  for (let n = 0; n < 20 && world.state.runs[0]!.phase !== 'ended'; n++) done(world);
};
const of = (world: World) => climbedOf(world.state.plan, world.journal).get('d1');

describe('the rungs that a run was tried by', () => {
  it('are none where nothing failed, or nothing was tried for it', () => {
    const well = started();
    toItsEnd(well);
    expect(of(well)).toBeUndefined();
    const badly = started(false);
    failAt(badly, 'return', 'never-returned');
    expect(badly.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'failed' });
    expect(of(badly)).toBeUndefined();
  });

  it('are told also where the last of them worked; the state of the run keeps only what failed first, and what worked', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    expect(of(world)).toMatchObject([{ rung: 0, cause: 'never-returned', by: null, endedAt: null, failed: null }]);
    failAt(world, 'return', 'never-returned');
    toItsEnd(world);
    expect(world.state.runs[0]).toMatchObject({ outcome: 'verified', cause: null, rung: null, tried: [{ rung: 0 }] });
    expect(world.state.runs[0]!.mended).toEqual([{ rung: 1, cause: 'never-returned', detail: 'never-returned it was', unsure: null }]);
    const [waited, cut, ...more] = of(world)!;
    expect(more).toEqual([]);
    expect(waited).toMatchObject({ rung: 0, failed: { cause: 'never-returned', detail: 'never-returned it was' } });
    expect(cut).toMatchObject({ rung: 1, cause: 'never-returned', detail: 'never-returned it was', failed: null });
    expect(cut!.begunAt).toBeGreaterThanOrEqual(waited!.endedAt!);
    expect(cut!.endedAt).not.toBeNull();
  });

  it('name what each was tried for, and fail with the run', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    failAt(world, 'checks', 'old-version');
    failAt(world, 'take-stock', 'unreachable');
    expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'failed' });
    expect(of(world)!.map((c) => [c.rung, c.cause, c.failed?.cause])).toEqual([
      [0, 'never-returned', 'never-returned'],
      [1, 'never-returned', 'old-version'],
      [2, 'old-version', 'unreachable'],
    ]);
  });

  it('do not say that it worked where nobody knows whether it was done', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    const named = namedAt(world.state, 0);
    expect(named.step).toBe('cut-power');
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', ...named, facts: { unsure: 'it did not answer' } });
    world.settle();
    toItsEnd(world);
    expect(of(world)!.map((c) => c.unsure)).toEqual([null, 'it did not answer']);
    expect(world.state.runs[0]).toMatchObject({ unsure: null, mended: [{ rung: 1, unsure: 'it did not answer' }] });
  });

  it('are no longer said to be unsure by the next one, and are forgotten by the state when it is tried anew', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', ...namedAt(world.state, 0), facts: { unsure: 'it did not answer' } });
    world.settle();
    expect(world.state.runs[0]!.unsure).toBe('it did not answer');
    failAt(world, 'checks', 'old-version');
    toItsEnd(world);
    const back = { rung: 2, cause: 'never-returned', detail: 'never-returned it was', unsure: null };
    expect(world.state.runs[0]).toMatchObject({ outcome: 'recovered', unsure: null, mended: [back] });
    world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
    expect(world.state.runs[0]!.mended).toEqual([]);
  });

  it('say on whose word, and keep what was tried before it', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    const word: RolloutEvent = { kind: 'take-back-asked', at: world.now, run: 'd1', by: 'somebody' };
    world.happen(word);
    world.settle();
    toItsEnd(world);
    expect(of(world)!.map((c) => [c.rung, c.by, c.failed?.cause ?? 'worked'])).toEqual([
      [0, null, 'never-returned'],
      [1, null, 'never-returned'],
      [0, 'somebody', 'worked'],
    ]);
  });

  it('are read from a damaged journal as far as it goes', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    const strange = rolloutEventSchema.parse({ kind: 'gate-passed', at: 1, wave: 0 });
    const told = climbedOf(world.state.plan, [...world.journal, strange, ...world.journal]);
    expect(told.get('d1')!.map((c) => c.rung)).toEqual([0, 1]);
  });
});
