import { Temporal } from 'temporal-polyfill';
import type { Instant } from '../units.js';

/** Times at which devices may go down, again and again. */
export interface WindowRule {
  /** Of the IANA time zone database, e.g. `Europe/London`. */
  readonly zone: string;
  /** Days of the week on which it begins, 1 (Monday) to 7 (ISO 8601); empty: every day. */
  readonly days: readonly number[];
  /** Single days on which it begins (ISO 8601), instead of days of the week. */
  readonly dates?: readonly string[] | undefined;
  /** Minutes after midnight at which it begins. */
  readonly from: number;
  /** Minutes after midnight at which it ends; not after `from`: on the next day. */
  readonly to: number;
}

/** Days of the week as they are shortened, Monday first (ISO 8601). */
export const dayNames = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'] as const;

/** Minutes after midnight as a clock shows them. */
export const clockText = (minutes: number): string =>
  `${String(Math.floor(minutes / 60)).padStart(2, '0')}:${String(minutes % 60).padStart(2, '0')}`;

/** A rule as it is said: `22:00–04:00 on Sat, Sun (Europe/London)`. */
export const windowText = ({ zone, days, dates = [], from, to }: WindowRule): string =>
  `${clockText(from)}–${clockText(to)}${dates.length > 0 ? ` on ${[...dates].sort().join(', ')}` : ''}${
    dates.length === 0 && days.length > 0 && days.length < 7
      ? ` on ${[...days]
          .sort((a, b) => a - b)
          .map((d) => dayNames[d - 1])
          .join(', ')}`
      : ''
  } (${zone})`;

/** Spans of time, in their order and apart from each other: from the first moment to the first that is no longer in it. */
export type Spans = readonly (readonly [from: Instant, until: Instant])[];

/** Whether a time zone is known. */
export function isZone(zone: string): boolean {
  try {
    Temporal.Instant.fromEpochMilliseconds(0).toZonedDateTimeISO(zone);
    return true;
  } catch {
    return false;
  }
}

const clockOf = (minutes: number): Temporal.PlainTime =>
  Temporal.PlainTime.from({ hour: Math.floor(minutes / 60) % 24, minute: minutes % 60 });

/**
 * The spans of a rule that end after one moment and begin before another. A time of day that a change of summer time leaves out is
 * taken as the one an hour later; one that comes twice is the earlier where the span begins and the later where it ends.
 */
export function spansOf({ zone, days, dates = [], from, to }: WindowRule, after: Instant, before: Instant): Spans {
  const spans: (readonly [Instant, Instant])[] = [];
  // The one of yesterday may still be open.
  let day = Temporal.Instant.fromEpochMilliseconds(after).toZonedDateTimeISO(zone).toPlainDate().subtract({ days: 1 });
  for (;;) {
    const at = (date: Temporal.PlainDate, minutes: number, disambiguation: 'earlier' | 'later'): Instant =>
      date.toPlainDateTime(clockOf(minutes)).toZonedDateTime(zone, { disambiguation }).epochMilliseconds;
    const begins = at(day, from, isGap(zone, day, from) ? 'later' : 'earlier');
    if (begins >= before) return spans;
    const ends = at(to > from ? day : day.add({ days: 1 }), to, 'later');
    const isMeant = dates.length > 0 ? dates.includes(day.toString()) : days.length === 0 || days.includes(day.dayOfWeek);
    if (ends > after && ends > begins && isMeant) {
      const last = spans[spans.length - 1];
      // Windows of a whole day follow upon each other without a gap.
      if (last && begins <= last[1]) spans[spans.length - 1] = [last[0], Math.max(last[1], ends)];
      else spans.push([begins, ends]);
    }
    day = day.add({ days: 1 });
  }
}

/** Whether a time of day does not exist on a day: the clocks are put forward over it. */
function isGap(zone: string, day: Temporal.PlainDate, minutes: number): boolean {
  const plain = day.toPlainDateTime(clockOf(minutes));
  const there = plain.toZonedDateTime(zone, { disambiguation: 'earlier' }).toPlainDateTime();
  return !there.equals(plain);
}

/** The span that a moment lies in; null when it lies in none. */
export function spanAt(spans: Spans, now: Instant): readonly [Instant, Instant] | null {
  const found = spans[indexAfter(spans, now)];
  return found && found[0] <= now ? found : null;
}

/** Index of the first span that has not ended; `spans.length` when all have. */
export function indexAfter(spans: Spans, now: Instant): number {
  let low = 0;
  let high = spans.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (spans[middle]![1] <= now) low = middle + 1;
    else high = middle;
  }
  return low;
}

/**
 * When something that takes so long may begin: now, at the beginning of a later span, or never.
 *
 * @returns the moment, `now` itself when it fits at once; null when no span is left that is long enough
 */
export function fitsAt(spans: Spans, now: Instant, needMs: number): Instant | null {
  for (let i = indexAfter(spans, now); i < spans.length; i++) {
    const [from, until] = spans[i]!;
    const at = Math.max(from, now);
    if (at + needMs <= until) return at;
  }
  return null;
}

/**
 * When something may be begun on devices that take it by themselves at an hour of their own: late enough that they are armed for no
 * longer than they must, early enough that all is ready at that hour, and only where the hour, and what follows it, lie in a window.
 *
 * @param beforeMs how long it takes until they are armed
 * @param afterMs how long from their hour until it is done
 * @param marginMs how much earlier than necessary it may be begun
 * @param windows in which they may be down; null: at any time
 */
export function entriesBefore(
  hours: readonly Instant[],
  { beforeMs, afterMs, marginMs }: { readonly beforeMs: number; readonly afterMs: number; readonly marginMs: number },
  windows: Spans | null,
): Spans {
  return hours.flatMap((hour) => {
    const until = hour - beforeMs;
    const from = until - marginMs;
    if (windows === null) return [[from, until] as const];
    // Armed, any restart takes it: that lies in the window as well.
    const open = spanAt(windows, hour);
    return open && hour + afterMs <= open[1] && open[0] < until ? [[Math.max(from, open[0]), until] as const] : [];
  });
}
