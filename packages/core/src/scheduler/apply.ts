import { cause as causeOf } from '../causes/catalogue.js';
import {
  currentStep,
  initialState,
  mostAbsences,
  neededBy,
  nextClaims,
  rungOf,
  soaks,
  type Outcome,
  type RolloutState,
  type RunPhase,
  type WavePhase,
} from './state.js';
import { isGuard, legSteps, legsOf, passageOf, type Claim, type Plan } from '../plan/plan.js';
import { rungAfter } from '../plan/rungs.js';
import type { Instant } from '../units.js';
import type { RolloutEvent } from './events.js';
import type { StepName } from './steps.js';

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
  if (event.kind === 'run-retried' && state.runs[index]!.cause === 'needed-run') {
    const needed = neededBy(state, index);
    if (needed !== null && state.runs[needed]!.phase === 'ended')
      return `${name} needs ${state.plan.runs[needed]!.name}: retry that one, and this goes on with it`;
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
export function check(state: RolloutState, event: RolloutEvent): string | null {
  const { runs, waves, phase } = state;
  const nameOf = (index: number): string => state.plan.runs[index]!.name;
  const runAt = (id: string, phases: readonly RunPhase[], step?: StepName, leg = 0): string | null => {
    const index = state.indexOf.get(id);
    if (index === undefined) return `there is no device ${id} in this rollout`;
    const run = runs[index]!;
    if (!phases.includes(run.phase))
      return run.phase === 'ended' ? `${nameOf(index)} has ended: ${run.outcome}` : `${nameOf(index)} is ${phaseWords[run.phase]}`;
    const at = currentStep(state, index);
    if (step === undefined || (at.step === step && at.leg === leg)) return null;
    const inLeg = (n: number): string => (at.leg === leg ? '' : ` of leg ${n + 1}`);
    return `${nameOf(index)} is at ${at.step}${inLeg(at.leg)}, not at ${step}${inLeg(leg)}`;
  };
  const waveAt = (index: number, wanted: WavePhase): string | null =>
    waves[index] === undefined
      ? `there ${waves.length === 1 ? 'is one wave' : `are ${waves.length} waves`}, and none with the number ${index + 1}`
      : waves[index].phase === wanted
        ? null
        : `wave ${index + 1} is ${waves[index].phase}`;
  const notPast = (id: string): string | null => {
    const index = state.indexOf.get(id)!;
    return runs[index]!.pastReturn ? `${nameOf(index)} is past its point of no return: to stop there would harm it` : null;
  };
  const rolloutAt = (...wanted: (typeof phase)[]): string | null => (wanted.includes(phase) ? null : `the rollout is ${phaseText(state)}`);

  if (isStale(state, event)) return null;
  switch (event.kind) {
    case 'rollout-started':
      return rolloutAt('planned');
    case 'wave-opened':
      return waveAt(event.wave, 'waiting') ?? (event.wave > 0 ? waveAt(event.wave - 1, 'passed') : null);
    case 'wave-ended':
      return (
        waveAt(event.wave, 'open') ??
        (waves[event.wave]!.waiting + waves[event.wave]!.active - waves[event.wave]!.soaking > 0
          ? 'devices of the wave have not ended'
          : null)
      );
    case 'soak-ended':
      return waveAt(event.wave, 'soaking');
    case 'gate-passed':
      return waves[event.wave]?.phase === 'proving' ? null : waveAt(event.wave, 'soaking');
    case 'stretch-entered': {
      const why = runAt(event.run, ['waiting', 'parked', 'broken']);
      if (why !== null) return why;
      const index = state.indexOf.get(event.run)!;
      return runs[index]!.stretch === event.stretch ? null : `${nameOf(index)} is before another stretch`;
    }
    // In journals of before, the first step was the entry.
    case 'step-begun':
      return runAt(event.run, ['waiting', 'parked', 'ready', 'lost'], event.step, event.leg);
    case 'step-done':
      return runAt(event.run, ['busy'], event.step, event.leg);
    case 'step-failed':
      return runAt(event.run, ['busy', 'asking'], event.step, event.leg);
    case 'run-absent': {
      const why = runAt(event.run, ['busy']);
      if (why !== null) return why;
      const index = state.indexOf.get(event.run)!;
      const { legs, absences, rung } = runs[index]!;
      if (legs > 0 || rung !== null || !currentStep(state, index).looks) return `${nameOf(index)} was begun with`;
      if (!causeOf(event.cause).passes) return `${event.cause} does not pass by itself`;
      // Who waits for it must not wait for what may never be seen.
      if (state.dependants.has(index)) return `others wait for ${nameOf(index)}`;
      return absences < mostAbsences ? null : `${nameOf(index)} was not there ${absences} times`;
    }
    case 'run-seen':
    case 'run-missed':
      return runAt(event.run, ['absent']);
    case 'reconcile-begun':
      return runAt(event.run, ['lost'], event.step, event.leg);
    case 'reconciled':
      return runAt(event.run, ['asking'], event.step, event.leg);
    case 'skip-asked':
      return runAt(event.run, ['waiting', 'parked', 'absent', 'ready', 'busy', 'lost', 'asking', 'broken']) ?? notPast(event.run);
    case 'run-skipped':
      return runAt(event.run, ['waiting', 'parked', 'absent', 'ready', 'busy']) ?? notPast(event.run);
    case 'leg-skipped':
      return (
        runAt(event.run, ['busy']) ??
        (currentStep(state, state.indexOf.get(event.run)!).leg === event.leg ? null : `that is not leg ${event.leg + 1}`) ??
        (nextLeg(state, state.indexOf.get(event.run)!) === null ? 'there is no leg after it' : null) ??
        notPast(event.run)
      );
    case 'run-withdrawn':
      return runAt(event.run, ['waiting', 'parked', 'absent', 'ready', 'lost']) ?? notPast(event.run);
    case 'run-needless':
      return (
        runAt(event.run, ['waiting', 'parked']) ??
        (state.stranded.has(state.indexOf.get(event.run)!) ? null : `${nameOf(state.indexOf.get(event.run)!)} needs nothing that has ended`)
      );
    case 'run-released': {
      const why = runAt(event.run, ['ended']);
      if (why !== null) return why;
      const index = state.indexOf.get(event.run)!;
      return runs[index]!.claims ? null : `${nameOf(index)} holds nothing`;
    }
    case 'run-retried': {
      const index = state.indexOf.get(event.run);
      if (index === undefined || runs[index]!.phase !== 'ended') return runAt(event.run, ['ended']);
      const { outcome } = runs[index]!;
      return outcome === 'verified' ? `${nameOf(index)} has ended ${outcome}: there is nothing to retry` : null;
    }
    case 'take-back-asked': {
      const why = runAt(event.run, ['ended']);
      return why ?? (firstRung(state, state.indexOf.get(event.run)!) === null ? noRung(state, state.indexOf.get(event.run)!) : null);
    }
    case 'run-given-up':
      return runAt(event.run, ['broken']);
    case 'held':
      return rolloutAt('running');
    case 'continued':
      return rolloutAt('held');
    case 'approved':
      return waves[event.wave] === undefined ? waveAt(event.wave, 'waiting') : null;
    case 'stop-asked':
      return rolloutAt('running', 'held');
    case 'rollout-ended':
      return runs.some((r) => r.phase !== 'ended') ? 'devices have not ended' : null;
    case 'service-stopping':
    case 'service-started':
    case 'noted':
      return null;
  }
}

const phaseWords: Record<RunPhase, string> = {
  waiting: 'waiting for its turn',
  parked: 'between two stretches',
  absent: 'not there',
  ready: 'between two steps',
  busy: 'in the middle of a step',
  lost: 'waiting to be taken up again',
  asking: 'being asked what is true',
  broken: 'broken, and to be taken back',
  ended: 'at its end',
};

function phaseText(state: RolloutState): string {
  return state.phase === 'planned' ? 'planned and was not started' : state.phase === 'stopping' ? 'being stopped' : state.phase;
}

/**
 * Folds one event into the state. It reads nothing but its arguments; the state passed in is used up, and the
 * one returned is to be used instead.
 * @throws ImpossibleEvent when `check` does not admit the event; the state is as it was then
 */
export function apply(state: RolloutState, event: RolloutEvent): RolloutState {
  const why = check(state, event);
  if (why !== null) throw new ImpossibleEvent(event, why);
  state.events++;
  if (isStale(state, event)) return state;
  const runOf = (id: string): number => state.indexOf.get(id)!;

  switch (event.kind) {
    case 'rollout-started':
      state.phase = 'running';
      state.startedAt = event.at;
      state.startedBy = event.by;
      break;
    case 'wave-opened':
      state.waves[event.wave]!.phase = 'open';
      state.wave = event.wave;
      break;
    case 'wave-ended': {
      const wave = state.waves[event.wave]!;
      wave.phase = 'soaking';
      wave.endedAt = event.at;
      break;
    }
    case 'soak-ended':
      state.waves[event.wave]!.phase = 'proving';
      break;
    case 'gate-passed':
      state.waves[event.wave]!.phase = 'passed';
      break;
    case 'stretch-entered':
      enter(state, runOf(event.run), event.claims, event.at);
      break;
    case 'step-begun': {
      const index = runOf(event.run);
      const run = state.runs[index]!;
      if (run.phase === 'waiting' || run.phase === 'parked') enter(state, index, nextClaims(state.plan, state, index), event.at);
      state.ready.delete(index);
      state.lost.delete(index);
      run.phase = 'busy';
      run.stepBegunAt = event.at;
      if (currentStep(state, index).pastReturn) run.pastReturn = true;
      break;
    }
    case 'step-done':
      stepDone(state, runOf(event.run), event.at);
      break;
    case 'step-failed': {
      const index = runOf(event.run);
      const run = state.runs[index]!;
      if (run.rung === null) {
        run.cause = event.cause;
        run.detail = event.detail;
      } else {
        const { step, cause, detail } = event;
        run.tried = [...run.tried, { rung: run.rung, step, cause, detail }];
      }
      const next = nextRung(state, index, event.cause);
      if (next !== null) {
        breakRun(state, index, next);
        break;
      }
      const untouched = run.legs === 0 && currentStep(state, index).looks && causeOf(event.cause).counts === 'not-begun';
      endRun(state, index, untouched && run.rung === null ? 'not-begun' : 'failed', event.at);
      break;
    }
    case 'run-absent': {
      const index = runOf(event.run);
      const run = state.runs[index]!;
      const wave = state.waves[run.wave]!;
      wave.active--;
      wave.absent++;
      state.absent.add(index);
      Object.assign(run, { phase: 'absent', step: 0, stretch: 0, claims: null, stepBegunAt: null, pastReturn: false });
      Object.assign(run, { absentSince: event.at, absences: run.absences + 1, cause: event.cause, detail: event.detail });
      break;
    }
    case 'run-seen': {
      const index = runOf(event.run);
      const run = state.runs[index]!;
      state.absent.delete(index);
      state.waves[run.wave]!.absent--;
      joinWave(state, index, 'active');
      Object.assign(run, { phase: 'parked', absentSince: null, cause: null, detail: null });
      if (state.dependants.size > 0) strand(state, index);
      break;
    }
    case 'run-missed':
      endRun(state, runOf(event.run), 'not-begun', event.at);
      break;
    case 'reconcile-begun': {
      const index = runOf(event.run);
      state.lost.delete(index);
      state.runs[index]!.phase = 'asking';
      break;
    }
    case 'reconciled': {
      const index = runOf(event.run);
      if (event.truth === 'done') stepDone(state, index, event.at);
      else {
        state.runs[index]!.phase = 'ready';
        state.ready.add(index);
      }
      break;
    }
    case 'skip-asked': {
      const index = runOf(event.run);
      state.runs[index]!.wish = { by: event.by, reason: event.reason };
      state.wishes.add(index);
      break;
    }
    case 'leg-skipped': {
      const index = runOf(event.run);
      moveTo(state, index, nextLeg(state, index)!);
      break;
    }
    case 'run-skipped':
    case 'run-withdrawn': {
      const index = runOf(event.run);
      const run = state.runs[index]!;
      const legs = legsOf(state.plan, state.plan.runs[index]!);
      // All that was to be brought was brought and checked: only what comes after the soak is left out.
      if (run.legs === legs.length) {
        run.detail = `${event.reason}; its other copy was not brought level`;
        endRun(state, index, 'verified', event.at);
        break;
      }
      const brought = run.legs > 0 ? `; it was brought to ${legs[run.legs - 1]!.to}` : '';
      run.detail = event.reason + brought;
      // Barrow leaves out of itself only what is there already; a person's word says nothing of that.
      run.met = event.kind === 'run-skipped' && event.by === 'Barrow' && run.wish === null;
      endRun(state, index, event.kind === 'run-skipped' ? 'skipped' : 'withdrawn', event.at);
      break;
    }
    case 'run-needless': {
      const index = runOf(event.run);
      const run = state.runs[index]!;
      run.cause = 'needed-run';
      run.detail = event.detail;
      endRun(state, index, run.legs === 0 ? 'not-begun' : 'failed', event.at);
      break;
    }
    case 'take-back-asked': {
      const index = runOf(event.run);
      const rung = firstRung(state, index)!;
      // Its device is in hand again; that of who had ended was not.
      const { device } = state.plan.runs[index]!;
      const claims: Claim[] = [...(state.runs[index]!.claims ?? []), { key: `device:${device}`, mode: 'exclusive' }];
      reopen(state, index, 'active');
      Object.assign(state.runs[index]!, { claims, endedAt: null, outcome: null, tried: [] });
      breakRun(state, index, rung);
      // Who needs it waits again for what comes of it.
      for (const other of state.dependants.get(index) ?? []) strand(state, other);
      // Who says so has seen its failure.
      state.waves[state.runs[index]!.wave]!.forgiven++;
      break;
    }
    case 'run-given-up':
      endRun(state, runOf(event.run), 'failed', event.at);
      break;
    case 'run-released':
      state.runs[runOf(event.run)]!.claims = null;
      break;
    case 'run-retried':
      revive(state, runOf(event.run));
      break;
    case 'held':
      state.phase = 'held';
      state.heldBecause = event.reason;
      state.heldBy = event.by;
      break;
    case 'continued': {
      state.phase = 'running';
      state.heldBecause = null;
      state.heldBy = null;
      const wave = state.waves[state.wave];
      if (wave) {
        wave.forgiven = wave.ended.failed + wave.ended.recovered + wave.broken;
        if (wave.phase === 'soaking' || wave.phase === 'proving') wave.unprovenAccepted = true;
      }
      break;
    }
    case 'approved':
      state.waves[event.wave]!.approvedBy = event.by;
      break;
    case 'stop-asked':
      state.phase = 'stopping';
      state.heldBecause = null;
      break;
    case 'rollout-ended':
      for (const run of state.runs) run.claims = null;
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

/** Into a stretch, with all that it claims; a run that waited begins with it. */
function enter(state: RolloutState, index: number, claims: readonly Claim[], at: Instant): void {
  const run = state.runs[index]!;
  if (run.phase === 'waiting') {
    const wave = state.waves[run.wave]!;
    wave.waiting--;
    wave.active++;
    run.begunAt ??= at;
    run.attempt++;
  }
  if (soaks(state, index)) state.waves[run.wave]!.soaking--;
  run.enteredAt = at;
  run.claims = claims;
  run.phase = 'ready';
  state.broken.delete(index);
  state.ready.add(index);
}

/** The rung that may be tried after a failure, where the plan says that it is: the next one, or the first. */
function nextRung(state: RolloutState, index: number, cause: string): number | null {
  const { plan } = state;
  const run = state.runs[index]!;
  if (!run.pastReturn || (run.rung === null && !plan.wayBack)) return null;
  const leg = rungOf(state, index)?.leg ?? currentStep(state, index).leg;
  return rungAfter(plan, plan.runs[index]!, leg, cause, run.rung ?? -1);
}

/** The rung that a person may have tried of a run that has ended. */
function firstRung(state: RolloutState, index: number): number | null {
  const { outcome, pastReturn, cause, legs } = state.runs[index]!;
  if (outcome !== 'failed' || !pastReturn || cause === null) return null;
  return rungAfter(state.plan, state.plan.runs[index]!, legs, cause);
}

function noRung(state: RolloutState, index: number): string {
  const { outcome, pastReturn } = state.runs[index]!;
  const { name } = state.plan.runs[index]!;
  if (outcome !== 'failed') return `${name} has ended ${outcome}: there is nothing to take back`;
  if (state.runs[index]!.met) return `${name} has reached its target: what failed came after its soak`;
  if (!pastReturn) return `${name} failed before it was changed: there is nothing to take back`;
  return `after this failure ${name} has no way back that Barrow could try`;
}

/** It failed, and what may mend it is next; it keeps its guards, and gives back its places. */
function breakRun(state: RolloutState, index: number, rung: number): void {
  const run = state.runs[index]!;
  const { rungs } = passageOf(state.plan, state.plan.runs[index]!);
  if (run.rung === null) {
    state.waves[run.wave]!.broken++;
    run.failedStep ??= run.step;
  }
  run.rung = rung;
  run.step = rungs[rung]!.step;
  run.stretch = rungs[rung]!.stretch;
  run.claims = (run.claims ?? []).filter(isGuard);
  run.phase = 'broken';
  run.stepBegunAt = null;
  state.ready.delete(index);
  state.lost.delete(index);
  state.wishes.delete(index);
  run.wish = null;
  state.broken.add(index);
}

/** It has reached what it failed at: that is behind it. */
function overcome(state: RolloutState, index: number): void {
  const run = state.runs[index]!;
  if (run.rung !== null) Object.assign(run, { cause: null, detail: null, failedStep: null });
  mended(state, index);
}

/** It stands again: at its target, or where it was before. */
function mended(state: RolloutState, index: number): void {
  const run = state.runs[index]!;
  if (run.rung === null) return;
  state.waves[run.wave]!.broken--;
  run.rung = null;
}

function endRun(state: RolloutState, index: number, outcome: Outcome, at: Instant): void {
  const run = state.runs[index]!;
  const wave = state.waves[run.wave]!;
  if (soaks(state, index)) wave.soaking--;
  if (run.phase === 'waiting') wave.waiting--;
  else if (run.phase === 'absent') wave.absent--;
  else wave.active--;
  const failedAt = outcome === 'failed' && run.pastReturn ? currentStep(state, index) : null;
  if (outcome === 'verified') run.legs = legsOf(state.plan, state.plan.runs[index]!).length;
  if (outcome === 'verified') overcome(state, index);
  else mended(state, index);
  state.broken.delete(index);
  // Where it may be down, or still writing, nothing above it goes down until it is seen, retried or released. What is below it
  // looks for itself whether it can be reached.
  run.claims =
    failedAt && (failedAt.down || failedAt.writes)
      ? (run.claims ?? []).filter((c) => isGuard(c) && !c.key.startsWith('device:')).map(({ key }) => ({ key, mode: 'shared' }))
      : null;
  state.ready.delete(index);
  state.lost.delete(index);
  state.wishes.delete(index);
  run.wish = null;
  run.phase = 'ended';
  run.absentSince = null;
  state.absent.delete(index);
  run.outcome = outcome;
  run.met ||= outcome === 'verified';
  run.endedAt = at;
  run.stepBegunAt = null;
  wave.ended[outcome]++;
  state.stranded.delete(index);
  for (const other of state.dependants.get(index) ?? []) strand(state, other);
}

/** Whether a run waits for one that has ended, and not verified. */
function strand(state: RolloutState, index: number): void {
  const needed = state.runs[index]!.phase === 'ended' ? null : neededBy(state, index);
  if (needed !== null && state.runs[needed]!.phase === 'ended') state.stranded.add(index);
  else state.stranded.delete(index);
}

function stepDone(state: RolloutState, index: number, at: Instant): void {
  const run = state.runs[index]!;
  const passage = passageOf(state.plan, state.plan.runs[index]!);
  const rung = rungOf(state, index);
  if (rung?.takes && run.step === passage.stretches[rung.stretch]!.to - 1) endRun(state, index, 'recovered', at);
  else if (run.step === legSteps(passage) - 1) endRun(state, index, 'verified', at);
  else moveTo(state, index, run.step + 1);
}

/** Where the leg after the one that a run is in begins; null when that is its last. */
function nextLeg(state: RolloutState, index: number): number | null {
  const passage = passageOf(state.plan, state.plan.runs[index]!);
  const { leg } = passage.steps[state.runs[index]!.step]!;
  const at = passage.steps.findIndex((s) => s.leg > leg);
  return at < 0 || at >= legSteps(passage) ? null : at;
}

/** On to a step: within its stretch, or before the next one, holding nothing. A leg that is behind it can be stopped after. */
function moveTo(state: RolloutState, index: number, step: number): void {
  const run = state.runs[index]!;
  const { steps, stretches } = passageOf(state.plan, state.plan.runs[index]!);
  const { leg } = steps[step]!;
  if (leg > steps[run.step]!.leg) {
    run.legs = leg;
    run.pastReturn = false;
    overcome(state, index);
  }
  run.step = step;
  run.stepBegunAt = null;
  if (step < stretches[run.stretch]!.to) {
    run.phase = 'ready';
    state.ready.add(index);
    return;
  }
  run.stretch = stretches.findIndex((s) => step < s.to);
  run.phase = 'parked';
  run.claims = null;
  if (soaks(state, index)) {
    // It is where it was to go, and can be left there.
    run.legs = legsOf(state.plan, state.plan.runs[index]!).length;
    run.pastReturn = false;
    run.met = true;
    overcome(state, index);
    state.waves[run.wave]!.soaking++;
    for (const other of state.dependants.get(index) ?? []) strand(state, other);
  }
  if (state.dependants.size > 0) strand(state, index);
}

/** Retries a run, and with it those that were not begun for want of it. */
function revive(state: RolloutState, index: number): void {
  retry(state, index);
  for (const other of state.dependants.get(index) ?? []) {
    const run = state.runs[other]!;
    if (run.phase === 'ended' && run.cause === 'needed-run') revive(state, other);
    else strand(state, other);
  }
  strand(state, index);
}

/** A retried run begins anew, with the first leg that was not verified. */
function retry(state: RolloutState, index: number): void {
  const run = state.runs[index]!;
  reopen(state, index, 'waiting');
  const { steps, stretches } = passageOf(state.plan, state.plan.runs[index]!);
  // Who failed after the soak has all its legs behind it, and is looked at again.
  const first = steps.findIndex((s) => s.leg === run.legs);
  const proves = stretches.find((s) => s.afterSoak);
  const step = proves && run.legs === legsOf(state.plan, state.plan.runs[index]!).length ? proves.from : first;
  Object.assign(run, {
    phase: 'waiting',
    step,
    stretch: stretches.findIndex((s) => step < s.to),
    claims: null,
    endedAt: null,
    pastReturn: false,
    outcome: null,
    met: false,
    absences: 0,
    tried: [],
    failedStep: null,
    cause: null,
    detail: null,
  });
}

/** Who had ended counts again, in the wave that is open, or in the last one when all have ended. */
function reopen(state: RolloutState, index: number, as: 'waiting' | 'active'): void {
  const run = state.runs[index]!;
  const before = state.waves[run.wave]!;
  before.ended[run.outcome!]--;
  if ((run.outcome === 'failed' || run.outcome === 'recovered') && before.forgiven > 0) before.forgiven--;
  joinWave(state, index, as);
  if (state.phase === 'ended' || state.phase === 'stopping') {
    state.phase = 'running';
    state.endedAt = null;
  }
}

/** Into the wave that is open, or the last one when all have ended; it is open again then. */
function joinWave(state: RolloutState, index: number, as: 'waiting' | 'active'): void {
  const run = state.runs[index]!;
  run.wave = Math.min(Math.max(state.wave, run.wave), state.waves.length - 1);
  const wave = state.waves[run.wave]!;
  wave[as]++;
  if (wave.phase === 'soaking' || wave.phase === 'proving' || wave.phase === 'passed') {
    wave.phase = 'open';
    wave.endedAt = null;
    state.wave = run.wave;
  }
}
