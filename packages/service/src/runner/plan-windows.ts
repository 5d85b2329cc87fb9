import {
  clockText,
  entriesBefore,
  indexAfter,
  needOf,
  opensAt,
  passageOf,
  spansOf,
  type Candidate,
  type Passage,
  type Plan,
  type PlannedWindow,
  type WayLeg,
} from '@barrow/core';
import { Refusal } from '../errors.js';
import { windowsAheadMs } from '../windows.js';

/** When a device may be begun with that takes an image by itself: so long before its hour, and only where that lies in the window. */
const armedMargin = 10 * 60_000;

/** The window of a device that takes an image at an hour of its own. @throws Refusal when no hour lies in the window */
export function windowOfHour(
  name: string,
  passage: Passage,
  { applies }: WayLeg['way'],
  { asked, wayBack, now }: { readonly asked: PlannedWindow | null; readonly wayBack: boolean; readonly now: number },
): Candidate['window'] {
  if (applies === undefined) return undefined;
  const { at, zone } = applies;
  const { steps, stretches } = passage;
  const rule = { zone, days: [], from: at, to: (at + 1) % 1440 };
  const hours = spansOf(rule, now, now + windowsAheadMs).map(([from]) => from);
  const index = steps.findIndex((s) => s.ownHour);
  const stretch = stretches.find((s) => s.from <= index && index < s.to)!;
  const beforeMs = steps.slice(stretch.from, index).reduce((sum, s) => sum + s.typicalMs, 0);
  // The way back has to fit as well, where it is taken at once.
  const afterMs = needOf({ wayBack }, passage, stretch) - beforeMs;
  const needs = { beforeMs, afterMs, marginMs: armedMargin };
  const spans = entriesBefore(hours, needs, asked?.spans ?? null);
  if (spans.length === 0)
    throw new Refusal(
      422,
      'window-misses-hour',
      'The window does not fit',
      `${name} takes an image by itself at ${clockText(at)} (${zone}), and that does not lie in ${asked?.text ?? 'the next days'}.`,
      'Choose a window in which that hour lies with the time that follows it, or leave the device out.',
    );
  const text = `${clockText(at)} (${zone}), at which it takes an image by itself${asked ? `, in ${asked.text}` : ''}`;
  // Who takes longer to be armed, or afterwards, or stands where another window is, is begun with at other times.
  return {
    name: `hour ${clockText(at)} ${zone} ${beforeMs}+${afterMs}${asked ? ` in ${asked.text}` : ''}`,
    window: { text, spans, hours },
  };
}

/** Who asks for a window is told of the sites that have another of their own. */
export function otherThanHouse(asked: PlannedWindow | null, houses: ReadonlyMap<string, PlannedWindow | null>): string[] {
  const others = [...houses].flatMap(([site, house]) => (house && asked && house.text !== asked.text ? [`${site} (${house.text})`] : []));
  return others.length === 0 ? [] : [`The window that was asked for is taken instead of the one of ${others.join(', ')}.`];
}

/** Whom no window is long enough for. @throws Refusal naming them */
export function refuseTooLong(plan: Plan, now: number): void {
  const long = plan.runs.filter((run) => passageOf(plan, run).stretches.some((_, i) => opensAt(plan, run, i, now) === null));
  if (long.length === 0) return;
  const over = long.map((run) => plan.windows![run.window!]!).find((w) => indexAfter(w.spans, now) === w.spans.length);
  if (over)
    throw new Refusal(
      422,
      'window-over',
      'The window is over',
      `${over.text} does not come any more in the next ${windowsAheadMs / 86_400_000} days.`,
      'Choose another day with --on; a site says when its devices may go down with `barrow site set SITE --between`.',
    );
  throw new Refusal(
    422,
    'window-too-short',
    'The window is too short',
    `${plan.windows![long[0]!.window!]!.text} leaves no time for ${long
      .slice(0, 3)
      .map((r) => r.name)
      .join(
        ', ',
      )}${long.length > 3 ? ` and ${long.length - 3} more` : ''}: to be down, to be looked at and, with --way-back, to be taken back.`,
    'Widen it with --between, or leave these devices out.',
  );
}
