import type { Plan } from '../plan/plan.js';
import type { RolloutEvent } from './events.js';
import { ofAnew } from './handlers/anew.js';
import type { Handler, Handlers } from './handlers/handler.js';
import { ofLeaving } from './handlers/leaving.js';
import { ofPresence } from './handlers/presence.js';
import { ofRollout } from './handlers/rollout.js';
import { ofSteps } from './handlers/steps.js';
import { ofWaves } from './handlers/waves.js';
import { initialState, neededBy, type RolloutState } from './state.js';

/** An event that cannot have happened in this state: a damaged journal, or a fault of Barrow. */
export class ImpossibleEvent extends Error {
  readonly code = 'impossible-event';
  constructor(
    readonly event: RolloutEvent,
    /** In the words of a person. */
    readonly why: string,
  ) {
    super(`after what was written down, "${event.kind}" cannot follow: ${why}`);
  }
}

const handlers: Handlers<RolloutEvent['kind']> = { ...ofRollout, ...ofWaves, ...ofSteps, ...ofPresence, ...ofLeaving, ...ofAnew };
const handlerOf = ({ kind }: RolloutEvent): Handler<never> => handlers[kind] as unknown as Handler<never>;

/**
 * Why a person's word cannot be obeyed now; null when it can. Stricter than `check`: what a person may not ask for any more
 * still folds in a journal of before.
 */
export function checkWord(state: RolloutState, event: RolloutEvent): string | null {
  const why = check(state, event);
  if (why !== null || !('run' in event) || event.run === undefined) return why;
  const index = state.indexOf.get(event.run)!;
  const { name } = state.plan.runs[index]!;
  if (event.kind === 'skip-asked' && state.runs[index]!.wish) return `${name} is to be left out already`;
  if (event.kind === 'take-back-asked' && state.phase === 'stopping') return 'the rollout is being stopped: say it when it has ended';
  if (event.kind === 'run-retried' && state.phase === 'stopping') return 'the rollout is being stopped: retry when it has ended';
  if (event.kind === 'run-retried') {
    const needed = neededBy(state, index);
    if (needed !== null && state.runs[needed]!.phase === 'ended')
      return `${name} needs ${state.plan.runs[needed]!.name}: retry that one${state.runs[index]!.cause === 'needed-run' ? ', and this goes on with it' : ' first'}`;
  }
  return null;
}

/** Whether an event tells the outcome of a step of a run that has ended meanwhile: it came too late to matter. */
function isStale(state: RolloutState, event: RolloutEvent): boolean {
  if (event.kind !== 'step-done' && event.kind !== 'step-failed' && event.kind !== 'reconciled') return false;
  const index = state.indexOf.get(event.run);
  return index !== undefined && state.runs[index]!.phase === 'ended';
}

/** Why an event cannot follow in this state, in the words of a person; null when it can. Ask before it is written down. */
export const check = (state: RolloutState, event: RolloutEvent): string | null =>
  isStale(state, event) ? null : handlerOf(event).check(state, event as never);

/**
 * Folds one event into the state. It reads nothing but its arguments; the state passed in is used up, and the
 * one returned is to be used instead.
 * @throws ImpossibleEvent when `check` does not admit the event; the state is as it was then
 */
export function apply(state: RolloutState, event: RolloutEvent): RolloutState {
  const why = check(state, event);
  if (why !== null) throw new ImpossibleEvent(event, why);
  state.events++;
  if (!isStale(state, event)) handlerOf(event).apply(state, event as never);
  return state;
}

/** The state of a rollout: its plan with its whole journal folded in. */
export function fold(plan: Plan, events: Iterable<RolloutEvent>): RolloutState {
  let state = initialState(plan);
  for (const event of events) state = apply(state, event);
  return state;
}
