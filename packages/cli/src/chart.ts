import type { RehearsalView } from '@barrow/core';
import { axisOf } from '@barrow/client';
import { duration } from '@barrow/core';
import { makeColours, type Io } from './output.js';

/** What a device does in a part of the time, from what matters most to what matters least. */
const marks = { dark: '█', change: '▓', work: '▒', cut: '░', pause: '┊', waits: '·', none: ' ' } as const;

type Run = RehearsalView['runs'][number];

/** The names of the stretches in which a device is not changed yet. */
const before = new Set(['prepare', 'transfer']);

function markAt(run: Run, from: number, until: number): keyof typeof marks {
  const meets = (span: { from: string; until: string }): boolean => Date.parse(span.from) < until && Date.parse(span.until) > from;
  if (run.dark.some(meets)) return 'dark';
  const parts = run.parts.filter(meets);
  if (parts.some((p) => !before.has(p.name))) return 'change';
  if (parts.length > 0) return 'work';
  if (run.cut.some(meets)) return 'cut';
  return Date.parse(run.beginsAt) < until && Date.parse(run.endsAt) > from ? 'waits' : 'none';
}

/**
 * A rehearsal as a chart that fits the width: one row for each device, time to the right.
 *
 * @param now in milliseconds: what lies after it is foretold, and dim
 */
export function chartText(io: Io, r: Pick<RehearsalView, 'beginsAt' | 'totalMs' | 'waves' | 'runs'>, now = Infinity): string {
  const c = makeColours(io);
  const names = Math.max(6, ...r.runs.map((x) => x.name.length));
  const columns = Math.max(20, io.width - names - 3);
  const axis = axisOf(r, Number.isFinite(now) ? [now] : []);
  const edges = Array.from({ length: columns + 1 }, (_, i) => axis.momentAt(i / columns));
  const isPause = (i: number): boolean => axis.pauses.some((p) => edges[i]! >= p.from && edges[i + 1]! <= p.until);
  const paused = axis.pauses.reduce((sum, p) => sum + p.until - p.from, 0);
  const each = (r.totalMs - paused) / columns;
  // Five times written along the top, each where it begins.
  const every = Math.ceil(columns / 5);
  let scale = '';
  for (let at = 0; at < columns; at += every) scale += axis.label(at / columns).padEnd(every);
  const row = (run: Run): string => {
    const cells = Array.from({ length: columns }, (_, i) => (isPause(i) ? 'pause' : markAt(run, edges[i]!, edges[i + 1]!)));
    const painted = cells.map((cell, i) => {
      const mark = cell === 'dark' ? c.red(marks[cell]) : marks[cell];
      return edges[i]! >= now || cell === 'pause' ? c.dim(mark) : mark;
    });
    const at = edges.findLastIndex((edge) => edge <= now);
    return at >= 0 && at < columns ? [...painted.slice(0, at), c.bold('|'), ...painted.slice(at + 1)].join('') : painted.join('');
  };
  const lines = r.waves.flatMap((w) => [
    c.bold(`Wave ${w.wave + 1}`),
    ...r.runs.filter((x) => x.wave === w.wave).map((x) => `${x.name.padEnd(names)}  ${row(x).trimEnd()}`),
  ]);
  return [
    `${' '.repeat(names)}  ${scale.slice(0, columns).trimEnd()}`,
    ...lines,
    '',
    c.dim(
      `${marks.dark} down   ${marks.change} being changed   ${marks.work} looked at, or taking its image   ${marks.cut} cut off by another   ${marks.waits} waits${axis.pauses.length === 0 ? '' : `   ${marks.pause} ${axis.pauses.map((p) => duration(p.until - p.from)).join(' and ')} in which nothing happens`}; one mark is ${duration(each)}${now === Infinity ? '' : '   | now: what comes after it is foretold'}`,
    ),
  ].join('\n');
}
