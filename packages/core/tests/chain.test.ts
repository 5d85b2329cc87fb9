import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { chainOf, firstSteps, groupsOf, latestBegin, leastOf, rehearse, type Division, type Plan } from '@barrow/core';
import { passage, planOf, typicalMs } from './plans.js';

const whole = firstSteps.reduce((sum, s) => sum + typicalMs[s], 0);
/** All at one site, so that they stand in the order of their numbers. */
const here = (...over: object[]) => over.map((o) => ({ site: 'a', ...o }));
const names = (plan: Plan): string[][] => groupsOf(chainOf(rehearse(plan, 0))).map((g) => [...g.names]);
const least = (plan: Plan): number => leastOf(plan, rehearse(plan, 0));

describe('what makes a rehearsal long', () => {
  it('is one device, all of it, where all go at once', () => {
    const slow = passage(['4.2.1', '4.3.0', '5.0.0']);
    const plan = planOf({ devices: 3, first: 0, atOnce: 9, each: [{}, { passage: slow }, {}] });
    const [group, ...more] = groupsOf(chainOf(rehearse(plan, 1000)));
    expect(more).toEqual([]);
    expect(group).toEqual({
      names: ['sw-2'],
      parts: ['prepare', 'transfer', 'change', 'prepare', 'transfer', 'change'],
      from: 1000,
      until: 1000 + 2 * whole,
      waited: null,
    });
  });

  it('are those that wait for a place, one after the other, and told as one', () => {
    const plan = planOf({ devices: 4, first: 0, atOnce: 1, each: here({}, {}, {}, {}) });
    const groups = groupsOf(chainOf(rehearse(plan, 0)));
    expect(groups.map(({ names, waited }) => [names, waited])).toEqual([
      [['sw-1'], null],
      [['sw-2', 'sw-3', 'sw-4'], 'waits for its turn: 1 at once'],
    ]);
    expect(groups.map(({ from, until }) => [from, until])).toEqual([
      [0, whole],
      [whole, 4 * whole],
    ]);
  });

  it('goes over a soak to who ended the wave before, and leaves the soak as a gap', () => {
    const slow = passage(['4.2.1', '4.3.0', '5.0.0']);
    const plan = planOf({ devices: 3, first: 2, atOnce: 9, each: here({}, { passage: slow }, {}) });
    const groups = groupsOf(chainOf(rehearse(plan, 0)));
    expect(groups.map(({ names }) => names)).toEqual([['sw-2'], ['sw-3']]);
    expect(groups[1]!.from - groups[0]!.until).toBe(60_000);
  });

  it('goes over what is needed first, and over what hangs on what', () => {
    const needing = planOf({ devices: 2, first: 0, atOnce: 9, each: [{}, { needs: [{ leg: 0, device: 'd1' }] } as never] });
    expect(names(needing)).toEqual([['sw-1'], ['sw-2']]);
    const hanging = planOf({ devices: 2, first: 0, atOnce: 9, each: [{ site: 'a' }, { site: 'a', under: ['d2', 'd1'] }] });
    const groups = groupsOf(chainOf(rehearse(hanging, 0)));
    expect(groups.map(({ names }) => names).flat()).toContain('sw-1');
    expect(groups.at(-1)!.waited).toContain('hang');
  });

  it('begins where a window opens: what was before did not matter', () => {
    const window = { text: 'a test', spans: [[500_000, 9_000_000]] as const };
    const groups = groupsOf(chainOf(rehearse(planOf({ devices: 2, first: 0, atOnce: 9, window }), 0)));
    expect(groups[0]).toMatchObject({ from: 500_000, waited: 'waits for its window' });
  });

  it('of those that begin one after the other at a distance is each of them', () => {
    const plan = planOf({ devices: 3, first: 0, atOnce: 9, apartMs: 3 * whole, each: here({}, {}, {}) });
    expect(names(plan).flat()).toEqual(['sw-1', 'sw-2', 'sw-3']);
  });

  it('is nothing where nothing is played', () => {
    const window = { text: 'a test', spans: [[0, 10]] as const };
    expect(chainOf({ ...rehearse(planOf({ devices: 1, first: 0, window }), 0), runs: [] })).toEqual([]);
  });
});

describe('the least that it could take', () => {
  it('is the longest device, or what has to share a place, wave by wave, with the soaks', () => {
    expect(least(planOf({ devices: 3, first: 0, atOnce: 9 }))).toBe(whole);
    expect(least(planOf({ devices: 4, first: 0, atOnce: 2 }))).toBe(2 * whole);
    expect(least(planOf({ devices: 5, first: 0, atOnce: 2 }))).toBe(Math.ceil(2.5 * whole));
    expect(least(planOf({ devices: 3, first: 1, atOnce: 9 }))).toBe(2 * whole + 60_000);
    const proving = planOf({
      devices: 2,
      first: 0,
      atOnce: 9,
      each: [1, 2].map(() => ({ passage: passage(undefined, undefined, false, true) })),
    });
    expect(least(proving)).toBe(rehearse(proving, 0).endsAt);
  });

  it('knows that what carries others goes down alone', () => {
    const plan = planOf({ devices: 2, first: 0, atOnce: 9, each: [{ site: 'a' }, { site: 'a', under: ['d2', 'd1'] }] });
    expect(least(plan)).toBeGreaterThan(whole);
    expect(least(plan)).toBeLessThanOrEqual(rehearse(plan, 0).endsAt);
  });

  it('is never more than it takes, and the chain reaches from its begin to its end without going back', () => {
    const above = fc.array(fc.uniqueArray(fc.integer({ min: 1, max: 8 }), { maxLength: 2 }), { minLength: 8, maxLength: 8 });
    const passages = [passage(), passage(['4.2.1', '4.3.0', '5.0.0']), passage(undefined, undefined, false, true)];
    const ways = fc.array(fc.nat(2), { minLength: 8, maxLength: 8 });
    fc.assert(
      fc.property(
        above,
        ways,
        fc.integer({ min: 1, max: 5 }),
        fc.constantFrom(0, 20_000),
        fc.constantFrom<Division | null>(null, 'site', [30, 30]),
        (list, of, atOnce, apartMs, by) => {
          const each = list.map((ns, i) => ({
            under: [`d${i + 1}`, ...ns.filter((n) => n !== i + 1).map((n) => `d${n}`)],
            site: `s${i % 2}`,
            passage: passages[of[i]!]!,
          }));
          const plan = planOf({ devices: 8, first: 1, atOnce, apartMs, by, each });
          const played = rehearse(plan, 1_000_000);
          expect(leastOf(plan, played)).toBeLessThanOrEqual(played.endsAt - played.beginsAt);
          const chain = chainOf(played);
          expect(chain[0]!.from).toBe(played.beginsAt);
          expect(chain.at(-1)!.until).toBe(Math.max(...played.runs.map((r) => r.endsAt)));
          chain.forEach((link, i) => {
            expect(link.until).toBeGreaterThanOrEqual(link.from);
            if (i > 0) expect(link.from).toBeGreaterThanOrEqual(chain[i - 1]!.until);
          });
          // Between two that do not meet lies a soak, or a distance that is to be kept.
          for (const [i, link] of chain.entries())
            if (i > 0 && link.from > chain[i - 1]!.until)
              expect(link.wave !== chain[i - 1]!.wave || link.part === 'prove' || apartMs > 0).toBe(true);
        },
      ),
      { numRuns: 120 },
    );
  });
});

describe('the last moment to begin', () => {
  const minute = 60_000;
  const open = (from: number, until: number) => ({ text: 'a test', spans: [[from, until]] as const });
  const two = (spans: Parameters<typeof open>) => planOf({ devices: 2, first: 0, atOnce: 1, each: here({}, {}), window: open(...spans) });

  it('is as long before the window closes as the work takes, to the minute', () => {
    const plan = two([0, 100 * minute]);
    const found = latestBegin(plan, 0, null)!;
    expect(found.by).toBe(100 * minute);
    const ends = rehearse(plan, found.begin).endsAt;
    expect(rehearse(plan, found.begin).stuck).toBeNull();
    expect(ends).toBeLessThanOrEqual(100 * minute);
    expect(rehearse(plan, found.begin + minute).stuck).not.toBeNull();
  });

  it('counts the night in which it would be done, not the next one', () => {
    const plan = planOf({
      devices: 1,
      first: 0,
      window: {
        text: 'a test',
        spans: [
          [0, 60 * minute],
          [1440 * minute, 1500 * minute],
        ],
      },
    });
    const { begin, by } = latestBegin(plan, 0, null)!;
    expect(by).toBe(60 * minute);
    expect(begin).toBeGreaterThan(50 * minute);
    expect(begin).toBeLessThan(60 * minute);
  });

  it('is bounded by when it has to be done, and is none where nothing bounds it or it does not fit', () => {
    const plan = planOf({ devices: 1, first: 0 });
    expect(latestBegin(plan, 0, null)).toBeNull();
    const { begin } = latestBegin(plan, 0, 3 * whole)!;
    expect(begin).toBeGreaterThan(2 * whole - minute);
    expect(begin).toBeLessThanOrEqual(2 * whole);
    expect(latestBegin(plan, 0, whole - 1)).toBeNull();
    expect(latestBegin(two([0, whole / 2]), 0, null)).toBeNull();
  });
});
