import { takenBack } from './course.js';
import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import {
  apply,
  fold,
  foldVersion,
  initialState,
  keepState,
  Ledger,
  readPlan,
  restoreState,
  rolloutEventSchema,
  whyWaiting,
  type RolloutEvent,
  type RolloutState,
} from '@barrow/core';
import { planOf } from './plans.js';

interface Golden {
  plan: unknown;
  journal: RolloutEvent[];
  expected: {
    phase: string;
    wave: number;
    waves: { phase: string; waiting: number; active: number; ended: Record<string, number>; forgiven: number }[];
    runs: Record<string, unknown>[];
  };
}
const read = (name: string): Golden => JSON.parse(readFileSync(new URL(`golden/${name}.json`, import.meta.url), 'utf8')) as Golden;
const [golden, second] = [read('first'), read('second')];

describe('a rollout that was kept', () => {
  it('by the first Barrow folds to the same phases and outcomes, and holds its limits', () => {
    const plan = readPlan(golden.plan);
    const state = fold(
      plan,
      golden.journal.map((e) => rolloutEventSchema.parse(e)),
    );
    expect({ phase: state.phase, wave: state.wave }).toEqual({ phase: golden.expected.phase, wave: golden.expected.wave });
    expect(state.waves).toMatchObject(golden.expected.waves);
    golden.expected.runs.forEach(({ id, ...run }, i) => {
      expect(plan.runs[i]!.id).toBe(id);
      expect(state.runs[i], String(id)).toMatchObject(run);
    });
    const ledger = new Ledger();
    ledger.add(state);
    expect(ledger.holdersOf('rollout:r-first')).toHaveLength(2);
    expect(ledger.holdersOf('site:site-1')).toHaveLength(1);
  });

  it('by the second Barrow too: with legs, rungs, needs, absences, what came after a soak, and restarts', () => {
    const plan = readPlan(second.plan);
    const state = fold(
      plan,
      second.journal.map((e) => rolloutEventSchema.parse(e)),
    );
    expect({ phase: state.phase, wave: state.wave }).toEqual({ phase: second.expected.phase, wave: second.expected.wave });
    expect(state.waves).toMatchObject(second.expected.waves);
    second.expected.runs.forEach(({ id, ...run }, i) => {
      expect(plan.runs[i]!.id).toBe(id);
      expect(state.runs[i], String(id)).toMatchObject(run);
    });
    // So much has to have happened in it, or it proves little.
    expect(new Set(second.journal.map((e) => e.kind)).size).toBeGreaterThanOrEqual(24);
  });

  it('today is read back as it was made, and what is no plan is refused', () => {
    const plan = planOf({ perSite: 1, each: [{ rings: ['0'], feeds: [{ device: 'u', of: 2 }] }] });
    expect(readPlan(JSON.parse(JSON.stringify(plan)))).toEqual(plan);
    expect(() => readPlan({ ...plan, version: 3 })).toThrow();
    expect(() => readPlan({ ...plan, runs: [{}] })).toThrow();
    expect(() => readPlan(null)).toThrow();
  });
});

describe('a state that was kept', () => {
  const held = (): RolloutState =>
    fold(readPlan(golden.plan), [
      ...golden.journal.map((e) => rolloutEventSchema.parse(e)),
      { kind: 'held', at: 9e12, by: 'somebody', reason: 'so' },
    ]);
  const asJson = (): Record<string, unknown> & { runs: unknown[]; waves: unknown[] } =>
    JSON.parse(JSON.stringify(keepState(held()))) as never;

  it('is the state again, and is of no use when it is of another fold, of another plan, or damaged', () => {
    const { plan } = held();
    expect(restoreState(plan, asJson())).toEqual(held());
    const bad: Record<string, unknown>[] = [
      { version: foldVersion + 1 },
      { runs: asJson().runs.slice(1) },
      { waves: [...asJson().waves, asJson().waves[0]] },
      { ready: [plan.runs.length] },
      { lost: [-1] },
      { phase: 'dreaming' },
      { more: true },
      { runs: asJson().runs.map(() => ({ phase: 'asleep' })) },
    ];
    for (const change of bad) expect(restoreState(plan, { ...asJson(), ...change }), JSON.stringify(change)).toBeNull();
    expect(restoreState(plan, null)).toBeNull();
  });

  it('is it again with what was tried to take a device back, and what was not', () => {
    const { state, plan } = takenBack();
    const failedAt = { ...state.runs[0]!, tried: [{ rung: 0, step: 'return', cause: 'never-returned', detail: '' }] };
    const both = { ...state, runs: [failedAt, ...state.runs.slice(1)] };
    for (const one of [state, both]) expect(restoreState(plan, JSON.parse(JSON.stringify(keepState(one))))).toEqual(one);
  });

  it('is of the fold that is counted: who changes what a journal folds to counts it up, and says here what it is now', () => {
    const also = fold(
      readPlan(second.plan),
      second.journal.map((e) => rolloutEventSchema.parse(e)),
    );
    const digest = createHash('sha256')
      .update(JSON.stringify([asJson(), keepState(also)]))
      .digest('hex')
      .slice(0, 16);
    expect({ foldVersion, digest }).toEqual({ foldVersion: 11, digest: '1d09eaaf5b4703fd' });
  });
});

describe('the ledger', () => {
  it('takes a key that is named twice as one, and lets it go as one', () => {
    const ledger = new Ledger();
    const [a, b] = ['a', 'b'].map((run) => ({ rollout: 'r', run })) as [{ rollout: string; run: string }, { rollout: string; run: string }];
    const twice = ['shared', 'exclusive'].map((mode) => ({ key: 'up:x', mode }) as const) as never;
    ledger.hold(a, twice);
    expect(ledger.holdersOf('up:x')).toEqual([a]);
    expect(ledger.lacks([{ key: 'up:x', mode: 'shared' }], b)?.key).toBe('up:x');
    ledger.release(a);
    expect(ledger.lacks([{ key: 'up:x', mode: 'exclusive' }], b)).toBeNull();
    expect(ledger.holdersOf('up:x')).toEqual([]);
  });
});

describe('why a device waits', () => {
  const at = 1000;
  /** Two devices of which the second hangs on the first, in two rollouts of one device each. */
  const two = (first: object = {}, second: object = {}) => {
    const ledger = new Ledger();
    const make = (id: string, from: number, over: object) => {
      const plan = planOf({ id, from, devices: 1, first: 0, each: [over], atOnce: 1 });
      let state = initialState(plan);
      const say = (...events: RolloutEvent[]) => {
        for (const event of events) {
          state = apply(state, event);
          ledger.follow(state, event);
        }
      };
      say({ kind: 'rollout-started', at, by: 'a' }, { kind: 'wave-opened', at, wave: 0 });
      const run = `d${from}`;
      const enter = (stretch: number) => {
        const { claims } = [...ledger.enter(state)][0]!;
        say({ kind: 'stretch-entered', at, run, stretch, attempt: 1, claims: [...claims] });
      };
      /** Through the stretches before one. */
      const pass = (before: number) => {
        const { steps, stretches } = plan.passages[0]!;
        for (let s = 0; s < before; s++) {
          enter(s);
          for (const { step } of steps.slice(stretches[s]!.from, stretches[s]!.to))
            say({ kind: 'step-begun', at, run, step, attempt: 1 }, { kind: 'step-done', at, run, step });
        }
      };
      return {
        say,
        into: (stretch: number) => {
          pass(stretch);
          enter(stretch);
        },
        park: pass,
        why: () => whyWaiting(state, 0, ledger, (h) => `the ${h.run}`)?.text ?? null,
      };
    };
    return [make('r-a', 1, first), make('r-b', 2, second)] as const;
  };

  it('is that what hangs on it is written', () => {
    const [a, b] = two({}, { under: ['d2', 'd1'] });
    b.into(1);
    a.park(2);
    expect(a.why()).toBe('waits for the d2: it hangs on this device, and must not lose it now');
    expect(b.why()).toBeNull();
  });

  it('is that what it hangs on is down', () => {
    const [a, b] = two({}, { under: ['d2', 'd1'] });
    a.into(2);
    b.park(1);
    expect(b.why()).toBe('waits for the d1, on which it hangs, to be back');
  });

  it('is a ring, a last feed, a limit, a hold or a wave', () => {
    const [a, b] = two({ rings: ['0'] }, { rings: ['0'] });
    a.into(2);
    b.park(2);
    expect(b.why()).toBe('waits for the d1: one device of their ring may be down at a time');
    b.say({ kind: 'held', at, by: 'a', reason: 'a look' });
    expect(b.why()).toBe('waits: the rollout is held');
    const [c, d] = two({ feeds: [{ device: 'u', of: 2 }] }, { feeds: [{ device: 'u', of: 2 }] });
    c.into(2);
    d.park(2);
    expect(d.why()).toBe('waits for the d1: together they would take the last power of a device');
    const plan = planOf({ devices: 3, first: 1, atOnce: 1, gate: { soakMs: 60_000, failureLimit: 1, approval: false } });
    const ledger = new Ledger();
    const state = apply(initialState(plan), { kind: 'rollout-started', at, by: 'a' });
    expect(whyWaiting(state, 2, ledger, () => '')?.text).toMatch(/^waits for wave 1/);
  });
});
