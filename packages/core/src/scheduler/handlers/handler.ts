import type { RolloutEvent } from '../events.js';
import { currentStep, type RolloutPhase, type RolloutState, type RunPhase, type WavePhase } from '../state.js';
import type { StepName } from '../steps.js';

export type EventOf<K extends RolloutEvent['kind']> = Extract<RolloutEvent, { kind: K }>;

/** What one kind of event needs, and what it does. */
export interface Handler<K extends RolloutEvent['kind']> {
  /** Why it cannot follow in this state, in the words of a person; null when it can. */
  check(state: RolloutState, event: EventOf<K>): string | null;
  /** Changes the state, in which it may follow, in place. */
  apply(state: RolloutState, event: EventOf<K>): void;
}
export type Handlers<K extends RolloutEvent['kind']> = { readonly [Kind in K]: Handler<Kind> };

const phaseWords: Record<Exclude<RunPhase, 'ended'>, string> = {
  waiting: 'waiting for its turn',
  parked: 'between two stretches',
  absent: 'not there',
  ready: 'between two steps',
  busy: 'in the middle of a step',
  armed: 'armed, and waits for its own hour',
  lost: 'waiting to be taken up again',
  asking: 'being asked what is true',
  broken: 'broken, and to be taken back',
};

export const nameOf = (state: RolloutState, index: number): string => state.plan.runs[index]!.name;
export const runOf = (state: RolloutState, id: string): number => state.indexOf.get(id)!;

/** Why a run is not in one of these phases, and at a step, where one is named. */
export function runAt(state: RolloutState, id: string, phases: readonly RunPhase[], step?: StepName, leg = 0): string | null {
  const index = state.indexOf.get(id);
  if (index === undefined) return `there is no device ${id} in this rollout`;
  const name = nameOf(state, index);
  const run = state.runs[index]!;
  if (!phases.includes(run.phase))
    return run.phase === 'ended' ? `${name} has ended: ${run.outcome}` : `${name} is ${phaseWords[run.phase]}`;
  const at = currentStep(state, index);
  if (step === undefined || (at.step === step && at.leg === leg)) return null;
  const inLeg = (n: number): string => (at.leg === leg ? '' : ` of leg ${n + 1}`);
  return `${name} is at ${at.step}${inLeg(at.leg)}, not at ${step}${inLeg(leg)}`;
}

/** Why a run may not be left where it is. */
export function notPast(state: RolloutState, id: string): string | null {
  const index = runOf(state, id);
  return state.runs[index]!.pastReturn ? `${nameOf(state, index)} is past its point of no return: to stop there would harm it` : null;
}

export function waveAt({ waves }: RolloutState, index: number, wanted: WavePhase): string | null {
  const wave = waves[index];
  if (wave === undefined)
    return `there ${waves.length === 1 ? 'is one wave' : `are ${waves.length} waves`}, and none with the number ${index + 1}`;
  return wave.phase === wanted ? null : `wave ${index + 1} is ${wave.phase}`;
}

function phaseText({ phase }: RolloutState): string {
  if (phase === 'planned') return 'planned and was not started';
  return phase === 'stopping' ? 'being stopped' : phase;
}

export const rolloutAt = (state: RolloutState, ...wanted: RolloutPhase[]): string | null =>
  wanted.includes(state.phase) ? null : `the rollout is ${phaseText(state)}`;

export const always = (): null => null;
