import {
  clockText,
  entriesBefore,
  isZone,
  needOf,
  opensAt,
  passageOf,
  spansOf,
  windowText,
  type Candidate,
  type Passage,
  type Plan,
  type PlanInput,
  type PlannedWindow,
  type WayLeg,
} from '@barrow/core';
import { Refusal } from '../errors.js';

/** So far ahead windows are laid down. */
const windowDays = 60;
const dayMs = 86_400_000;

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
  const hours = spansOf(rule, now, now + windowDays * dayMs).map(([from]) => from);
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
  // Who takes longer to be armed, or afterwards, is begun with at other times.
  return { name: `hour ${clockText(at)} ${zone} ${beforeMs}+${afterMs}`, window: { text, spans, hours } };
}

/** The window that was asked for, as it falls. @throws Refusal when its zone is not known */
export function windowFor(asked: PlanInput['window'], now: number): PlannedWindow | null {
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
  const rule = { zone, days: asked.days ?? [], from: minutes(asked.from), to: minutes(asked.to) };
  return { text: windowText(rule), spans: spansOf(rule, now, now + windowDays * dayMs) };
}

/** Whom no window is long enough for. @throws Refusal naming them */
export function refuseTooLong(plan: Plan, now: number): void {
  const long = plan.runs.filter((run) => passageOf(plan, run).stretches.some((_, i) => opensAt(plan, run, i, now) === null));
  if (long.length === 0) return;
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
