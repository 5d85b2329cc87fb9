import { cause as causeOf } from '../causes/catalogue.js';
import type { RolloutEvent } from '../scheduler/events.js';
import type { RolloutState } from '../scheduler/state.js';
import type { Instant, Ms } from '../units.js';

/**
 * What somebody may want to be told of: Barrow holds a rollout; a device failed, or was taken back; a person is wanted, for a word or
 * by hand; a rollout has ended; or it takes far longer than it was rehearsed. And the night sheet, as it stands after each part of a
 * device's way: for the night in which this machine dies.
 */
export const occasionKinds = ['held', 'failed', 'wanted', 'ended', 'overdue', 'sheet'] as const;
export type OccasionKind = (typeof occasionKinds)[number];
/** What wakes somebody; who wants the night sheet besides says so. */
export const usualKinds: readonly OccasionKind[] = occasionKinds.filter((kind) => kind !== 'sheet');

/** Of what somebody is told, in a few words. */
export function toldOfText(on: readonly OccasionKind[]): string {
  if (!usualKinds.every((kind) => on.includes(kind))) return on.join(', ');
  return on.includes('sheet') ? 'everything, with the night sheet' : 'everything';
}

export const occasionTexts: Readonly<Record<OccasionKind, string>> = {
  held: 'Barrow holds a rollout',
  failed: 'a device failed, or was taken back',
  wanted: 'a word or a hand is waited for',
  ended: 'a rollout has ended',
  overdue: 'a rollout takes far longer than rehearsed',
  sheet: 'the night sheet has changed; by mail, every few minutes at most',
};

export interface Occasion {
  readonly kind: OccasionKind;
  /** The device, where it is about one. */
  readonly device: string | null;
  /** What happened, in a sentence without its full stop. */
  readonly text: string;
}

/** For how long one waits for others that may come, in milliseconds. */
export const gatheredFor = (kind: OccasionKind): Ms => (kind === 'sheet' ? 300_000 : kind === 'failed' ? 30_000 : 2000);

/** What of an event somebody may want to be told of, after it was applied; null: nothing. */
export function occasionOf(state: RolloutState, event: RolloutEvent): Occasion | null {
  const { plan } = state;
  switch (event.kind) {
    case 'held':
      return event.by === 'Barrow' ? { kind: 'held', device: null, text: event.reason } : null;
    case 'soak-judged':
      // A last wave holds nothing: who is told of it looks all the same.
      return event.worse === null || event.wave < plan.waves.length - 1
        ? null
        : { kind: 'failed', device: null, text: `what soaked last got worse: ${event.worse}` };
    case 'rollout-ended':
      return { kind: 'ended', device: null, text: totalsText(state) };
    case 'wave-ended': {
      const { name, gate } = plan.waves[event.wave]!;
      if (!gate.approval) return null;
      return { kind: 'wanted', device: null, text: `wave ${event.wave + 1} (${name}) has ended, and the next waits for a word` };
    }
    case 'step-begun': {
      const index = state.indexOf.get(event.run)!;
      const { step, words } = plan.passages[plan.runs[index]!.passage]!.steps[state.runs[index]!.step]!;
      if (step !== 'by-hand') return null;
      const { name } = plan.runs[index]!;
      return { kind: 'wanted', device: name, text: `${name} waits for a hand: ${words ?? 'something has to be done at it'}` };
    }
    case 'person-asked': {
      const { name } = plan.runs[state.indexOf.get(event.run)!]!;
      return { kind: 'wanted', device: name, text: `${name} waits for an answer: ${event.text.split('\n')[0]!.replace(/\.$/, '')}` };
    }
    default: {
      if (!('run' in event) || event.run === undefined) return null;
      const index = state.indexOf.get(event.run);
      const run = index === undefined ? undefined : state.runs[index]!;
      if (!run) return null;
      const { name } = plan.runs[index!]!;
      if (run.endedAt !== event.at || (run.outcome !== 'failed' && run.outcome !== 'recovered')) {
        const isLeft = (event.kind === 'step-done' || event.kind === 'leg-proven') && (run.phase === 'parked' || run.phase === 'ended');
        return isLeft ? { kind: 'sheet', device: name, text: `${name} has ended ${run.outcome ?? 'a part of its way'}` } : null;
      }
      const why = run.cause === null ? (run.detail ?? '') : causeOf(run.cause).what.replace(/\.$/, '');
      return {
        kind: 'failed',
        device: name,
        text: run.outcome === 'failed' ? `${name} failed: ${why}` : `${name} runs what it ran before again: ${why}`,
      };
    }
  }
}

/** How those stand that have ended, most first. */
function totalsText({ runs }: RolloutState): string {
  const counts = new Map<string, number>();
  for (const { outcome } of runs) if (outcome !== null) counts.set(outcome, (counts.get(outcome) ?? 0) + 1);
  return `${counts.get('verified') ?? 0} of ${runs.length} verified${[...counts]
    .filter(([outcome]) => outcome !== 'verified')
    .map(([outcome, n]) => `, ${n} ${outcome}`)
    .join('')}`;
}

/** A message about one rollout: everything that was to be told of it at that time. */
export interface Notice {
  /** Of what it is about, the gravest. */
  readonly kind: OccasionKind;
  readonly subject: string;
  readonly lines: readonly string[];
}

const gravest: readonly OccasionKind[] = ['held', 'failed', 'wanted', 'overdue', 'ended', 'sheet'];
/** So many devices of one kind are told by name. */
const mostTold = 20;

/** Puts occasions of one rollout into one message, however many they are. */
export function noticeOf(rollout: string, occasions: readonly Occasion[]): Notice {
  const kind = gravest.find((k) => occasions.some((o) => o.kind === k))!;
  const of = (k: OccasionKind): Occasion[] => occasions.filter((o) => o.kind === k);
  const failed = of('failed');
  const subject = {
    held: `"${rollout}" is held`,
    failed: `"${rollout}": ${failed.length === 1 ? `${failed[0]!.device} has failed` : `${failed.length} devices have failed`}`,
    wanted: `"${rollout}" waits for a person`,
    overdue: `"${rollout}" takes longer than it should`,
    ended: `"${rollout}" has ended`,
    sheet: `"${rollout}": the night sheet`,
  }[kind];
  const lines = gravest.flatMap((k) => {
    const all = of(k);
    const told = all
      .slice(0, mostTold)
      // The name of a device stays as it is.
      .map(({ text, device }) => `${device === null ? text[0]!.toUpperCase() : text[0]!}${text.slice(1)}.`);
    return all.length > mostTold ? [...told, `And ${all.length - mostTold} more.`] : told;
  });
  return { kind, subject, lines };
}

/** It is overdue when it is later than rehearsed by so much at least, and by this part of the whole. */
const [lateMs, latePart] = [600_000, 0.2];
/** However fast the time of the devices runs, a machine of ours that is busy makes nothing late before this. */
const leastLateMs = 60_000;

/**
 * Whether a rollout takes far longer than it was rehearsed to.
 *
 * @param end when it was rehearsed to end, in our time, as the others
 */
export const isOverdue = (of: {
  readonly startedAt: Instant;
  readonly end: Instant;
  readonly now: Instant;
  readonly timeScale: number;
}): boolean => of.now > of.end + Math.max(leastLateMs, lateMs / of.timeScale, (of.end - of.startedAt) * latePart);
