import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { leastOf, legSteps, rehearse, shortened, type Plan } from '@barrow/core';
import { nineSteps, passage, planOf, typicalMs } from './plans.js';

const span = (plan: Plan): number => {
  const played = rehearse(plan, 0);
  return played.endsAt - played.beginsAt;
};
const slow = passage(undefined, nineSteps('activate', Object.fromEntries(Object.entries(typicalMs).map(([k, v]) => [k, 3 * v]))));
/** Devices at sites, on the core of theirs, every eighth on it carrying those that follow. */
const house = (devices: number, sites: number, atOnce: number, perSite: number, slowAt: readonly number[]): Plan =>
  planOf({
    ...{ devices, first: 0, atOnce, perSite, gate: { soakMs: 0, failureLimit: 99, approval: false } },
    each: Array.from({ length: devices }, (_, i) => {
      const core = i % sites;
      const access = core + (Math.floor(i / sites) - (Math.floor(i / sites) % 8)) * sites;
      return {
        site: `s${core}`,
        under: [...new Set([i, access, core])].map((n) => `d${n + 1}`),
        ...(slowAt.includes(i) ? { passage: slow } : {}),
      };
    }),
  });
const houses = fc.record({
  devices: fc.integer({ min: 2, max: 60 }),
  sites: fc.integer({ min: 1, max: 5 }),
  atOnce: fc.integer({ min: 1, max: 12 }),
  perSite: fc.constantFrom(0, 2, 4),
  slowAt: fc.uniqueArray(fc.nat({ max: 59 }), { maxLength: 12 }),
});

describe('an order that takes less', () => {
  it('has the same devices in the same waves, is never longer, and never shorter than the least', () => {
    fc.assert(
      fc.property(houses, ({ devices, sites, atOnce, perSite, slowAt }) => {
        const plan = house(devices, sites, atOnce, perSite, slowAt);
        const better = shortened(plan, 0);
        expect([...better.runs].sort((a, b) => a.id.localeCompare(b.id))).toEqual([...plan.runs].sort((a, b) => a.id.localeCompare(b.id)));
        expect(better.runs.map((r) => r.wave)).toEqual(plan.runs.map((r) => r.wave));
        expect({ ...better, runs: [] }).toEqual({ ...plan, runs: [] });
        const lasts = span(better);
        expect(lasts).toBeLessThanOrEqual(span(plan));
        expect(leastOf(better, rehearse(better, 0))).toBeLessThanOrEqual(lasts);
      }),
      { numRuns: 60 },
    );
  });

  it('is found where the last ones wait for their turn, and what carries most stays the last', () => {
    const plan = house(50, 4, 8, 0, [3, 17, 30, 44]);
    expect(span(shortened(plan, 0))).toBeLessThan(span(plan));
    const one = house(40, 1, 6, 0, [5, 9]);
    expect(shortened(one, 0).runs.at(-1)!.id).toBe('d1');
  });

  it('is not looked for in what is too large, or goes at once', () => {
    const wide = house(20, 2, 20, 0, []);
    expect(shortened(wide, 0)).toBe(wide);
  });

  it('counts of the least what a trunk waits for', () => {
    // Two leaves one after the other, and then the trunk goes down.
    const plan = house(3, 1, 1, 0, []);
    const played = rehearse(plan, 0);
    expect(leastOf(plan, played)).toBe(played.endsAt - played.beginsAt);
    const free = { ...house(8, 1, 8, 0, []), capacity: { 'rollout:r-test': 4 } };
    const [way] = free.passages;
    const takes = (from: number, to: number): number => way!.steps.slice(from, to).reduce((sum, s) => sum + s.typicalMs, 0);
    const change = way!.stretches.find((s) => s.name === 'change')!;
    expect(leastOf(free, rehearse(free, 0))).toBe(Math.ceil((7 * takes(0, legSteps(way!))) / 4) + takes(change.from, change.to));
  });
});
