import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { divide, type Divisible, type Division } from '@barrow/core';
import { planOf } from './plans.js';
import { World } from './world.js';

const minute = 60_000;

describe('waves', () => {
  const named = [
    { name: 'early', devices: ['d5', 'd2'] },
    { name: 'then', devices: ['d4'] },
  ];
  const namesOf = (plan: ReturnType<typeof planOf>) =>
    plan.waves.map((w, i) => [w.name, ...plan.runs.filter((r) => r.wave === i).map((r) => r.id)]);

  it('are those that a person named, in their order, then the rest', () => {
    expect(namesOf(planOf({ devices: 6, first: 0, named }))).toEqual([
      ['early', 'd2', 'd5'],
      ['then', 'd4'],
      ['rest', 'd3', 'd6', 'd1'],
    ]);
  });

  it('have before the rest as many first ones as are asked for, one of each family in turn', () => {
    const each = [{}, { family: 'b' }, {}, { family: 'b' }, { family: 'b' }, {}];
    expect(namesOf(planOf({ devices: 6, first: 2, named: [{ name: 'early', devices: ['d3'] }], each }))).toEqual([
      ['early', 'd3'],
      ['first', 'd6', 'd4'],
      ['rest', 'd1', 'd2', 'd5'],
    ]);
  });

  it('are made of the rest by site, kind or family, what carries most last, or by shares', () => {
    const kinds = ['router', 'camera', 'switch', 'phone', 'camera', 'access-point'] as const;
    const each = kinds.map((kind) => ({ kind }));
    const by = (division: Division) =>
      namesOf(planOf({ devices: 6, first: 0, by: division, each })).map(([name, ...ids]) => [name, ids.length]);
    expect(by('site')).toEqual([
      ['site-0', 2],
      ['site-1', 2],
      ['site-2', 2],
    ]);
    expect(by('kind')).toEqual([
      ['phone', 1],
      ['camera', 2],
      ['access-point', 1],
      ['switch', 1],
      ['router', 1],
    ]);
    expect(by([10, 50])).toEqual([
      ['to 10 %', 1],
      ['to 60 %', 3],
      ['rest', 2],
    ]);
    expect(by([50, 50]).map(([, n]) => n)).toEqual([3, 3]);
  });

  it('bring forward what another needs, and what that needs, and say so', () => {
    const each = [{ needs: [{ leg: 0, device: 'd2' }] }, { needs: [{ leg: 0, device: 'd3' }] }];
    const plan = planOf({ devices: 4, first: 0, named: [{ name: 'early', devices: ['d1'] }], each });
    expect(namesOf(plan)[0]).toEqual(['early', 'd3', 'd2', 'd1']);
    expect(plan.remarks).toEqual(['sw-2 goes in the wave early: sw-1 needs it.', 'sw-3 goes in the wave early: sw-2 needs it.']);
  });

  it('go through the least carrying first within a site', () => {
    const each = [{ under: ['d1'] }, { under: ['d1', 'd2'] }, { under: ['d1', 'd2', 'd3'] }].map((e) => ({ ...e, site: 'a' }));
    expect(planOf({ devices: 3, first: 0, each }).runs.map((r) => r.id)).toEqual(['d3', 'd2', 'd1']);
  });

  it('lose nobody, hold nobody twice, and keep every need', () => {
    const one = fc.record({ site: fc.constantFrom('a', 'b', 'c'), family: fc.constantFrom('x', 'y'), back: fc.option(fc.nat(8)) });
    fc.assert(
      fc.property(
        fc.array(one, { minLength: 1, maxLength: 12 }),
        fc.array(fc.array(fc.nat(14), { maxLength: 4 }), { maxLength: 3 }),
        fc.nat(4),
        fc.constantFrom<Division | null>(null, 'site', 'family', [10, 20], [50, 50], [100]),
        (list, waves, first, by) => {
          const devices: Divisible[] = list.map(({ site, family, back }, i) => ({
            device: `d${i}`,
            name: `d${i}`,
            site,
            family,
            needs: back === null ? [] : [{ device: `d${i - back - 1}` }],
          }));
          const taken = new Set<number>();
          const asked = waves.map((w, i) => ({
            name: `w${i}`,
            devices: w.filter((n) => !taken.has(n) && taken.add(n)).map((n) => `d${n}`),
          }));
          const { waves: made } = divide(devices, { named: asked, first, by });
          expect(made.flatMap((w) => w.members.map((m) => m.device)).sort()).toEqual(devices.map((d) => d.device).sort());
          expect(made.every((w) => w.members.length > 0)).toBe(true);
          const waveOf = new Map(made.flatMap(({ members }, i) => members.map((m) => [m.device, i])));
          for (const { device, needs } of devices)
            for (const n of needs ?? []) if (waveOf.has(n.device)) expect(waveOf.get(n.device)).toBeLessThanOrEqual(waveOf.get(device)!);
        },
      ),
      { numRuns: 200 },
    );
  });
});

describe('the gate after a wave', () => {
  const gate = { soakMs: minute, failureLimit: 9, approval: false };
  const begun = (shape: Parameters<typeof planOf>[0]) => {
    const world = new World(
      planOf({ devices: 5, atOnce: 9, named: [{ name: 'early', devices: ['d1', 'd2', 'd3', 'd4'] }], first: 0, ...shape }),
    );
    world.settle();
    return world;
  };
  const fail = (world: World, run: string) => {
    world.happen({ kind: 'step-failed', at: world.now, run, step: 'preflight', cause: 'login-refused', detail: '' });
    world.settle();
  };

  it('holds at a share of the wave', () => {
    const world = begun({ gate: { ...gate, failureShare: 50 } });
    fail(world, 'd1');
    expect(world.state.phase).toBe('running');
    fail(world, 'd2');
    expect(world.state.heldBecause).toBe('2 of 4 failed in wave 1 (early); the limit is 50 %');
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(world.state.phase).toBe('running');
  });

  it('holds at its end when too many were not there, until a person goes on', () => {
    const world = begun({ gate: { ...gate, absentLimit: 1 } });
    for (const run of ['d1', 'd2']) world.happen({ kind: 'run-absent', at: world.now, run, cause: 'unreachable', detail: '' });
    world.settle();
    for (let step = 0; step < 9; step++)
      for (const { id } of world.runsIn('busy')) {
        const { step: name } = world.plan.passages[0]!.steps[world.state.runs[world.state.indexOf.get(id)!]!.step]!;
        world.happen({ kind: 'step-done', at: world.now, run: id, step: name });
        world.settle();
      }
    expect(world.state.heldBecause).toBe('2 of wave 1 (early) are absent or not ready; the limit is 1');
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.now += minute;
    world.settle();
    expect(world.state.wave).toBe(1);
  });

  it('may be otherwise after one wave, and the last one soaks where that was said of it', () => {
    const plan = planOf({
      devices: 5,
      first: 0,
      named: [{ name: 'early', devices: ['d1'] }],
      gate,
      gates: { early: { soakMs: 5, approval: true }, rest: { soakMs: 7 } },
    });
    expect(plan.waves).toEqual([
      { name: 'early', gate: { soakMs: 5, failureLimit: 9, approval: true, watch: true } },
      { name: 'rest', gate: { soakMs: 7, failureLimit: 9, approval: false, watch: true } },
    ]);
    expect(planOf({ devices: 2, first: 1, gate }).waves.at(-1)!.gate.soakMs).toBe(0);
  });
});
