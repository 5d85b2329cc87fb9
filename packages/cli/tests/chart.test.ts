import { describe, expect, it } from 'vitest';
import type { RehearsalView } from '@barrow/core';
import { chartText } from '../src/chart.js';

const at = (seconds: number): string => new Date(seconds * 1000).toISOString();
const span = (from: number, until: number) => ({ from: at(from), until: at(until) });
const run = (name: string, wave: number, over: Partial<RehearsalView['runs'][number]>): RehearsalView['runs'][number] => ({
  ...{ run: name, name, wave, beginsAt: at(0), endsAt: at(0), downFrom: null, downUntil: null, downs: 0, downMs: 0 },
  ...{ parts: [], dark: [], cut: [], outcome: 'verified', cause: null, rungs: [] },
  ...over,
});
const totals = {};
const played: RehearsalView = {
  ...{ beginsAt: at(0), endsAt: at(40), totalMs: 40_000, mostAtOnce: 1, mostDown: 1, approvals: [], ifs: [], holds: [] },
  ...{ chain: [], leastMs: 0, latest: null },
  ...{
    devices: 2,
    totals: totals as RehearsalView['totals'],
    stuck: null,
    waves: [0, 1].map((wave) => ({ wave, opensAt: at(wave * 20), endsAt: at(20 + wave * 20) })),
  },
  runs: [
    run('sw-1', 0, {
      beginsAt: at(0),
      endsAt: at(20),
      parts: [
        { name: 'prepare', ...span(0, 4), waited: null },
        { name: 'change', ...span(8, 20), waited: 'waits for its turn' },
      ],
      dark: [span(10, 16)],
    }),
    run('sw-2', 1, {
      beginsAt: at(20),
      endsAt: at(40),
      parts: [{ name: 'prepare', ...span(20, 40), waited: null }],
      cut: [{ ...span(10, 16), by: 'sw-1' }],
    }),
  ],
};
const io = { out: () => undefined, err: () => undefined, terminal: false, width: 29 };

describe('the chart of a rehearsal', () => {
  it('has a row for each device, and a mark for each part of the time', () => {
    const lines = chartText(io, played).split('\n');
    expect(lines.slice(1, 5)).toEqual(['Wave 1', 'sw-1    ▒▒··▓███▓▓', 'Wave 2', 'sw-2         ░░░  ▒▒▒▒▒▒▒▒▒▒']);
    expect(lines.at(-1)).toContain('one mark is 2 s');
  });

  it('draws the hours narrow in which nothing happens, and says how many', () => {
    const [one] = played.runs;
    const nights = {
      ...{ beginsAt: at(0), totalMs: 40_040_000, waves: played.waves.slice(0, 1) },
      runs: [
        {
          ...one!,
          endsAt: at(40_040),
          parts: [...one!.parts, { name: 'change', ...span(40_020, 40_040), waited: 'waits for its window' }],
        },
      ],
    };
    const lines = chartText({ ...io, width: 100 }, nights).split('\n');
    expect(lines[2]).toMatch(/^sw-1 {4}▒+·+▓+█+▓+┊+▓+$/);
    expect(lines.at(-1)).toContain('┊ 11 h 6 min in which nothing happens; one mark is ');
  });

  it('fits the width, however narrow', () => {
    for (const width of [20, 60, 200])
      for (const line of chartText({ ...io, width }, played)
        .split('\n')
        .slice(0, 5))
        expect(line.length).toBeLessThanOrEqual(Math.max(29, width));
  });
});
