import { CommandError, exit } from './errors.js';

/**
 * A moment as people write it, in the time zone of this machine: `22:00` (the next such time of day after `after`), `2026-11-27 22:00`,
 * `+2h`, or RFC 3339 with its offset.
 *
 * @param after milliseconds since 1970
 * @returns RFC 3339 in UTC
 * @throws CommandError when it is none of these
 */
export function momentOf(option: string, word: string, after: number): string {
  const span = /^\+(\d+)\s*(min|h|d)$/.exec(word);
  if (span) return new Date(after + Number(span[1]) * { min: 60_000, h: 3_600_000, d: 86_400_000 }[span[2] as 'min']).toISOString();
  const time = /^([01]?\d|2[0-3]):([0-5]\d)$/.exec(word);
  if (time) {
    const at = new Date(after);
    at.setHours(Number(time[1]), Number(time[2]), 0, 0);
    // The next day by the calendar, which may have another length.
    if (at.getTime() <= after) at.setDate(at.getDate() + 1);
    return at.toISOString();
  }
  const whole = /^(\d{4}-\d{2}-\d{2})[ T]([01]\d|2[0-3]):([0-5]\d)(:[0-5]\d(\.\d+)?)?(Z|[+-]\d{2}:\d{2})?$/.exec(word);
  const found = whole ? new Date(word.replace(' ', 'T')) : null;
  // 30 February would else become a day in March.
  if (found && !Number.isNaN(found.getTime()) && isDay(whole![1]!)) return found.toISOString();
  throw new CommandError(
    exit.wrongUse,
    'moment-malformed',
    'The command was not understood',
    `${option} takes a moment, not "${word}".`,
    "For example 22:00 (the next one), '2026-11-27 22:00', or +2h.",
  );
}

/** An hour earlier than the start would mean the next day: longer waits need the day as well. */
const longestWait = 12 * 3_600_000;

/**
 * Until when a rollout may start late. An hour without a day is the next such hour after the start.
 *
 * @param start milliseconds since 1970
 * @returns RFC 3339 in UTC
 * @throws CommandError when an hour without a day is more than twelve hours after the start
 */
export function latestStart(word: string, start: number): string {
  const latest = momentOf('--start-before', word, start);
  if (/^\d?\d:\d\d$/.test(word) && Date.parse(latest) - start > longestWait)
    throw new CommandError(
      exit.wrongUse,
      'start-before-start',
      'The command was not understood',
      `--start-before ${word} is earlier in the day than the start: it would mean the next day.`,
      "Give a later hour, or the day as well: '2026-11-28 21:00'.",
    );
  return latest;
}

const isDay = (date: string): boolean => new Date(`${date}T12:00:00Z`).toISOString().startsWith(date);
