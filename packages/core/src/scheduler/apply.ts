import { cause as causeOf } from '../causes/catalogue.js';
import { currentStep, enqueue, initialState, type Outcome, type RolloutState, type RunPhase } from './state.js';
import type { Plan } from '../plan/plan.js';
import type { Instant } from '../units.js';
import type { RolloutEvent } from './events.js';
import type { StepName } from './steps.js';

/** An event that cannot have happened in this state: a damaged journal, or a fault of Barrow. */
export class ImpossibleEvent extends Error {
  readonly code = 'impossible-event';
  constructor(
    readonly event: RolloutEvent,
    why: string,
  ) {
    super(`${event.kind} cannot follow here: ${why}`);
  }
}

/**
 * Folds one event into the state. It reads nothing but its arguments; the state passed in is used up, and the
 * one returned is to be used instead.
 * @throws ImpossibleEvent
 */
export function apply(state: RolloutState, event: RolloutEvent): RolloutState {
  state.events++;
  const refuse = (why: string): never => {
    throw new ImpossibleEvent(event, why);
  };
  const runIndex = (id: string): number => state.indexOf.get(id) ?? refuse(`there is no run ${id}`);
  const expectRun = (id: string, phases: readonly RunPhase[], step?: StepName): number => {
    const index = runIndex(id);
    const { phase } = state.runs[index]!;
    if (!phases.includes(phase)) refuse(`run ${id} is ${phase}`);
    if (step !== undefined && currentStep(state, index).step !== step) refuse(`run ${id} is at ${currentStep(state, index).step}`);
    return index;
  };
  const expectWave = (index: number, phase: string): void => {
    if (state.waves[index]?.phase !== phase) refuse(`wave ${index} is ${state.waves[index]?.phase ?? 'unknown'}`);
  };

  switch (event.kind) {
    case 'rollout-started':
      if (state.phase !== 'planned') refuse(`the rollout is ${state.phase}`);
      state.phase = 'running';
      state.startedAt = event.at;
      state.startedBy = event.by;
      break;
    case 'wave-opened':
      expectWave(event.wave, 'waiting');
      if (event.wave > 0) expectWave(event.wave - 1, 'passed');
      state.waves[event.wave]!.phase = 'open';
      state.wave = event.wave;
      break;
    case 'wave-ended': {
      expectWave(event.wave, 'open');
      const wave = state.waves[event.wave]!;
      if (wave.waiting + wave.active > 0) refuse('runs of the wave have not ended');
      wave.phase = 'soaking';
      wave.endedAt = event.at;
      break;
    }
    case 'gate-passed': {
      expectWave(event.wave, 'soaking');
      state.waves[event.wave]!.phase = 'passed';
      break;
    }
    case 'step-begun': {
      const index = expectRun(event.run, ['waiting', 'ready', 'lost'], event.step);
      const run = state.runs[index]!;
      if (run.phase === 'waiting') beginRun(state, index, event.at);
      state.ready.delete(index);
      state.lost.delete(index);
      run.phase = 'busy';
      run.stepBegunAt = event.at;
      if (currentStep(state, index).pastReturn) run.pastReturn = true;
      break;
    }
    case 'step-done':
      stepDone(state, expectRun(event.run, ['busy'], event.step), event.at);
      break;
    case 'step-failed': {
      const index = expectRun(event.run, ['busy', 'asking'], event.step);
      const run = state.runs[index]!;
      run.cause = event.cause;
      run.detail = event.detail;
      const untouched = event.step === 'preflight' && causeOf(event.cause).counts === 'not-begun';
      endRun(state, index, untouched ? 'not-begun' : 'failed', event.at);
      break;
    }
    case 'reconcile-begun': {
      const index = expectRun(event.run, ['lost'], event.step);
      state.lost.delete(index);
      state.runs[index]!.phase = 'asking';
      break;
    }
    case 'reconciled': {
      const index = expectRun(event.run, ['asking'], event.step);
      if (event.truth === 'done') stepDone(state, index, event.at);
      else {
        state.runs[index]!.phase = 'ready';
        state.ready.add(index);
      }
      break;
    }
    case 'run-skipped': {
      const index = expectRun(event.run, ['waiting', 'ready', 'busy']);
      const run = state.runs[index]!;
      if (run.pastReturn) refuse(`run ${event.run} is past its point of no return`);
      run.detail = event.reason;
      endRun(state, index, 'skipped', event.at);
      break;
    }
    case 'run-withdrawn': {
      const index = expectRun(event.run, ['waiting', 'ready', 'lost']);
      const run = state.runs[index]!;
      if (run.pastReturn) refuse(`run ${event.run} is past its point of no return`);
      run.detail = event.reason;
      endRun(state, index, 'withdrawn', event.at);
      break;
    }
    case 'run-retried':
      retry(state, expectRun(event.run, ['ended']), event);
      break;
    case 'held':
      if (state.phase !== 'running') refuse(`the rollout is ${state.phase}`);
      state.phase = 'held';
      state.heldBecause = event.reason;
      state.heldBy = event.by;
      break;
    case 'continued': {
      if (state.phase !== 'held') refuse(`the rollout is ${state.phase}`);
      state.phase = 'running';
      state.heldBecause = null;
      state.heldBy = null;
      const wave = state.waves[state.wave];
      if (wave) {
        wave.forgiven = wave.ended.failed;
        if (wave.phase === 'soaking') wave.unprovenAccepted = true;
      }
      break;
    }
    case 'approved':
      if (!state.waves[event.wave]) refuse(`there is no wave ${event.wave}`);
      state.waves[event.wave]!.approvedBy = event.by;
      break;
    case 'stop-asked':
      if (state.phase !== 'running' && state.phase !== 'held') refuse(`the rollout is ${state.phase}`);
      state.phase = 'stopping';
      state.heldBecause = null;
      break;
    case 'rollout-ended':
      if (state.runs.some((r) => r.phase !== 'ended')) refuse('runs have not ended');
      state.phase = 'ended';
      state.endedAt = event.at;
      break;
    case 'service-stopping':
      state.draining = true;
      break;
    case 'service-started':
      state.draining = false;
      state.runs.forEach((run, i) => {
        if (run.phase !== 'busy' && run.phase !== 'asking') return;
        run.phase = 'lost';
        state.lost.add(i);
      });
      break;
    case 'noted':
      break;
  }
  return state;
}

/** The state of a rollout: its plan with its whole journal folded in. */
export function fold(plan: Plan, events: Iterable<RolloutEvent>): RolloutState {
  let state = initialState(plan);
  for (const event of events) state = apply(state, event);
  return state;
}

function beginRun(state: RolloutState, index: number, at: Instant): void {
  const run = state.runs[index]!;
  const wave = state.waves[run.wave]!;
  leaveQueue(state, index);
  wave.active++;
  run.begunAt ??= at;
  run.attempt++;
  for (const key of state.plan.runs[index]!.limitKeys) state.counts.set(key, (state.counts.get(key) ?? 0) + 1);
}

function leaveQueue(state: RolloutState, index: number): void {
  const run = state.runs[index]!;
  const wave = state.waves[run.wave]!;
  const bucket = wave.buckets.get(state.plan.runs[index]!.limitKeys.join('|'))!;
  wave.waiting--;
  // Runs leave from the head almost always; one taken from the middle is passed over when the head reaches it.
  if (bucket.queue[bucket.head] === index) bucket.head++;
  else {
    const place = bucket.queue.indexOf(index, bucket.head);
    if (place >= 0) bucket.queue.splice(place, 1);
  }
}

function endRun(state: RolloutState, index: number, outcome: Outcome, at: Instant): void {
  const run = state.runs[index]!;
  const wave = state.waves[run.wave]!;
  if (run.phase === 'waiting') leaveQueue(state, index);
  else {
    wave.active--;
    for (const key of state.plan.runs[index]!.limitKeys) state.counts.set(key, state.counts.get(key)! - 1);
  }
  state.ready.delete(index);
  state.lost.delete(index);
  run.phase = 'ended';
  run.outcome = outcome;
  run.endedAt = at;
  run.stepBegunAt = null;
  wave.ended[outcome]++;
}

function stepDone(state: RolloutState, index: number, at: Instant): void {
  const run = state.runs[index]!;
  if (run.step === state.plan.runs[index]!.steps.length - 1) {
    endRun(state, index, 'verified', at);
    return;
  }
  run.step++;
  run.phase = 'ready';
  run.stepBegunAt = null;
  state.ready.add(index);
}

/** A retried run begins anew in the wave that is open, or in the last one when all have ended. */
function retry(state: RolloutState, index: number, event: RolloutEvent & { kind: 'run-retried' }): void {
  const run = state.runs[index]!;
  if (run.outcome === 'verified' || run.outcome === 'recovered')
    throw new ImpossibleEvent(event, `run ${event.run} has ended ${run.outcome}`);
  const before = state.waves[run.wave]!;
  before.ended[run.outcome!]--;
  if (run.outcome === 'failed' && before.forgiven > 0) before.forgiven--;
  run.wave = Math.min(Math.max(state.wave, run.wave), state.waves.length - 1);
  Object.assign(run, { phase: 'waiting', step: 0, endedAt: null, pastReturn: false, outcome: null, cause: null, detail: null });
  const wave = state.waves[run.wave]!;
  enqueue(wave, index, state.plan.runs[index]!);
  if (wave.phase === 'soaking' || wave.phase === 'passed') {
    wave.phase = 'open';
    wave.endedAt = null;
    state.wave = run.wave;
  }
  if (state.phase === 'ended' || state.phase === 'stopping') {
    state.phase = 'running';
    state.endedAt = null;
  }
}
