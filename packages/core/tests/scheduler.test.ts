import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  apply,
  whyWaiting,
  check,
  checkWord,
  fold,
  ImpossibleEvent,
  Ledger,
  firstSteps,
  type Candidate,
  type Division,
  type RolloutEvent,
} from '@barrow/core';
import { allHoldings, namedAt } from './full-scan.js';
import { atItsHour, hours, nineSteps, passage, planOf, withSides } from './plans.js';
import { World } from './world.js';

/** Runs of one, two or three images. */
const several = ['4.2.1', '4.3.0', '5.0.0', '5.1.0'];
const legs = [2, 3, 4].flatMap((n) =>
  [false, true].flatMap((proves) =>
    [false, true].map((earlier) => ({ passage: passage(several.slice(0, n), undefined, earlier, proves) })),
  ),
);
/** Some set something aside meanwhile, or come by themselves at an hour of their own. */
const odd = [1, 2].flatMap((n) => {
  const versions = several.slice(0, n + 1);
  const hourly = { passage: passage(versions, atItsHour(nineSteps()), false, n === 1), window: hours };
  const both = { passage: passage(versions, withSides(atItsHour(nineSteps()))), window: hours };
  return [{ passage: passage(versions, withSides(nineSteps()), true, n === 1) }, hourly, both];
});
const passages = fc.array(fc.constantFrom<Partial<Candidate>>(...legs, ...odd), { minLength: 16, maxLength: 16 });
/** Each may need some of those before it, from its first leg or its second on. */
const needs = fc
  .array(fc.array(fc.record({ leg: fc.integer({ min: 0, max: 1 }), back: fc.integer({ min: 1, max: 5 }) }), { maxLength: 2 }), {
    minLength: 16,
    maxLength: 16,
  })
  .map((all) => all.map((list, i) => ({ needs: list.map(({ leg, back }) => ({ leg, device: `d${i + 1 - back}` })) })));

/** Open for an hour, closed for an hour. */
const everyOtherHour = { text: '', spans: Array.from({ length: 10_000 }, (_, i) => [i * 7_200_000, i * 7_200_000 + 3_600_000] as const) };

const shapes = fc.record({
  devices: fc.integer({ min: 1, max: 12 }),
  first: fc.integer({ min: 0, max: 3 }),
  atOnce: fc.integer({ min: 1, max: 5 }),
  perSite: fc.integer({ min: 0, max: 2 }),
  apartMs: fc.constantFrom(0, 0, 90_000, 3_000_000),
  wayBack: fc.boolean(),
  window: fc.constantFrom(null, everyOtherHour),
  gate: fc.record(
    {
      soakMs: fc.integer({ min: 0, max: 120_000 }),
      failureLimit: fc.integer({ min: 1, max: 3 }),
      failureShare: fc.constantFrom(10, 34, 50, 80),
      absentLimit: fc.integer({ min: 0, max: 2 }),
      approval: fc.boolean(),
    },
    { requiredKeys: ['soakMs', 'failureLimit', 'approval'] },
  ),
  /** Two waves of a person's, and more by a rule. */
  named: fc.constantFrom(
    [],
    [],
    [
      { name: 'early', devices: ['d2', 'd11'] },
      { name: 'then', devices: ['d3', 'd5', 'd9'] },
    ],
  ),
  by: fc.constantFrom<Division | null>(null, null, 'site', [30, 30]),
});

/** What hangs on what, at random: nearer numbers more often, over the border of two rollouts too. */
const guards = fc.array(
  fc.record({
    under: fc.uniqueArray(fc.integer({ min: 1, max: 16 }), { maxLength: 4 }).map((list) => list.map((n) => `d${n}`)),
    rings: fc.subarray(['a', 'b']),
    feeds: fc.subarray([
      { device: 'x', of: 2 },
      { device: 'y', of: 3 },
    ]),
    radio: fc.subarray([{ device: 'z', of: 2 }]),
    needsUp: fc.subarray(['d2', 'd10']),
  }),
  { minLength: 16, maxLength: 16 },
);

describe('the scheduler, whatever happens in whatever order', () => {
  it('lets nobody go down above who is writing, nor two of a ring, nor the last feed, over two rollouts and many restarts', () => {
    const moves = fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000), fc.boolean()), { minLength: 60, maxLength: 160 });
    fc.assert(
      fc.property(shapes, shapes, guards, passages, needs, moves, (one, two, hanging, of, needed, all) => {
        const each = hanging.map((h, i) => ({ ...h, ...of[i]!, ...needed[i]! }));
        const ledger = new Ledger();
        const together: World[] = [];
        const a = new World(planOf({ ...one, devices: Math.min(one.devices, 5), each, id: 'r-a' }), ledger, together);
        const b = new World(
          planOf({ ...two, devices: Math.min(two.devices, 5), each: each.slice(8), id: 'r-b', from: 9 }),
          ledger,
          together,
        );
        for (const [what, which, first] of all) {
          const world = first ? a : b;
          if (world.state.phase !== 'ended' || what >= 94) world.act(what, which);
          // What one lets go, the other may take.
          for (const other of together) other.settle();
        }
        for (let round = 0; round < 1000 && together.some((w) => w.state.phase !== 'ended'); round++)
          for (const world of together) world.finish(1);
        for (const world of together) {
          expect(world.state.phase).toBe('ended');
          expect(fold(world.plan, world.journal)).toEqual(world.state);
        }
        // Nothing is held any more, and a ledger made anew from what stands there knows the same.
        expect(allHoldings(together.map((w) => w.state))).toEqual([]);
        for (const key of ['ring:a', 'feeds:x', 'radio:z', ...each.map((_, i) => `up:d${i + 1}`)])
          expect(ledger.holdersOf(key)).toEqual([]);
      }),
      { numRuns: 70, endOnFailure: true },
    );
  });

  it('keeps every rule with all of them in one rollout: legs, rungs, needs, rings, feeds, soaks, words and restarts', () => {
    const moves = fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000)), { minLength: 60, maxLength: 170 });
    const proves = passage(['4.2.1', '4.3.0'], undefined, false, true, true);
    const two = passage(['4.2.1', '4.3.0', '5.0.0'], undefined, true, false, true);
    const shared = passage(['4.2.1', '4.3.0'], undefined, false, false, 'cuts-off');
    const each = [
      { passage: proves },
      { passage: two, rings: ['0'] },
      { passage: proves, feeds: [{ device: 'u', of: 2 }] },
      { passage: two, under: ['d1'] },
      { needs: [{ leg: 0, device: 'd1' }] },
      { passage: two },
      { passage: shared, power: { device: 'd9', name: 'strip', outlet: 'outlet 3', others: [{ device: 'd2', name: 'sw-2' }] } },
    ];
    const gate = { soakMs: 60_000, failureLimit: 3, approval: true };
    fc.assert(
      fc.property(moves, (all) => {
        const world = new World(planOf({ devices: 7, first: 2, atOnce: 3, perSite: 2, wayBack: true, gate, each }));
        world.settle();
        for (const [what, which] of all) if (world.state.phase !== 'ended') world.act(what, which);
        world.finish();
        expect(world.state.phase).toBe('ended');
        expect(fold(world.plan, world.journal)).toEqual(world.state);
      }),
      { numRuns: 60 },
    );
  });

  it('puts back what was set aside, however it ends, and leaves alone who comes at an hour of its own', () => {
    const moves = fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000)), { minLength: 50, maxLength: 140 });
    const each = fc.array(fc.constantFrom<Partial<Candidate>>(...odd), { minLength: 4, maxLength: 4 });
    const gate = { soakMs: 60_000, failureLimit: 2, approval: false };
    fc.assert(
      fc.property(moves, each, fc.boolean(), (all, of, wayBack) => {
        const world = new World(planOf({ devices: 4, first: 1, atOnce: 3, wayBack, gate, each: of }));
        world.settle();
        for (const [what, which] of all) if (world.state.phase !== 'ended') world.act(what, which);
        world.finish();
        expect(world.state.phase).toBe('ended');
        expect(fold(world.plan, world.journal)).toEqual(world.state);
      }),
      { numRuns: 100 },
    );
  });

  it('keeps every limit, gate and point of no return, agrees with the full scan, and comes to an end', () => {
    fc.assert(
      fc.property(
        shapes,
        passages,
        needs,
        fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000)), { minLength: 30, maxLength: 220 }),
        fc.option(fc.integer({ min: 600_000, max: 9_000_000 }), { nil: undefined }),
        (shape, each, needed, moves, doneBy) => {
          const world = new World(
            planOf({ ...shape, devices: Math.min(shape.devices, 8), each: each.map((e, i) => ({ ...e, ...needed[i]! })) }),
            new Ledger(),
            [],
            doneBy,
          );
          world.settle();
          for (const [what, which] of moves) if (world.state.phase !== 'ended' || what >= 94) world.act(what, which);
          world.finish();
          expect(world.state.phase).toBe('ended');
          expect(world.runsIn('ended').length).toBe(world.plan.runs.length);
          // After a crash the state is the fold of the journal, and nothing else.
          expect(fold(world.plan, world.journal)).toEqual(world.state);
        },
      ),
      { numRuns: 100 },
    );
  });
});

describe('the scheduler, case by case', () => {
  const started = (shape = {}) => {
    const world = new World(planOf(shape));
    world.settle();
    return world;
  };
  const complete = (world: World, id: string) => {
    for (const step of firstSteps) {
      world.happen({ kind: 'step-done', at: world.now, run: id, step });
      world.settle();
    }
  };

  it('begins the first wave alone and waits out the soak before the rest', () => {
    const world = started();
    const [first] = world.runsIn('busy');
    expect(world.runsIn('busy').length).toBe(1);
    complete(world, first!.id);
    expect(world.decide()).toEqual([{ kind: 'wake', at: world.now + 60_000 }]);
    world.now += 59_999;
    world.settle();
    expect(world.runsIn('busy').length).toBe(0);
    world.now += 1;
    world.settle();
    expect(world.runsIn('busy').length).toBe(2);
  });

  it('holds when the failure limit is reached, and goes on when a person says so', () => {
    const world = started({ first: 0, atOnce: 3 });
    world.happen({
      kind: 'step-failed',
      at: world.now,
      run: world.runsIn('busy')[0]!.id,
      step: 'preflight',
      cause: 'login-refused',
      detail: 'no',
    });
    world.settle();
    expect(world.state.phase).toBe('held');
    expect(world.state.heldBecause).toMatch(/1 failed in wave 1/);
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(world.state.phase).toBe('running');
    expect(world.runsIn('busy').length).toBe(3);
  });

  it('does not hold when nothing is left that could come to harm: it ends, and can be retried', () => {
    const world = started({ first: 0, devices: 1 });
    world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'preflight', cause: 'login-refused', detail: 'no' });
    world.settle();
    expect(world.state.phase).toBe('ended');
    world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
    world.settle();
    expect(world.state.phase).toBe('running');
    expect(world.runsIn('busy').length).toBe(1);
  });

  it('counts an absent device as not begun, and does not let a first wave pass that verified nothing', () => {
    const world = started();
    world.happen({
      kind: 'step-failed',
      at: world.now,
      run: world.runsIn('busy')[0]!.id,
      step: 'preflight',
      cause: 'unreachable',
      detail: 'silent',
    });
    world.settle();
    expect(world.state.runs[0]!.outcome).toBe('not-begun');
    expect(world.state.waves[0]!.ended.failed).toBe(0);
    expect(world.state.phase).toBe('held');
    expect(world.state.heldBecause).toMatch(/proves nothing/);
  });

  it('lets a run past its point of no return go on while held and while stopping', () => {
    const world = started({ first: 0, atOnce: 1, devices: 2 });
    const { id } = world.runsIn('busy')[0]!;
    for (const step of firstSteps.slice(0, firstSteps.indexOf('activate'))) {
      world.happen({ kind: 'step-done', at: world.now, run: id, step });
      world.settle();
    }
    world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
    world.settle();
    world.happen({ kind: 'step-done', at: world.now, run: id, step: 'activate' });
    world.settle();
    expect(world.decide()).toEqual([]);
    expect(world.state.runs[0]!.phase).toBe('busy');
    expect(world.state.runs[1]!.outcome).toBe('withdrawn');
    for (const step of firstSteps.slice(firstSteps.indexOf('confirm-next-boot'))) {
      world.happen({ kind: 'step-done', at: world.now, run: id, step });
      world.settle();
    }
    expect(world.state.runs[0]!.outcome).toBe('verified');
    expect(world.state.phase).toBe('ended');
  });

  it('asks the device after a crash in activate or reboot, and begins everything else again', () => {
    for (const step of firstSteps) {
      const world = started({ first: 0, atOnce: 1, devices: 1 });
      for (const before of firstSteps.slice(0, firstSteps.indexOf(step))) {
        world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: before });
        world.settle();
      }
      world.happen({ kind: 'service-started', at: world.now });
      const [command] = world.decide();
      expect(command?.kind, step).toBe(step === 'activate' || step === 'reboot' ? 'reconcile' : 'begin-step');
    }
  });

  it('finishes what must not be left half-done before the service stops, and no more', () => {
    const world = started({ first: 0, atOnce: 1, devices: 2 });
    for (const step of firstSteps.slice(0, firstSteps.indexOf('activate') + 1)) {
      world.happen({ kind: 'step-done', at: world.now, run: 'd1', step });
      if (step !== 'activate') world.settle();
    }
    world.happen({ kind: 'service-stopping', at: world.now });
    const next = () => world.decide().map((c) => ('step' in c ? c.step : c.kind));
    expect(next()).toEqual(['confirm-next-boot']);
    world.settle();
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: 'confirm-next-boot' });
    expect(next()).toEqual(['reboot']);
    world.settle();
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: 'reboot' });
    expect(next()).toEqual([]);
  });

  it('takes no word that cannot be obeyed, and says why in words of the trade', () => {
    const world = started({ devices: 3 });
    const busy = world.runsIn('busy')[0]!.id;
    const [free] = world.runsIn('waiting').map((r) => r.id);
    const nameOf = (id: string) => world.plan.runs.find((r) => r.id === id)!.name;
    const word = (event: RolloutEvent) => checkWord(world.state, event);
    expect(word({ kind: 'skip-asked', at: 1, run: busy, by: 'x', reason: 'r' })).toBeNull();
    expect(word({ kind: 'run-skipped', at: 1, run: free!, by: 'x', reason: 'r' })).toBeNull();
    expect(word({ kind: 'run-retried', at: 1, run: free!, by: 'x' })).toBe(`${nameOf(free!)} is waiting for its turn`);
    expect(word({ kind: 'approved', at: 1, by: 'x', wave: 6 })).toBe('there are 2 waves, and none with the number 7');
    expect(word({ kind: 'continued', at: 1, by: 'x' })).toBe('the rollout is running');
    expect(word({ kind: 'run-skipped', at: 1, run: 'nobody', by: 'x', reason: 'r' })).toBe('there is no device nobody in this rollout');
    world.happen({ kind: 'run-skipped', at: 1, run: free!, by: 'x', reason: 'r' });
    world.happen({ kind: 'stop-asked', at: 1, by: 'x' });
    expect(word({ kind: 'run-retried', at: 1, run: free!, by: 'x' })).toBe('the rollout is being stopped: retry when it has ended');
    expect(word({ kind: 'run-skipped', at: 1, run: free!, by: 'x', reason: 'r' })).toBe(`${nameOf(free!)} has ended: skipped`);
  });

  it('leaves out who is in the middle of a step when that has ended, and nobody past the point of no return', () => {
    const world = started({ first: 0, atOnce: 1, devices: 2 });
    const skip = { kind: 'skip-asked', at: 1, run: 'd1', by: 'x', reason: 'r' } as const;
    const id = world.runsIn('busy')[0]!.id;
    world.happen({ ...skip, run: id });
    world.settle();
    expect(world.runsIn('busy').map((r) => r.id)).toEqual([id]);
    expect(checkWord(world.state, { ...skip, run: id })).toMatch(/is to be left out already$/);
    world.happen({ kind: 'step-done', at: 2, run: id, step: 'preflight' });
    world.settle();
    expect(world.state.runs[world.state.indexOf.get(id)!]).toMatchObject({ outcome: 'skipped', detail: 'r', wish: null });
    const other = world.runsIn('busy')[0]!.id;
    for (const step of firstSteps.slice(0, firstSteps.indexOf('activate'))) {
      world.happen({ kind: 'step-done', at: 2, run: other, step });
      world.settle();
    }
    expect(checkWord(world.state, { ...skip, run: other })).toMatch(/past its point of no return/);
  });

  it('in a journal of before, skips in the middle of a step, whose outcome comes too late to matter', () => {
    const world = started({ first: 0, atOnce: 1, devices: 1 });
    world.happen({ kind: 'run-skipped', at: 1, run: 'd1', by: 'x', reason: 'r' });
    world.happen({ kind: 'step-done', at: 2, run: 'd1', step: 'preflight' });
    world.settle();
    expect(world.state).toMatchObject({ phase: 'ended', runs: [{ outcome: 'skipped' }] });
  });

  it('leaves the state as it was when it refuses', () => {
    const world = started();
    const before = structuredClone(world.state);
    expect(() => apply(world.state, { kind: 'step-done', at: 1, run: 'd1', step: 'reboot' })).toThrow(ImpossibleEvent);
    expect(world.state).toEqual(before);
  });

  it('refuses what cannot have happened', () => {
    const world = started();
    const refused = (event: RolloutEvent) => expect(() => apply(structuredClone(world.state), event)).toThrow(ImpossibleEvent);
    refused({ kind: 'rollout-started', at: 1, by: 'x' });
    refused({ kind: 'step-done', at: 1, run: 'd1', step: 'reboot' });
    refused({ kind: 'step-begun', at: 1, run: 'nobody', step: 'preflight', attempt: 1 });
    refused({ kind: 'gate-passed', at: 1, wave: 0 });
    refused({ kind: 'wave-opened', at: 1, wave: 1 });
    refused({ kind: 'rollout-ended', at: 1 });
  });

  describe('with several images on the way', () => {
    const twoLegs = { devices: 1, first: 0, each: [{ passage: passage(['4.2.1', '4.3.0', '5.0.0']) }] };
    const done = (world: World, steps: number) => {
      for (let n = 0; n < steps; n++) {
        world.happen({ kind: 'step-done', at: world.now, run: 'd1', ...namedAt(world.state, 0) });
        world.settle();
      }
    };

    it('takes each in its turn, names its leg, and is verified after the last', () => {
      const world = started(twoLegs);
      done(world, 9);
      expect(world.state.runs[0]).toMatchObject({ phase: 'busy', legs: 1, pastReturn: false, outcome: null });
      expect(world.journal.at(-1)).toMatchObject({ kind: 'step-begun', step: 'preflight', leg: 1 });
      expect(check(world.state, { kind: 'step-done', at: 0, run: 'd1', step: 'preflight' })).toMatch(
        /preflight of leg 2, not at preflight of leg 1/,
      );
      done(world, 9);
      expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'verified' });
    });

    it('may be stopped between two of them, and says how far it came', () => {
      const world = started(twoLegs);
      done(world, 8);
      world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
      world.settle();
      expect(world.state.runs[0]!.phase).toBe('busy');
      done(world, 1);
      expect(world.state.runs[0]).toMatchObject({ outcome: 'withdrawn', detail: 'stopped before preflight; it was brought to 4.3.0' });
    });

    it('counts as failed, never as not begun, when its second image cannot be begun with', () => {
      const world = started(twoLegs);
      const fail = { kind: 'step-failed', run: 'd1', step: 'preflight', cause: 'unreachable', detail: 'silent' } as const;
      done(world, 9);
      world.happen({ ...fail, at: world.now, leg: 1 });
      expect(world.state.runs[0]).toMatchObject({ outcome: 'failed', legs: 1 });
      const other = started(twoLegs);
      other.happen({ ...fail, at: other.now });
      expect(other.state.runs[0]).toMatchObject({ outcome: 'not-begun', legs: 0 });
    });

    it('is retried from the first that was not verified', () => {
      const world = started(twoLegs);
      done(world, 11);
      world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'transfer', leg: 1, cause: 'never-asked', detail: 'silent' });
      world.settle();
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      if (world.state.phase === 'held') world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
      world.settle();
      expect(world.journal.at(-1)).toMatchObject({ kind: 'step-begun', step: 'preflight', leg: 1, attempt: 2 });
    });

    it('goes past what is behind it, but not past its last, nor when something was changed', () => {
      const world = started(twoLegs);
      world.happen({ kind: 'leg-skipped', at: world.now, run: 'd1', leg: 0, reason: 'it runs 4.3.0 already' });
      expect(world.state.runs[0]).toMatchObject({ phase: 'parked', legs: 1, claims: null });
      world.settle();
      expect(check(world.state, { kind: 'leg-skipped', at: 0, run: 'd1', leg: 1, reason: 'so' })).toBe('there is no leg after it');
      expect(check(world.state, { kind: 'leg-skipped', at: 0, run: 'd1', leg: 0, reason: 'so' })).toBe('that is not leg 1');
      world.happen({ kind: 'leg-proven', at: world.now, run: 'd1', leg: 1, reason: 'compared again' });
      expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'verified', legs: 2, met: true, detail: 'compared again' });
      const changed = started(twoLegs);
      done(changed, 5);
      expect(check(changed.state, { kind: 'leg-proven', at: 0, run: 'd1', leg: 0, reason: 'so' })).toMatch(/past its point of no return/);
      expect(check(changed.state, { kind: 'leg-skipped', at: 0, run: 'd1', leg: 0, reason: 'so' })).toMatch(/past its point of no return/);
    });
  });

  describe('when one device needs another', () => {
    // d2 needs d1, d3 needs d2.
    const chain = {
      devices: 3,
      first: 0,
      atOnce: 3,
      gate: { soakMs: 0, failureLimit: 9, approval: false },
      each: [{ site: 'a' }, { site: 'a', needs: [{ leg: 0, device: 'd1' }] }, { site: 'a', needs: [{ leg: 0, device: 'd2' }] }],
    };
    const outcomes = (world: World) => world.state.runs.map((r) => r.outcome);
    const failFirst = (world: World) => {
      world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'preflight', cause: 'image-damaged', detail: 'so it was' });
      world.settle();
    };
    const why = (world: World, i: number) => whyWaiting(world.state, i, world.ledger, (h) => h.run)?.text;

    it('begins it only after the other was verified, and says for whom it waits', () => {
      const world = started(chain);
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d1']);
      expect(why(world, 1)).toBe('waits for sw-1, which has to be done first');
      complete(world, 'd1');
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d2']);
      complete(world, 'd2');
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d3']);
    });

    it('does not begin it when the other failed, nor what needs that, and begins them again with its retry', () => {
      const world = started(chain);
      failFirst(world);
      expect(outcomes(world)).toEqual(['failed', 'not-begun', 'not-begun']);
      expect(world.state.runs[1]).toMatchObject({ cause: 'needed-run', detail: 'sw-1 has to be done first, and has ended failed' });
      expect(checkWord(world.state, { kind: 'run-retried', at: 0, run: 'd2', by: 'somebody' })).toMatch(/needs sw-1: retry that one/);
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      expect(outcomes(world)).toEqual([null, null, null]);
      for (const id of ['d1', 'd2', 'd3']) complete(world, id);
      expect(outcomes(world)).toEqual(['verified', 'verified', 'verified']);
    });

    it('takes it for done when it was there already, and not when a person left it out', () => {
      const there = started(chain);
      there.happen({ kind: 'run-skipped', at: there.now, run: 'd1', by: 'Barrow', reason: 'there already' });
      there.settle();
      expect(there.runsIn('busy').map((r) => r.id)).toEqual(['d2']);
      const left = started(chain);
      left.happen({ kind: 'skip-asked', at: left.now, run: 'd1', by: 'somebody', reason: 'not today' });
      left.happen({ kind: 'step-done', at: left.now, run: 'd1', step: 'preflight' });
      left.settle();
      expect(outcomes(left)).toEqual(['skipped', 'not-begun', 'not-begun']);
    });

    it('lets it take its first image before, where only the second needs the other', () => {
      const two = passage(['4.2.1', '4.3.0', '5.0.0']);
      const world = started({
        ...chain,
        devices: 2,
        each: [{ site: 'a' }, { site: 'a', passage: two, needs: [{ leg: 1, device: 'd1' }] }],
      });
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d1', 'd2']);
      for (let n = 0; n < 9; n++) {
        world.happen({ kind: 'step-done', at: world.now, run: 'd2', ...namedAt(world.state, 1) });
        world.settle();
      }
      expect(world.state.runs[1]).toMatchObject({ phase: 'parked', legs: 1 });
      failFirst(world);
      expect(world.state.runs[1]).toMatchObject({ outcome: 'failed', cause: 'needed-run' });
    });

    it('takes what was reached for reached, also when its device is looked at again after it failed in its last checks', () => {
      const proves = { site: 'a', passage: passage(['4.2.1', '4.3.0'], nineSteps(), false, true) };
      const needy = { site: 'a', needs: [{ leg: 0, device: 'd1' }] };
      const asked = { soakMs: 0, failureLimit: 9, approval: true };
      const world = started({ ...chain, first: 2, gate: asked, each: [proves, { site: 'a' }, needy] });
      expect(world.plan.runs.map((r) => r.wave)).toEqual([0, 0, 1]);
      complete(world, 'd1');
      complete(world, 'd2');
      const fail = () => {
        world.happen({
          kind: 'step-failed',
          at: world.now,
          run: 'd1',
          ...namedAt(world.state, 0),
          cause: 'wrong-version',
          detail: 'so it was',
        });
        world.settle();
      };
      expect(namedAt(world.state, 0).step).toBe('settle');
      fail();
      expect(outcomes(world)).toEqual(['failed', 'verified', null]);
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      expect(namedAt(world.state, 0).step).toBe('settle');
      fail();
      expect(outcomes(world)).toEqual(['failed', 'verified', null]);
      world.happen({ kind: 'approved', at: world.now, wave: 0, by: 'somebody' });
      world.settle();
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d3']);
    });

    it('plans what is needed no later than who needs it', () => {
      const made = planOf({ devices: 3, first: 1, each: [{ site: 'a', needs: [{ leg: 0, device: 'd3' }] }] });
      expect(made.runs.filter((r) => r.wave === 0).map((r) => r.id)).toEqual(['d3', 'd1']);
      expect(made.runs.find((r) => r.id === 'd1')!.needs).toEqual([{ leg: 0, run: 'd3' }]);
    });

    it('keeps the storage of what it is handled through for one at a time, and changes as many at once as that allows', () => {
      const made = passage();
      const stretches = made.stretches.map((s) => ({
        ...s,
        ...(s.name === 'transfer' ? { ofParent: { storage: true as const } } : s.name === 'change' ? { ofParent: { most: 2 } } : {}),
      }));
      const via = { site: 'a', via: 'c1', passage: { ...made, stretches } };
      const world = started({ devices: 4, first: 0, atOnce: 4, each: [via, via, via, via] });
      const done = (id: string) => {
        world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
        world.settle();
      };
      for (const id of ['d1', 'd2', 'd3', 'd4']) [0, 1].forEach(() => done(id));
      const inStretch = (n: number) => world.runsIn('busy').filter(({ index }) => world.state.runs[index]!.stretch === n);
      expect(inStretch(1)).toHaveLength(1);
      expect(why(world, 3)).toMatch(/which brings an image to the same storage/);
      for (let round = 0; round < 4; round++) [0, 1].forEach(() => done(inStretch(1)[0]!.id));
      expect(inStretch(2)).toHaveLength(2);
      expect(why(world, world.runsIn('parked')[0]!.index)).toBe('waits for its turn: 2 at once on what it is handled through');
    });
  });
});
