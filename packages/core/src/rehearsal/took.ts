import { passageOf, type PlannedStep } from '../plan/plan.js';
import type { RolloutEvent } from '../scheduler/events.js';
import { currentStep, type RolloutState } from '../scheduler/state.js';
import type { DeviceId, Ms } from '../units.js';

/** How long a step took on a device, against what its family file says of it. */
export interface Took {
  readonly device: DeviceId;
  readonly family: string;
  readonly way: string;
  readonly step: string;
  /** Of a thousand parts of what the family file says: so it holds for an image of another size. */
  readonly permille: number;
}

/** What a family file says of a step, whatever was learned since. */
export const fileMsOf = ({ typicalMs, learned }: PlannedStep): Ms => learned?.fileMs ?? typicalMs;

/**
 * What is learned from an event before it is folded in; null when nothing: a step that did not end well or was not needed, that a person
 * does or that waits for an hour, and one that brings a device back.
 */
export function tookOf(state: RolloutState, event: RolloutEvent): Took | null {
  if (event.kind !== 'step-done') return null;
  const index = state.indexOf.get(event.run);
  const run = index === undefined ? undefined : state.runs[index];
  if (index === undefined || run?.phase !== 'busy' || run.stepBegunAt === null || run.rung !== null) return null;
  const step = currentStep(state, index);
  const planned = state.plan.runs[index]!;
  const leg = passageOf(state.plan, planned).legs[step.leg];
  const fileMs = fileMsOf(step);
  // What was there already, or was not needed, was not done.
  if (event.facts?.['wasThere'] === true || event.facts?.['needless'] === true) return null;
  if (!leg || step.words !== undefined || step.ownHour || fileMs <= 0) return null;
  const permille = Math.round((1000 * (event.at - run.stepBegunAt)) / fileMs);
  return { device: planned.device, family: planned.family, way: leg.way, step: step.step, permille };
}

/** What was learned of a step: its median, what nine of ten do not exceed, and from how many. */
export interface Learned {
  readonly permille: number;
  readonly mostPermille: number;
  readonly count: number;
}

/** From fewer nothing is learned. */
const fewest = 3;

/** @param taken of one step of one family and model, in any order */
export function learnedFrom(taken: readonly number[]): Learned | null {
  if (taken.length < fewest) return null;
  const sorted = [...taken].sort((a, b) => a - b);
  const at = (share: number): number => sorted[Math.min(sorted.length - 1, Math.ceil(share * sorted.length) - 1)]!;
  return { permille: at(0.5), mostPermille: at(0.9), count: sorted.length };
}
