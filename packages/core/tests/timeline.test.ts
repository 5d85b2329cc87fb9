import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { cutOffs, rehearse, type Division, type Plan, type Played } from '@barrow/core';
import { passage, planOf } from './plans.js';

/** Some hang on others: the numbers of those above each. */
const hanging = (above: readonly (readonly number[])[]) =>
  above.map((list, i) => ({ under: [`d${i + 1}`, ...list.map((n) => `d${n}`)], site: 'a' }));
/** Stretches in which a device writes, down or not. */
const writes = (plan: Plan, run: string): Set<string> => {
  const { stretches, steps } = plan.passages[plan.runs.find((r) => r.id === run)!.passage]!;
  return new Set(stretches.filter((s) => steps.slice(s.from, s.to).some((step) => step.writes)).map((s) => s.name));
};
/** Who is cut off in the middle of a stretch in which it writes. */
function harmed(plan: Plan, played: Played): string[] {
  const cuts = cutOffs(plan, played);
  return played.runs.flatMap(({ run, parts }) => {
    const writing = parts.filter((p) => writes(plan, run).has(p.name));
    return (cuts.get(run) ?? []).flatMap((cut) =>
      writing.filter((p) => p.from < cut.until && p.until > cut.from).map((p) => `${run} in ${p.name} by ${cut.by}`),
    );
  });
}

describe('the timeline of a rehearsal', () => {
  it('says of each device which stretches it is in, when it is down, and why it waited', () => {
    const plan = planOf({ devices: 3, first: 0, atOnce: 1, each: hanging([[], [], []]) });
    const { runs } = rehearse(plan, 0);
    const [one, two] = runs;
    expect(one!.parts.map((p) => [p.name, p.waited])).toEqual([
      ['prepare', null],
      ['transfer', null],
      ['change', null],
    ]);
    expect(one!.parts.every((p, i) => i === 0 || p.from === one!.parts[i - 1]!.until)).toBe(true);
    expect(one!.dark).toEqual([[one!.downFrom, one!.downUntil]]);
    expect(two!.parts[0]).toMatchObject({ from: one!.endsAt, waited: 'waits for its turn: 1 at once' });
  });

  it('says who is cut off by whom, and for how long', () => {
    const plan = planOf({ devices: 2, first: 0, atOnce: 2, each: hanging([[], [1]]) });
    const played = rehearse(plan, 0);
    const [from, until] = played.runs.find((r) => r.run === 'd1')!.dark[0]!;
    expect(cutOffs(plan, played)).toEqual(new Map([['d2', [{ from, until, by: 'd1' }]]]));
    expect(harmed(plan, played)).toEqual([]);
    // Seen to fail: the same timeline, as if the other hung on the first, which it did not know.
    const blind = rehearse(planOf({ devices: 2, first: 0, atOnce: 2, each: hanging([[], []]) }), 0);
    expect(harmed(plan, blind)).toEqual(['d2 in change by d1']);
  });

  it('cuts off nobody who is being written, whoever hangs on whom, in however many waves', () => {
    const above = fc.array(fc.uniqueArray(fc.integer({ min: 1, max: 9 }), { maxLength: 3 }), { minLength: 9, maxLength: 9 });
    const legs = fc.array(fc.constantFrom(passage(), passage(['4.2.1', '4.3.0', '5.0.0'])), { minLength: 9, maxLength: 9 });
    fc.assert(
      fc.property(
        above,
        legs,
        fc.integer({ min: 1, max: 6 }),
        fc.constantFrom<Division | null>(null, 'site', [30, 30]),
        (list, of, atOnce, by) => {
          const each = hanging(list).map((e, i) => ({ ...e, site: `s${i % 2}`, passage: of[i]! }));
          const plan = planOf({ devices: 9, first: 1, atOnce, by, each });
          const played = rehearse(plan, 0);
          expect(played.stuck).toBeNull();
          expect(harmed(plan, played)).toEqual([]);
        },
      ),
      { numRuns: 80 },
    );
  });
});
