import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { axisOf } from '../src/axis.js';

const at = (seconds: number): string => new Date(seconds * 1000).toISOString();
const drawn = (totalMs: number, spans: readonly (readonly [number, number])[]) => ({
  beginsAt: at(0),
  totalMs,
  runs: spans.map(([from, until]) => ({ parts: [{ from: at(from), until: at(until) }], dark: [] })),
});

describe('the axis of a picture of a night', () => {
  it('goes from one end to the other, evenly where something happens all the time', () => {
    const axis = axisOf(
      drawn(100_000, [
        [0, 60],
        [50, 100],
      ]),
    );
    expect(axis.pauses).toEqual([]);
    expect([0, 25_000, 100_000].map(axis.at)).toEqual([0, 0.25, 1]);
    expect([0, 0.25, 1].map(axis.momentAt)).toEqual([0, 25_000, 100_000]);
  });

  it('draws long pauses narrow, those at the beginning and at the end too, and gives what is left to the rest', () => {
    const axis = axisOf(
      drawn(1_000_000, [
        [0, 100],
        [900, 1000],
      ]),
    );
    expect(axis.pauses).toEqual([{ from: 100_000, until: 900_000 }]);
    expect([100_000, 500_000, 900_000, 950_000].map((m) => Math.round(axis.at(m) * 100) / 100)).toEqual([0.48, 0.5, 0.52, 0.76]);
    expect(axisOf(drawn(1_000_000, [[400, 500]])).pauses).toHaveLength(2);
    // What is to be seen parts a pause.
    expect(
      axisOf(
        drawn(1_000_000, [
          [0, 100],
          [900, 1000],
        ]),
        [500_000],
      ).pauses,
    ).toHaveLength(2);
  });

  it('leads from a moment to a place and back, and never backwards', () => {
    const spans = fc.array(fc.tuple(fc.nat(900), fc.integer({ min: 1, max: 100 })), { maxLength: 8 });
    fc.assert(
      fc.property(spans, fc.array(fc.nat(1_000_000), { minLength: 2, maxLength: 20 }), (list, moments) => {
        const axis = axisOf(
          drawn(
            1_000_000,
            list.map(([from, wide]) => [from, from + wide] as const),
          ),
        );
        for (const moment of moments) expect(axis.momentAt(axis.at(moment))).toBeCloseTo(moment, 0);
        const places = [...moments].sort((a, b) => a - b).map(axis.at);
        expect(places).toEqual([...places].sort((a, b) => a - b));
        expect(Math.min(...places)).toBeGreaterThanOrEqual(0);
        expect(Math.max(...places)).toBeLessThanOrEqual(1.000001);
      }),
    );
  });
});
