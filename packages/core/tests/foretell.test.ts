import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { foretell, rehearse, rehearseWith, Trace, type Plan, type PlayedRun } from '@barrow/core';
import { namedAt } from './full-scan.js';
import { atItsHour, hours, nineSteps, passage, planOf, withSides, type PlanShape } from './plans.js';
import { World } from './world.js';

const gate = { soakMs: 60_000, failureLimit: 9, approval: false };
const planned = (shape: Partial<PlanShape> = {}): Plan => planOf({ devices: 6, first: 1, atOnce: 2, gate, ...shape });

/** Lets every step take its usual time until a moment, as the plan says it. */
function until(world: World, moment: number): void {
  for (;;) {
    world.settle();
    const ends = world.runsIn('busy').map(({ id, index }) => {
      const { steps } = world.plan.passages[world.plan.runs[index]!.passage]!;
      const { step, stepBegunAt } = world.state.runs[index]!;
      return { id, index, at: stepBegunAt! + steps[step]!.typicalMs };
    });
    const wakes = world.decide().flatMap((c) => (c.kind === 'wake' ? [c.at] : []));
    const next = Math.min(...ends.map((e) => e.at), ...wakes);
    if (!(next <= moment)) break;
    world.now = next;
    for (const { id, index, at } of ends) if (at === next) world.happen({ kind: 'step-done', at, run: id, ...namedAt(world.state, index) });
  }
  world.now = Math.max(world.now, moment);
}

describe('the end of a rollout, foretold anew', () => {
  it('is that of its rehearsal as long as all goes as usual, from wherever it stands', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 1000 }), fc.integer({ min: 1, max: 4 }), fc.boolean(), (thousandth, atOnce, proves) => {
        const plan = planned({ atOnce, each: proves ? [{ passage: passage(undefined, nineSteps(), false, true) }] : [] });
        const world = new World(plan);
        const whole = rehearse(plan, world.now);
        const before = structuredClone(world.state.runs);
        expect(foretell(world.state, world.now)).toMatchObject({ endsAt: whole.endsAt, approvals: [], stuck: null, held: false });
        // Only looked at.
        expect(world.state.runs).toEqual(before);
        until(world, whole.beginsAt + Math.floor(((whole.endsAt - whole.beginsAt) * thousandth) / 1000));
        if (world.state.phase !== 'ended') expect(foretell(world.state, world.now).endsAt).toBe(whole.endsAt);
      }),
      { numRuns: 15 },
    );
  });

  it('is one picture with what happened until then: the same that was rehearsed, wherever the one ends and the other begins', () => {
    const shown = (runs: readonly PlayedRun[]) =>
      [...runs]
        .sort((a, b) => a.run.localeCompare(b.run))
        .map(({ run, beginsAt, endsAt, downs, downMs, dark, outcome, parts }) => ({
          ...{ run, beginsAt, endsAt, downs, downMs, dark, outcome },
          parts: parts.map(({ name, from, until: to }) => [name, from, to]),
        }));
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 1000 }), fc.integer({ min: 1, max: 4 }), fc.boolean(), (thousandth, atOnce, proves) => {
        const plan = planned({ atOnce, each: proves ? [{ passage: passage(undefined, nineSteps(), false, true) }] : [] });
        const world = new World(plan);
        const whole = rehearse(plan, world.now);
        const trace = new Trace(plan);
        let seen = 0;
        const grow = (): void => {
          for (; seen < world.journal.length; seen++) trace.see(world.journal[seen]!);
        };
        // Looked at twice: what was told of it before does not stay in it.
        for (const share of [thousandth / 2, thousandth]) {
          until(world, whole.beginsAt + Math.floor(((whole.endsAt - whole.beginsAt) * share) / 1000));
          grow();
          const hasEnded = world.state.phase === 'ended';
          const { runs, waves } = trace.with(hasEnded ? null : foretell(world.state, world.now).rest, world.now);
          expect(shown(runs)).toEqual(shown(whole.runs));
          expect(waves.map(({ wave, opensAt, endsAt }) => [wave, opensAt, endsAt])).toEqual(
            whole.waves.map(({ wave, opensAt, endsAt }) => [wave, opensAt, endsAt]),
          );
        }
      }),
      { numRuns: 40 },
    );
  });

  it('of who is late, reaches until now, and is down for as long', () => {
    const plan = planned({ devices: 1, first: 0 });
    const world = new World(plan);
    const trace = new Trace(plan);
    const { downFrom } = rehearse(plan, world.now).runs[0]!;
    until(world, downFrom! + 1000);
    for (const event of world.journal) trace.see(event);
    const [run] = trace.with(null, downFrom! + 500_000).runs;
    expect(run!.dark).toEqual([[downFrom, downFrom! + 500_000]]);
    expect(run!.parts.at(-1)).toMatchObject({ name: 'change', until: downFrom! + 500_000 });
    expect(run!.downMs).toBe(500_000);
  });

  it('comes later by what is late, and is now where nothing is left but to be late', () => {
    const plan = planned({ devices: 1, first: 0 });
    const world = new World(plan);
    world.settle();
    const { endsAt } = rehearse(plan, world.now);
    world.now += 3_600_000;
    expect(foretell(world.state, world.now).endsAt).toBe(endsAt + 3_600_000 - plan.passages[0]!.steps[0]!.typicalMs);
  });

  it('takes up who failed and is taken back, who is asked what is true, and who is not there', () => {
    const away = new World(planned({ devices: 2, first: 0, atOnce: 2 }));
    away.settle();
    away.happen({ kind: 'run-absent', at: away.now, run: 'd2', cause: 'unreachable', detail: 'silent' });
    const alone = rehearse(planned({ devices: 1, first: 0 }), away.now);
    expect(foretell(away.state, away.now)).toMatchObject({ endsAt: alone.endsAt, stuck: null });
    const other = new World(planned({ devices: 2, first: 0, wayBack: true }));
    until(other, other.now + 190_000);
    const [one] = other.runsIn('busy');
    expect(namedAt(other.state, one!.index).step).toBe('reboot');
    other.happen({ kind: 'service-started', at: other.now });
    other.settle();
    expect(other.runsIn('asking').length).toBeGreaterThan(0);
    const told = foretell(other.state, other.now);
    expect(told.stuck).toBeNull();
    expect(told.endsAt).toBeGreaterThan(other.now);
    const back = new World(planned({ devices: 1, first: 0, wayBack: true }));
    back.settle();
    for (let n = 0; n < 8; n++) {
      back.happen({ kind: 'step-done', at: back.now, run: 'd1', ...namedAt(back.state, 0) });
      back.settle();
    }
    back.happen({ kind: 'step-failed', at: back.now, run: 'd1', ...namedAt(back.state, 0), cause: 'settings-changed', detail: 'so' });
    back.settle();
    // As a rehearsal with the same mishap plays it from there on.
    const whole = rehearseWith(back.plan, 0, [{ run: back.plan.runs[0]!, step: 'checks', cause: 'settings-changed' }]);
    const steps = back.plan.passages[0]!.steps.slice(0, 9).reduce((sum, s) => sum + s.typicalMs, 0);
    expect(foretell(back.state, back.now).endsAt - back.now).toBe(whole.endsAt - steps);
  });

  it('comes to its end, or says why not, from wherever anything may have led', () => {
    const moves = fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000)), { minLength: 10, maxLength: 90 });
    const hourly = { passage: passage(undefined, atItsHour(nineSteps())), window: hours };
    const each = [
      { passage: passage(['1', '2', '3'], nineSteps(), true, true, true) },
      { passage: passage(undefined, withSides(nineSteps()), true) },
      hourly,
      { needs: [{ leg: 0, device: 'd1' }] },
    ];
    fc.assert(
      fc.property(moves, fc.boolean(), (all, approval) => {
        const world = new World(
          planned({ devices: 5, first: 2, atOnce: 2, wayBack: true, gate: { ...gate, failureLimit: 2, approval }, each }),
        );
        world.settle();
        for (const [what, which] of all) {
          if (world.state.phase === 'ended') break;
          world.act(what, which);
          if (which % 5 > 0) continue;
          if ((world.state.phase as string) === 'ended') break;
          const told = foretell(world.state, world.now);
          expect(told.endsAt).toBeGreaterThanOrEqual(world.now);
          expect(told.stuck).toBeNull();
        }
      }),
      { numRuns: 25 },
    );
  });

  it('says that a person holds it, who has to be asked, and why it never ends', () => {
    const approval = new World(planned({ gate: { ...gate, approval: true } }));
    approval.settle();
    expect(foretell(approval.state, approval.now)).toMatchObject({ approvals: [0], held: false });
    approval.happen({ kind: 'held', at: approval.now, by: 'somebody', reason: 'a word' });
    expect(foretell(approval.state, approval.now)).toMatchObject({ held: true, stuck: null });
    // The wave soaks already, and nobody has said so yet; or somebody has, long before.
    const soaking = new World(planned({ gate: { ...gate, soakMs: 9_000_000, approval: true } }));
    const { endsAt } = rehearse(soaking.plan, soaking.now);
    until(soaking, soaking.now + 1_000_000);
    expect(soaking.state.waves[0]!.phase).toBe('soaking');
    expect(foretell(soaking.state, soaking.now)).toMatchObject({ approvals: [0], endsAt, stuck: null });
    soaking.happen({ kind: 'approved', at: soaking.now, by: 'somebody', wave: 0 });
    expect(foretell(soaking.state, soaking.now)).toMatchObject({ approvals: [], endsAt, stuck: null });
    const window = { text: '', spans: [[0, 2_000_000] as const] };
    const over = new World(planned({ devices: 1, first: 0, window }));
    over.settle();
    over.now = 3_000_000;
    expect(foretell(over.state, over.now).stuck).toBe('its last window is over, and devices still wait for one');
  });
});
