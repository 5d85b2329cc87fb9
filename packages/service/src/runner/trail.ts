import { legsOf, type Instant, type RolloutEvent, type RolloutState, type StepName } from '@barrow/core';

export type Facts = Record<string, unknown>;

/** What is remembered of a step that was begun. */
export interface StepTrace {
  readonly begunAt: Instant;
  endedAt: Instant | null;
  facts: Facts;
}

/** What the steps of each run found: by run, then by leg and step. */
export type Trails = Map<string, Map<string, StepTrace>>;

const keyOf = (step: StepName, leg = 0): string => `${leg}/${step}`;

/** What a step of a leg found; undefined when it was not begun. */
export const traceOf = (trails: Trails, run: string, step: StepName, leg = 0): StepTrace | undefined =>
  trails.get(run)?.get(keyOf(step, leg));

/** Keeps the facts of each run's steps; a run that begins anew keeps those of the legs that are behind it. `state` is the one after the event. */
export function follow(trails: Trails, event: RolloutEvent, state: RolloutState): void {
  if (event.kind === 'run-retried') {
    const { legs } = state.runs[state.indexOf.get(event.run)!]!;
    const trail = trails.get(event.run);
    for (const key of [...(trail?.keys() ?? [])]) if (Number(key.slice(0, key.indexOf('/'))) >= legs) trail!.delete(key);
  } else if (event.kind === 'take-back-asked') {
    // Of an earlier attempt to take it back nothing counts any more.
    const { length } = legsOf(state.plan, state.plan.runs[state.indexOf.get(event.run)!]!);
    const trail = trails.get(event.run);
    for (const key of [...(trail?.keys() ?? [])]) if (Number(key.slice(0, key.indexOf('/'))) >= length) trail!.delete(key);
  } else if (event.kind === 'step-begun') {
    const trail = trails.get(event.run) ?? new Map<string, StepTrace>();
    trails.set(event.run, trail);
    const key = keyOf(event.step, event.leg);
    // Begun again after a restart of the service: when it was first begun is what counts.
    if (!trail.has(key)) trail.set(key, { begunAt: event.at, endedAt: null, facts: {} });
  } else if (event.kind === 'step-done' || event.kind === 'step-failed') {
    const trace = traceOf(trails, event.run, event.step, event.leg);
    if (trace) {
      trace.endedAt = event.at;
      trace.facts = event.facts ?? {};
    }
  } else if (event.kind === 'reconciled' && event.truth === 'done') {
    const trace = traceOf(trails, event.run, event.step, event.leg);
    if (trace) trace.endedAt = event.at;
  }
}
