import { windowOf, type Plan } from '../plan/plan.js';
import { spanAt } from '../plan/windows.js';
import type { Instant } from '../units.js';
import { rehearse } from './rehearse.js';
import type { Played } from './play.js';

const toThe = 60_000;

/** When the last window closes of those in which a played rollout changes something; null: it needs none. */
export function closesAt(plan: Plan, played: Played): Instant | null {
  const byRun = new Map(plan.runs.map((run) => [run.id, run]));
  let last: Instant | null = null;
  for (const { run, parts } of played.runs)
    for (const { stretch, from } of parts) {
      const window = windowOf(plan, byRun.get(run)!, stretch)?.window;
      const span = window && spanAt(window.spans, from);
      if (span) last = Math.max(last ?? 0, span[1]);
    }
  return last;
}

/**
 * The latest moment, to the minute, at which a plan may begin so that it changes nothing after the windows in which it would if
 * it began at `from`, and is over by `doneBy` where that is asked; null when nothing bounds it, or it does not fit from `from` on.
 * Plays the plan about a dozen times.
 */
export function latestBegin(plan: Plan, from: Instant, doneBy: Instant | null): { readonly begin: Instant; readonly by: Instant } | null {
  const usual = rehearse(plan, from);
  const closes = closesAt(plan, usual);
  const fits = (played: Played): boolean =>
    played.stuck === null &&
    (closes === null || (closesAt(plan, played) ?? closes) <= closes) &&
    (doneBy === null || played.endsAt <= doneBy);
  const by = Math.min(closes ?? Infinity, doneBy ?? Infinity);
  if (by === Infinity || !fits(usual)) return null;
  let [good, bad] = [from, by];
  while (bad - good > toThe) {
    const between = Math.floor((good + bad) / 2);
    if (fits(rehearse(plan, between))) good = between;
    else bad = between;
  }
  return { begin: good, by };
}
