import { isZone, spansOf, windowText, type PlannedWindow, type WindowInput } from '@barrow/core';
import { Refusal } from './errors.js';

/** So far ahead windows are laid down. */
export const windowsAheadMs = 60 * 86_400_000;

/** The window that was asked for, as it falls. @throws Refusal when its zone is not known */
export function windowFor(asked: WindowInput | null, now: number): PlannedWindow | null {
  if (!asked) return null;
  const minutes = (text: string): number => Number(text.slice(0, 2)) * 60 + Number(text.slice(3));
  const zone = asked.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone;
  if (!isZone(zone))
    throw new Refusal(
      422,
      'zone-unknown',
      'The window cannot be laid',
      `"${zone}" is no time zone.`,
      'Write it as in the time zone database, e.g. Europe/London.',
    );
  const rule = { zone, days: asked.days, dates: asked.dates, from: minutes(asked.from), to: minutes(asked.to) };
  return { text: windowText(rule), spans: spansOf(rule, now, now + windowsAheadMs) };
}
