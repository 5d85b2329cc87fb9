import { duration } from '@barrow/core';
import { clockAt } from './words.js';

/** A stretch of time in milliseconds. */
export interface Span {
  readonly from: number;
  readonly until: number;
}

/** Where moments stand in a picture of a time, from 0 to 1: long pauses, in which nothing happens, are drawn narrow. */
export interface Axis {
  readonly at: (moment: number) => number;
  readonly momentAt: (place: number) => number;
  readonly pauses: readonly Span[];
  /** What is written at a place: how long after the beginning, or by the clock where parts of it are drawn narrow. */
  readonly label: (place: number) => string;
}

/** A pause is drawn narrow when it is longer than this part of what is left without longer ones; so narrow is it drawn, and so many are. */
const longPart = 0.15;
const narrow = 0.04;
const mostPauses = 8;

interface Drawn {
  readonly beginsAt: string;
  readonly totalMs: number;
  readonly runs: readonly {
    readonly parts: readonly { readonly from: string; readonly until: string }[];
    readonly dark: readonly { readonly from: string; readonly until: string }[];
  }[];
}

/** The pauses of what is drawn: when nobody is in hand and nobody is down. */
function pausesOf({ beginsAt, totalMs, runs }: Drawn, marks: readonly number[]): Span[] {
  const begins = Date.parse(beginsAt);
  const ends = begins + totalMs;
  const busy = [
    ...runs.flatMap((r) => [...r.parts, ...r.dark].map((s) => [Date.parse(s.from), Date.parse(s.until)] as const)),
    ...marks.map((m) => [m, m] as const),
    [ends, ends] as const,
  ].sort((a, b) => a[0] - b[0]);
  const gaps: Span[] = [];
  let done = begins;
  for (const [from, until] of busy) {
    if (from > done) gaps.push({ from: done, until: from });
    done = Math.max(done, until);
  }
  // Beside a day in which nothing happens an hour is short, and long beside what is left then: the longest first.
  let left = totalMs;
  const pauses: Span[] = [];
  for (const gap of gaps.sort((a, b) => b.until - b.from - (a.until - a.from))) {
    const lasts = gap.until - gap.from;
    if (lasts <= longPart * left || pauses.length === mostPauses) break;
    left -= lasts;
    pauses.push(gap);
  }
  return pauses.sort((a, b) => a.from - b.from);
}

/**
 * The axis of a picture of what is rehearsed, or happened.
 *
 * @param marks moments that are to be seen as well, such as now
 */
export function axisOf(drawn: Drawn, marks: readonly number[] = []): Axis {
  const begins = Date.parse(drawn.beginsAt);
  const total = Math.max(1, drawn.totalMs);
  const within = marks.filter((m) => m > begins && m < begins + total);
  const pauses = pausesOf(drawn, within);
  const paused = pauses.reduce((sum, p) => sum + p.until - p.from, 0);
  const wide = (1 - narrow * pauses.length) / Math.max(1, total - paused);
  /** Where each piece ends, and how much of the picture a millisecond of it is. */
  const pieces: { from: number; until: number; place: number; scale: number }[] = [];
  let [at, place] = [begins, 0];
  const add = (until: number, scale: number): void => {
    pieces.push({ from: at, until, place, scale });
    place += (until - at) * scale;
    at = until;
  };
  for (const { from, until } of pauses) {
    add(from, wide);
    add(until, narrow / (until - from));
  }
  add(begins + total, wide);
  const last = pieces[pieces.length - 1]!;
  const momentAt = (wanted: number): number => {
    const piece = pieces.findLast((p) => p.place <= wanted && p.scale > 0) ?? pieces[0]!;
    return Math.round(piece.from + (wanted - piece.place) / piece.scale);
  };
  const label = (wanted: number): string => {
    if (wanted === 0) return 'start';
    return pauses.length > 0 ? clockAt(momentAt(wanted)) : `+${duration(momentAt(wanted) - begins)}`;
  };
  return {
    pauses,
    momentAt,
    label,
    at: (moment) => {
      const piece = pieces.find((p) => moment < p.until) ?? last;
      return piece.place + (moment - piece.from) * piece.scale;
    },
  };
}
