import { describe, expect, it } from 'vitest';
import { checkSettled, checkWord, rehearse, whyWaiting } from '@barrow/core';
import { namedAt } from './full-scan.js';
import { nineSteps, passage, planOf } from './plans.js';
import { World } from './world.js';

const gate = { soakMs: 60_000, failureLimit: 1, approval: false };
const proves = (versions?: string[]) => ({ passage: passage(versions, nineSteps(), false, true) });
const started = (shape: Parameters<typeof planOf>[0] = {}): World => {
  const world = new World(planOf({ devices: 2, first: 1, gate, each: [{ site: 'a', ...proves() }, proves()], ...shape }));
  world.settle();
  return world;
};
const run = (world: World, index = 0) => world.state.runs[index]!;
const why = (world: World, index = 0) => whyWaiting(world.state, index, world.ledger, (h) => h.run)?.text ?? null;
const done = (world: World, times = 1, id = 'd1'): void => {
  for (let n = 0; n < times; n++) {
    world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
    world.settle();
  }
};
const pass = (world: World, ms: number): void => {
  world.now += ms;
  world.settle();
};

describe('a device that is looked at again after the soak', () => {
  it('reaches its target, soaks with its wave, is looked at again, and only then do the others begin', () => {
    const world = started();
    done(world, 9);
    expect(run(world)).toMatchObject({ phase: 'parked', legs: 1, met: true, pastReturn: false, claims: null, outcome: null });
    expect(world.state.waves[0]).toMatchObject({ phase: 'soaking', active: 1, soaking: 1 });
    expect(why(world)).toBe('has reached its target, and soaks with wave 1 (first)');
    pass(world, 59_999);
    expect(run(world).phase).toBe('parked');
    pass(world, 1);
    expect(world.state.waves[0]).toMatchObject({ phase: 'proving', soaking: 0 });
    expect(namedAt(world.state, 0)).toEqual({ step: 'settle' });
    expect(run(world, 1).phase).toBe('waiting');
    done(world, 2);
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'verified' });
    expect(world.state.waves.map((w) => w.phase)).toEqual(['passed', 'open']);
    expect(run(world, 1).phase).toBe('busy');
  });

  it('is looked at again in the last wave too, which soaks for it', () => {
    const world = started({ devices: 1, first: 0 });
    expect(world.plan.waves.map((w) => w.gate.soakMs)).toEqual([60_000]);
    done(world, 9);
    expect(world.state.phase).toBe('running');
    pass(world, 60_000);
    done(world, 2);
    expect(world.state.phase).toBe('ended');
    expect(planOf({ devices: 1, first: 0, gate }).waves[0]!.gate.soakMs).toBe(0);
  });

  it('waits beside others of its wave that go on', () => {
    const world = started({ devices: 2, first: 0, each: [{ site: 'a', ...proves() }, proves()] });
    done(world, 9);
    expect(world.state.waves[0]).toMatchObject({ phase: 'open', soaking: 1 });
    expect(why(world)).toBe('has reached its target, and soaks with wave 1 (all)');
    done(world, 9, 'd2');
    expect(world.state.waves[0]).toMatchObject({ phase: 'soaking', soaking: 2 });
  });

  it('is enough for those that need it, who would else wait for it while it waits for them', () => {
    const each = [
      { site: 'a', ...proves() },
      { ...proves(), needs: [{ leg: 0, device: 'd1' }] },
    ];
    const world = started({ devices: 2, first: 0, each });
    expect(run(world, 1).phase).toBe('waiting');
    done(world, 9);
    expect(run(world, 1).phase).toBe('busy');
    done(world, 9, 'd2');
    pass(world, 60_000);
    done(world, 2);
    done(world, 2, 'd2');
    expect(world.state.phase).toBe('ended');
  });

  it('has failed when it has not settled: the others do not begin, and it is not taken back by itself', () => {
    const world = started({ wayBack: true });
    done(world, 9);
    pass(world, 60_000);
    const cause = 'restarted-in-soak';
    world.happen({ kind: 'step-failed', at: world.now, run: 'd1', ...namedAt(world.state, 0), cause, detail: 'it was' });
    world.settle();
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause, rung: null });
    expect(world.state).toMatchObject({ phase: 'held', heldBecause: '1 failed in wave 1 (first); the limit is 1' });
    expect(checkWord(world.state, { kind: 'take-back-asked', at: 0, run: 'd1', by: '' })).toBe(
      'sw-1 has reached its target: what failed came after its soak',
    );
    // Retried it is looked at again, and nothing else is done.
    world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(namedAt(world.state, 0)).toEqual({ step: 'settle' });
    done(world, 2);
    expect(run(world).outcome).toBe('verified');
  });

  it('is verified, and not withdrawn, when the rollout is stopped while it soaks, or it is left out', () => {
    const world = started();
    done(world, 9);
    world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
    world.settle();
    expect(run(world)).toMatchObject({ outcome: 'verified', detail: 'stopped before settle; its other copy was not brought level' });
    expect(run(world, 1).outcome).toBe('withdrawn');
    expect(world.state.phase).toBe('ended');
    const other = started();
    done(other, 9);
    other.happen({ kind: 'skip-asked', at: other.now, run: 'd1', by: 'somebody', reason: 'enough' });
    other.settle();
    expect(run(other)).toMatchObject({ outcome: 'verified', detail: 'enough; its other copy was not brought level' });
    expect(other.state.waves[0]).toMatchObject({ phase: 'soaking', soaking: 0, active: 0 });
  });

  it('soaks as well, and is looked at again, when all was brought and is compared by another attempt', () => {
    const world = started();
    done(world, 8);
    const { id } = world.plan.runs[0]!;
    world.happen({ kind: 'step-failed', at: world.now, run: id, ...namedAt(world.state, 0), cause: 'ports-down', detail: '' });
    world.settle();
    world.happen({ kind: 'run-retried', at: world.now, run: id, by: 'somebody' });
    world.settle();
    if (world.state.phase === 'held') world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(namedAt(world.state, 0).step).toBe('preflight');
    world.happen({ kind: 'leg-proven', at: world.now, run: id, leg: 0, reason: 'compared again' });
    expect(run(world)).toMatchObject({ phase: 'parked', legs: 1, met: true, outcome: null });
    world.settle();
    pass(world, 60_000);
    expect(namedAt(world.state, 0)).toEqual({ step: 'settle' });
    done(world, 2);
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'verified' });
  });

  it('is brought level once, after its last image', () => {
    const made = passage(['4.2.1', '4.3.0', '5.0.0'], nineSteps(), true, true);
    expect(made.steps.filter((s) => s.step === 'level').map((s) => [s.leg, s.pastReturn])).toEqual([[1, false]]);
    expect(made.stretches.filter((s) => s.afterSoak)).toHaveLength(1);
    // What leads back is not led by the last stretch of the way.
    expect(made.rungs.map((r) => r.means)).toEqual(['wait', 'other-slot', 'earlier-image', 'wait', 'other-slot', 'earlier-image']);
    expect(made.stretches.slice(-4).map((s) => s.name)).toEqual(['other-slot', 'earlier-image', 'other-slot', 'earlier-image']);
  });

  it('is rehearsed with its soak', () => {
    const with_ = rehearse(planOf({ devices: 1, first: 0, gate, each: [proves()] }), 0);
    const without = rehearse(planOf({ devices: 1, first: 0, gate }), 0);
    expect(with_.endsAt - without.endsAt).toBe(60_000 + 2 * 11_000);
  });

  it('has settled only when it counts the boots that it counted, and tells them', () => {
    expect(checkSettled('42', '42')).toMatchObject({ result: 'passed', cause: null });
    expect(checkSettled('42', '43')).toMatchObject({ result: 'failed', cause: 'restarted-in-soak', before: '42 boots', after: '43 boots' });
    expect(checkSettled('42', null)).toMatchObject({ result: 'failed', after: 'not told' });
  });
});
