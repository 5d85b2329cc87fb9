import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { makePassage, play, rehearse, rehearseWith, usualWorld, type Mishap, type Plan, type Played, type PlannedStep } from '@barrow/core';
import { nineSteps, passage, planOf, typicalMs } from './plans.js';

const gate = { soakMs: 60_000, failureLimit: 1, approval: false };
const fails = (plan: Plan, name: string, step: string, cause: string): Mishap => ({
  run: plan.runs.find((r) => r.name === name)!,
  step,
  cause,
});
const endOf = (played: Played, name: string) => played.runs.find((r) => r.name === name);
const sums = (played: Played) => {
  const of = (key: 'waiting' | 'active') => played.ended.reduce((sum, w) => sum + w[key], 0);
  const ended = (key: 'verified' | 'failed' | 'recovered' | 'not-begun') => played.ended.reduce((sum, w) => sum + w.ended[key], 0);
  return {
    waiting: of('waiting'),
    verified: ended('verified'),
    failed: ended('failed'),
    recovered: ended('recovered'),
    'not-begun': ended('not-begun'),
  };
};

describe('what if', () => {
  it('nothing goes wrong, it is the rehearsal', () => {
    const plan = planOf({ devices: 7, first: 1, atOnce: 3 });
    expect(rehearseWith(plan, 1000, [])).toEqual(rehearse(plan, 1000));
    expect(sums(rehearse(plan, 0))).toEqual({ waiting: 0, verified: 7, failed: 0, recovered: 0, 'not-begun': 0 });
  });

  it('the first fails, nothing more is begun, and what it would have been is told', () => {
    const plan = planOf({ devices: 4, first: 1, gate });
    const first = plan.runs[0]!.name;
    const played = rehearseWith(plan, 0, [fails(plan, first, 'checks', 'old-version')]);
    expect(endOf(played, first)).toMatchObject({ outcome: 'failed', cause: 'old-version', rungs: [] });
    expect(played.holds.map((h) => h.because)).toEqual(['1 failed in wave 1 (first); the limit is 1']);
    expect(played.stuck).toBe('1 failed in wave 1 (first); the limit is 1');
    expect(sums(played)).toEqual({ waiting: 3, verified: 0, failed: 1, recovered: 0, 'not-begun': 0 });
  });

  it('a person has it go on, all others are brought', () => {
    const plan = planOf({ devices: 4, first: 2, gate });
    const first = plan.runs[0]!.name;
    const played = rehearseWith(plan, 0, [fails(plan, first, 'checks', 'old-version')], true);
    expect(played).toMatchObject({ stuck: null });
    expect(played.holds).toHaveLength(1);
    expect(sums(played)).toMatchObject({ waiting: 0, verified: 3, failed: 1 });
  });

  it('one fails past its point of no return: who carries it waits, until it is known that it neither writes nor is down', () => {
    // The first feeds the second; leaves go before their trunk.
    const plan = planOf({ devices: 2, first: 0, atOnce: 2, gate: { ...gate, failureLimit: 9 }, each: [{}, { under: ['d1'] }] });
    expect(sums(rehearseWith(plan, 0, [fails(plan, 'sw-2', 'checks', 'ports-down')]))).toMatchObject({
      verified: 1,
      failed: 1,
      waiting: 0,
    });
    const dark = rehearseWith(plan, 0, [fails(plan, 'sw-2', 'return', 'never-returned')]);
    const why = 'sw-2 failed and may still be down or writing: others wait until somebody has looked at it';
    expect(dark.stuck).toBe(why);
    expect(sums(dark)).toMatchObject({ verified: 0, failed: 1 });
    const looked = rehearseWith(plan, 0, [fails(plan, 'sw-2', 'return', 'never-returned')], true);
    expect(looked.stuck).toBeNull();
    expect(looked.holds.map((h) => h.because)).toEqual([why]);
    expect(sums(looked)).toMatchObject({ verified: 1, failed: 1, waiting: 0 });
  });

  it('one fails that may be taken back at once, it is, and counts as failed', () => {
    const plan = planOf({ devices: 3, first: 0, atOnce: 3, wayBack: true, gate: { ...gate, failureLimit: 2 } });
    const played = rehearseWith(plan, 0, [fails(plan, 'sw-2', 'checks', 'old-version')]);
    expect(endOf(played, 'sw-2')).toMatchObject({ outcome: 'recovered', rungs: ['other-slot'] });
    expect(sums(played)).toMatchObject({ verified: 2, recovered: 1, failed: 0 });
    expect(played.endsAt).toBeGreaterThan(rehearse(plan, 0).endsAt);
    // A device that hangs is not brought back by more time, and stays down.
    const silent = rehearseWith(plan, 0, [fails(plan, 'sw-2', 'return', 'never-returned')]);
    expect(endOf(silent, 'sw-2')).toMatchObject({ outcome: 'failed', downUntil: null });
    expect(endOf(silent, 'sw-2')!.rungs[0]).toBe('wait');
  });

  it('one never returns: Barrow waits as long as it does in the run, and power-cycling brings it back', () => {
    const limitMs = 480_000;
    const way = makePassage(
      [
        {
          image: 'a'.repeat(64),
          component: 'system',
          from: '4.2.1',
          to: '4.3.0',
          bytes: 0,
          way: { ...nineSteps(), returnsWithinMs: limitMs },
        },
      ],
      1,
      false,
      true,
    );
    const power = { device: 'd9', name: 'strip', outlet: 'outlet 3' };
    const plan = planOf({ devices: 1, first: 0, wayBack: true, each: [{ passage: way, power }] });
    const well = rehearse(plan, 0);
    const played = rehearseWith(plan, 0, [fails(plan, 'sw-1', 'return', 'never-returned')]);
    expect(endOf(played, 'sw-1')).toMatchObject({ outcome: 'verified', rungs: ['wait', 'power-cycle'] });
    // Barrow waits to the limit twice: at the return, and in the recovery step that waits again.
    expect(played.endsAt - well.endsAt).toBeGreaterThanOrEqual(2 * limitMs - typicalMs.return);
    // Without a power source that can be switched, nothing is left that helps.
    const dark = rehearseWith(planOf({ devices: 1, first: 0, wayBack: true }), 0, [
      fails(planOf({ devices: 1, first: 0, wayBack: true }), 'sw-1', 'return', 'never-returned'),
    ]);
    expect(endOf(dark, 'sw-1')).toMatchObject({ outcome: 'failed', cause: 'never-returned' });
  });

  it('one is not there, it is waited for and not begun; one that others need takes them with it', () => {
    const plan = planOf({ devices: 3, first: 0, atOnce: 3, gate });
    const played = rehearseWith(plan, 0, [fails(plan, 'sw-2', 'preflight', 'unreachable')]);
    expect(played.stuck).toBeNull();
    expect(sums(played)).toMatchObject({ verified: 2, 'not-begun': 1 });
    // It is waited for until all others have ended.
    expect(endOf(played, 'sw-2')!.endsAt).toBe(played.endsAt);
    const needing = planOf({ devices: 3, first: 0, gate, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }, {}] });
    const without = rehearseWith(needing, 0, [fails(needing, 'sw-1', 'preflight', 'unreachable')]);
    expect(sums(without)).toMatchObject({ verified: 1, 'not-begun': 2 });
  });

  it('steps take longer, all that comes after is later', () => {
    const plan = planOf({ devices: 2, first: 0, atOnce: 1 });
    const slow = (_: unknown, step: PlannedStep) => step.typicalMs * (step.step === 'transfer' ? 3 : 1);
    expect(play(plan, { ...usualWorld, takes: slow }, 0).endsAt - rehearse(plan, 0).endsAt).toBe(2 * 2 * typicalMs.transfer);
  });

  it('anything fails anywhere, it comes to its end or says why not, and every device is accounted for', () => {
    const steps = ['preflight', 'backup', 'transfer', 'activate', 'reboot', 'return', 'checks'];
    const causes = ['unreachable', 'no-space', 'image-damaged', 'never-returned', 'old-version'];
    const mishaps = fc.array(fc.tuple(fc.nat(9), fc.constantFrom(...steps), fc.constantFrom(...causes)), { maxLength: 6 });
    const shape = fc.record({
      devices: fc.integer({ min: 1, max: 10 }),
      first: fc.integer({ min: 0, max: 2 }),
      atOnce: fc.integer({ min: 1, max: 4 }),
      wayBack: fc.boolean(),
      gate: fc.record({ soakMs: fc.constant(1000), failureLimit: fc.integer({ min: 1, max: 4 }), approval: fc.boolean() }),
    });
    fc.assert(
      fc.property(shape, mishaps, fc.boolean(), (of, wrong, goesOn) => {
        const plan = planOf({
          ...of,
          each: Array.from({ length: 10 }, (_, i) =>
            i % 3 === 0 ? { passage: passage(['4.2.1', '4.3.0', '5.0.0'], undefined, true) } : {},
          ),
        });
        const played = rehearseWith(
          plan,
          0,
          wrong.map(([n, step, cause]) => ({ run: plan.runs[n % plan.runs.length]!, step, cause })),
          goesOn,
        );
        if (goesOn) expect(played.stuck).toBeNull();
        if (played.stuck !== null) expect(played.holds.at(-1)!.because).toBe(played.stuck);
        const all = played.ended.reduce(
          (sum, w) => sum + w.waiting + w.active + w.absent + Object.values(w.ended).reduce((a, b) => a + b, 0),
          0,
        );
        expect(all).toBe(plan.runs.length);
        if (played.stuck === null) expect(played.ended.every((w) => w.waiting + w.active + w.absent === 0)).toBe(true);
      }),
      { numRuns: 80 },
    );
  });
});
