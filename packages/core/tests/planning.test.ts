import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { makePlan, firstSteps, stepsOf, TargetFinder, type Plan, type TargetRule } from '@barrow/core';
import { candidate, nineSteps, passage } from './plans.js';

const gate = { soakMs: 600_000, failureLimit: 2, approval: true };
const request = {
  id: 'r',
  name: 'n',
  createdAt: 1,
  createdBy: 'a',
  unsaved: 'hold' as const,
  wayBack: false,
  first: 1,
  atOnce: 4,
  perSite: 0,
  gate,
  leftOut: [],
};
const plan = (over: Partial<Parameters<typeof makePlan>[0]>): Plan => makePlan({ ...request, candidates: [], ...over });
const several = (n: number, over: (i: number) => object = () => ({})) => Array.from({ length: n }, (_, i) => candidate(i + 1, over(i)));

describe('a plan', () => {
  it('puts one device of each family into the first wave before a second of any', () => {
    const families = ['a', 'a', 'a', 'b', 'c'];
    const first = (n: number) =>
      plan({ first: n, candidates: several(5, (i) => ({ family: families[i] })) })
        .runs.filter((r) => r.wave === 0)
        .map((r) => r.family);
    expect(first(1)).toHaveLength(1);
    expect(first(3).sort()).toEqual(['a', 'b', 'c']);
    expect(first(4).sort()).toEqual(['a', 'a', 'b', 'c']);
  });

  it('is one wave when all go first, or none does, and then has no soak', () => {
    for (const first of [0, 3, 9]) {
      const made = plan({ first, candidates: several(3) });
      expect(made.waves).toEqual([{ name: 'all', gate: { ...gate, soakMs: 0, approval: false } }]);
      expect(made.runs.every((r) => r.wave === 0)).toBe(true);
    }
  });

  it('soaks and asks only between waves, and keeps the failure limit in both', () => {
    expect(plan({ candidates: several(3) }).waves).toEqual([
      { name: 'first', gate: { ...gate, watch: true } },
      { name: 'rest', gate: { soakMs: 0, failureLimit: 2, approval: false } },
    ]);
  });

  it('orders names as people do', () => {
    const names = plan({ first: 0, candidates: several(12, (i) => ({ name: `sw-${i + 1}`, site: 'one' })) }).runs.map((r) => r.name);
    expect(names.slice(0, 3)).toEqual(['sw-1', 'sw-2', 'sw-3']);
    expect(names[11]).toBe('sw-12');
  });

  it('marks every step from the point of no return on, and no other', () => {
    for (const point of firstSteps) {
      const made = plan({ candidates: [candidate(1, { passage: passage(undefined, nineSteps(point)) })] });
      expect(
        stepsOf(made, made.runs[0]!)
          .slice(0, firstSteps.length)
          .filter((s) => s.pastReturn)
          .map((s) => s.step),
      ).toEqual(firstSteps.slice(firstSteps.indexOf(point)));
    }
  });

  it('names a limit for each site only when sites are limited', () => {
    const own = `rollout:${plan({}).id}`;
    expect(plan({ candidates: several(4) }).capacity).toEqual({ [own]: 4 });
    const limited = plan({ perSite: 2, candidates: several(4) });
    expect(limited.capacity).toEqual({ [own]: 4, 'site:site-0': 2, 'site:site-1': 2, 'site:site-2': 2 });
    for (const run of limited.runs) expect(run.room).toEqual([own, `site:${run.site}`]);
  });

  it('holds every candidate once, whatever it is made of', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 40 }),
        fc.integer({ min: 0, max: 10 }),
        fc.integer({ min: 1, max: 4 }),
        (n, first, families) => {
          const made = plan({ first, candidates: several(n, (i) => ({ family: `f${i % families}` })) });
          expect(made.runs.map((r) => r.device).sort()).toEqual(
            several(n)
              .map((c) => c.device)
              .sort(),
          );
          expect(made.runs.every((r) => r.wave < made.waves.length)).toBe(true);
          const waves = made.runs.map((r) => r.wave);
          expect(waves).toEqual([...waves].sort());
          if (made.waves.length === 2) expect(waves.filter((w) => w === 0).length).toBe(Math.min(first, n));
        },
      ),
    );
  });

  it('is the same for the same request in another order', () => {
    const candidates = several(9);
    expect(plan({ candidates: [...candidates].reverse() })).toEqual(plan({ candidates }));
  });
});

describe('the target of a device', () => {
  const rule = (id: string, over: Partial<TargetRule>): TargetRule => ({
    id,
    family: 'f',
    version: '1',
    fromFamilies: [],
    model: null,
    hardwareRevision: null,
    site: null,
    tag: null,
    device: null,
    acceptUnreleased: false,
    ...over,
  });
  const rules = [
    rule('family', {}),
    rule('site', { site: 's' }),
    rule('model', { model: 'm' }),
    rule('both', { model: 'm', site: 's' }),
    rule('revision', { hardwareRevision: 'R2' }),
    rule('tag', { tag: 'pilot' }),
    rule('device', { device: 'd' }),
    rule('other', { family: 'g', fromFamilies: ['old'] }),
  ];
  const device = { id: 'x', family: 'f', model: 'm', hardwareRevision: 'R1', site: 's', tags: [] as string[] };
  it.each([
    [{ id: 'd', tags: ['pilot'] }, 'device'],
    [{ tags: ['calm', 'pilot'], hardwareRevision: 'R2' }, 'tag'],
    [{ hardwareRevision: 'R2' }, 'revision'],
    [{}, 'both'],
    [{ site: 't' }, 'model'],
    [{ model: 'n' }, 'site'],
    [{ model: null, site: 't' }, 'family'],
    [{ id: 'd', family: 'g' }, 'other'],
    [{ family: 'old' }, 'other'],
    [{ id: 'd', family: null }, undefined],
    [{ id: 'd', family: 'h' }, undefined],
  ])('for %j is by the rule %s', (over, id) => {
    for (const order of [rules, [...rules].reverse()]) expect(new TargetFinder(order).for({ ...device, ...over })?.rule?.id).toBe(id);
  });

  it('is told with the reason why it is this one', () => {
    expect(new TargetFinder(rules).for(device)?.why).toBe('model m, site s, before 3 rules that say less');
    expect(new TargetFinder([rule('family', {})]).for(device)?.why).toBe('every device of the family');
  });

  it('is a conflict where two rules say as much and differ, and none where they agree', () => {
    const two = (version: string) => new TargetFinder([rule('a', { tag: 'pilot', version: '1' }), rule('b', { tag: 'winter', version })]);
    const tagged = { ...device, tags: ['pilot', 'winter'] };
    expect(two('2').for(tagged)?.conflict).toMatch(/^two targets say as much as each other: 1 \(tag pilot\) and 2 \(tag winter\)/);
    expect(two('1').for(tagged)?.conflict).toBeNull();
    expect(two('2').for({ ...tagged, id: 'd' })?.conflict).not.toBeNull();
  });

  it('is the pin where there is one, with what it would be without', () => {
    const pin = { device: 'x', version: '0', reason: 'evidence', askAgain: '2027-03-31' };
    const found = new TargetFinder(rules, [pin]).for(device);
    expect(found).toMatchObject({ version: '0', pin, conflict: null });
    expect(found?.why).toBe('pinned at 0 until 2027-03-31: evidence; without the pin it would be 1');
  });
});
