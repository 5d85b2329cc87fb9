import { describe, expect, it } from 'vitest';
import { learnedFrom, makePassage, tookOf, type RolloutEvent } from '@barrow/core';
import { done, started, upTo } from './course.js';
import { namedAt } from './full-scan.js';
import { atItsHour, hours, nineSteps, passage, typicalMs } from './plans.js';
import type { World } from './world.js';

/** Its present step ends so long after it began. */
const ends = (world: World, afterMs: number, kind: 'step-done' | 'step-failed' = 'step-done'): RolloutEvent => {
  const at = world.state.runs[0]!.stepBegunAt! + afterMs;
  const step = { at, run: 'd1', ...namedAt(world.state, 0) };
  return kind === 'step-done' ? { kind, ...step } : { kind, ...step, cause: 'unreachable', detail: '' };
};

describe('how long a step took', () => {
  it('is told against what its family file says', () => {
    const world = started();
    expect(tookOf(world.state, ends(world, 2 * typicalMs.preflight))).toEqual({
      device: 'd1',
      family: 'tarnbrook-access',
      way: 'two slots',
      step: 'preflight',
      permille: 2000,
    });
    done(world);
    expect(tookOf(world.state, ends(world, typicalMs.backup / 4))).toMatchObject({ step: 'backup', permille: 250 });
  });

  it('is told against the family file still where the plan knew better', () => {
    const world = started({
      each: [{ passage: makePassage([{ ...leg }], 1, false, false, () => ({ permille: 500, mostPermille: 900, count: 7 })) }],
    });
    expect(world.plan.passages[0]!.steps[0]).toMatchObject({ typicalMs: typicalMs.preflight / 2 });
    expect(tookOf(world.state, ends(world, typicalMs.preflight / 2))).toMatchObject({ permille: 500 });
  });

  it('is learned from nothing that failed, is done by a person, waits for an hour, or brings a device back', () => {
    const world = started();
    expect(tookOf(world.state, ends(world, 5, 'step-failed'))).toBeNull();
    expect(tookOf(world.state, { ...(ends(world, 5) as object), run: 'd9' } as never)).toBeNull();
    for (const fact of ['wasThere', 'needless']) {
      expect(tookOf(world.state, { ...ends(world, 5), facts: { [fact]: true } } as never)).toBeNull();
      expect(tookOf(world.state, { ...ends(world, 5), facts: { [fact]: false } } as never)).not.toBeNull();
    }
    world.state.runs[0]!.rung = 0;
    expect(tookOf(world.state, ends(world, 5))).toBeNull();
    const idle = started();
    const late = ends(idle, 5);
    idle.state.runs[0]!.phase = 'lost';
    expect(tookOf(idle.state, late)).toBeNull();
    const way = nineSteps();
    const stretches = way.stretches.map((s) => ({ ...s, steps: s.steps.map((one) => ({ ...one, words: 'carry it there' })) }));
    const byHand = started({ each: [{ passage: passage(undefined, { ...way, stretches }) }] });
    expect(tookOf(byHand.state, ends(byHand, 5))).toBeNull();
    const hourly = started({ each: [{ passage: passage(undefined, atItsHour(way)), window: hours }] });
    upTo(hourly, 'return');
    hourly.state.runs[0]!.phase = 'busy';
    expect(tookOf(hourly.state, { kind: 'step-done', at: 9e9, run: 'd1', step: 'return' })).toBeNull();
  });
});

const leg = { image: 'a'.repeat(64), component: 'system', from: '4.2.1', to: '4.3.0', bytes: 3 * 1024 * 1024, way: nineSteps() };

describe('what is learned', () => {
  it('is the median, what nine of ten do not exceed, and from how many; nothing from two', () => {
    expect(learnedFrom([900, 1100])).toBeNull();
    expect(learnedFrom([1100, 100, 900])).toEqual({ permille: 900, mostPermille: 1100, count: 3 });
    expect(learnedFrom([10, 9, 8, 7, 6, 5, 4, 3, 2, 1])).toEqual({ permille: 5, mostPermille: 9, count: 10 });
  });

  it('holds for an image of another size, for its way and step alone, and leaves the others to the family file', () => {
    const way = nineSteps();
    const perMiB = { ...way, stretches: way.stretches.map((s) => ({ ...s, steps: s.steps.map((one) => ({ ...one, perMiBMs: 1000 })) })) };
    const learned = (name: string, step: string) =>
      name === 'two slots' && step === 'transfer' ? { permille: 500, mostPermille: 1500, count: 12 } : null;
    const { steps } = makePassage([{ ...leg, way: perMiB }], 2, false, false, learned);
    const fileMs = (typicalMs.transfer + 3000) / 2;
    expect(steps.find((s) => s.step === 'transfer')).toMatchObject({
      typicalMs: fileMs / 2,
      learned: { count: 12, mostMs: fileMs * 1.5, fileMs },
    });
    expect(steps.filter((s) => s.learned)).toHaveLength(1);
    expect(steps[0]!.typicalMs).toBe((typicalMs.preflight + 3000) / 2);
  });
});
