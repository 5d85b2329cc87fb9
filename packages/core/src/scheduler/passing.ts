import { isGuard, legSteps, legsOf, passageOf, type Claim } from '../plan/plan.js';
import { rungAfter } from '../plan/rungs.js';
import type { Instant } from '../units.js';
import { currentStep, neededBy, rungOf, soaks, type Outcome, type RolloutState, type RunState } from './state.js';

/** Into a stretch, with all that it claims; a run that waited begins with it. */
export function enter(state: RolloutState, index: number, claims: readonly Claim[], at: Instant): void {
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
  run.entered = run.stretch;
  run.claims = claims;
  run.phase = 'ready';
  state.broken.delete(index);
  state.ready.add(index);
}

/** The rung that may be tried after a failure, where the plan says that it is: the next one, or the first. */
export function nextRung(state: RolloutState, index: number, cause: string): number | null {
  const { plan } = state;
  const run = state.runs[index]!;
  // What nobody has seen work is not mended by what nobody has seen work, unless a person says so.
  if (!run.pastReturn || (run.rung === null && (!plan.wayBack || plan.runs[index]!.unproven))) return null;
  const leg = rungOf(state, index)?.leg ?? currentStep(state, index).leg;
  return rungAfter(plan, plan.runs[index]!, leg, cause, run.rung ?? -1, run.mayCutOff);
}

/** Whether it is not as it was before its leg, as far as anybody knows. */
const isChanged = ({ pastReturn, changed }: RunState): boolean => pastReturn || changed;

/** What failed of a run that has ended failed after it was changed; null when nothing did. */
function failedAfter(run: RunState): string | null {
  if (run.outcome !== 'failed' || !isChanged(run)) return null;
  // Who was changed and is not there when it is begun anew has not come back since.
  return run.cause === 'unreachable' && !run.pastReturn ? 'never-returned' : run.cause;
}

/** The rung that a person may have tried of a run that has ended; with their word also one with which others go dark. */
export function firstRung(state: RolloutState, index: number, mayCutOff = false): number | null {
  const run = state.runs[index]!;
  const cause = failedAfter(run);
  return cause === null ? null : rungAfter(state.plan, state.plan.runs[index]!, run.legs, cause, -1, mayCutOff);
}

/** Who would lose their power if a run that has ended were taken back by cutting its own; null: it cannot be, or needs nobody's. */
export function darkWith(state: RolloutState, index: number): readonly { readonly device: string; readonly name: string }[] | null {
  const { legs } = state.runs[index]!;
  const cause = failedAfter(state.runs[index]!);
  if (cause === null) return null;
  const planned = state.plan.runs[index]!;
  const { rungs } = passageOf(state.plan, planned);
  const cuts = rungs.findIndex((r) => r.cutsOff && r.leg === legs);
  return cuts >= 0 && rungAfter(state.plan, planned, legs, cause, cuts - 1, true) === cuts ? (planned.power?.others ?? null) : null;
}

export function noRung(state: RolloutState, index: number): string {
  const { outcome } = state.runs[index]!;
  const { name } = state.plan.runs[index]!;
  if (outcome !== 'failed') return `${name} has ended ${outcome}: there is nothing to take back`;
  if (state.runs[index]!.met) return `${name} has reached its target: what failed came after its soak`;
  if (!isChanged(state.runs[index]!)) return `${name} failed before it was changed: there is nothing to take back`;
  const dark = darkWith(state, index);
  if (dark !== null)
    return `${name} could only be started anew by cutting its power, and ${dark.map((d) => d.name).join(', ')} would lose theirs with it: that has to be accepted`;
  return `after this failure ${name} has no way back that Barrow could try`;
}

/** It failed, and what may mend it is next; it keeps its guards, and gives back its places. */
export function breakRun(state: RolloutState, index: number, rung: number): void {
  const run = state.runs[index]!;
  const { rungs } = passageOf(state.plan, state.plan.runs[index]!);
  if (run.rung === null) {
    state.waves[run.wave]!.broken++;
    run.failedStep ??= run.step;
  }
  run.rung = rung;
  run.unsure = null;
  run.step = rungs[rung]!.step;
  run.stretch = rungs[rung]!.stretch;
  run.claims = run.claims!.filter(isGuard);
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
  const failed = run.rung !== null;
  remember(run);
  if (failed) Object.assign(run, { cause: null, detail: null, failedStep: null });
  mended(state, index);
}

/** What failed first, and by what it stands again. */
function remember(run: RunState): void {
  const { rung, cause, detail, unsure } = run;
  if (rung !== null) run.mended = [...run.mended, { rung, cause: cause!, detail: detail ?? '', unsure }];
}

/** It stands again: at its target, or where it was before. */
function mended(state: RolloutState, index: number): void {
  const run = state.runs[index]!;
  if (run.rung === null) return;
  state.waves[run.wave]!.broken--;
  run.rung = null;
  run.unsure = null;
  run.mayCutOff = false;
}

export function endRun(state: RolloutState, index: number, outcome: Outcome, at: Instant): void {
  const run = state.runs[index]!;
  const wave = state.waves[run.wave]!;
  if (run.owes) return putBack(state, index, outcome);
  if (soaks(state, index)) wave.soaking--;
  if (run.phase === 'waiting') wave.waiting--;
  else if (run.phase === 'absent') wave.absent--;
  else wave.active--;
  const failedAt = outcome === 'failed' && run.pastReturn ? currentStep(state, index) : null;
  if (outcome === 'verified') run.legs = legsOf(state.plan, state.plan.runs[index]!).length;
  if (outcome === 'verified') overcome(state, index);
  else {
    if (outcome === 'recovered') remember(run);
    mended(state, index);
  }
  state.broken.delete(index);
  // Where it may be down, or still writing, nothing above it goes down until it is seen, retried or released. What is below it
  // looks for itself whether it can be reached.
  run.claims =
    failedAt && (failedAt.down || failedAt.writes)
      ? (run.claims?.filter((c) => isGuard(c) && !c.key.startsWith('device:')).map(({ key }) => ({ key, mode: 'shared' })) ?? null)
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

/** Before it ends, what was set aside is put back; what it may be down or writing with stays guarded, and a failure counts at once. */
function putBack(state: RolloutState, index: number, outcome: Outcome): void {
  const run = state.runs[index]!;
  const counted = outcome === 'failed' && run.rung === null;
  if (counted) state.waves[run.wave]!.broken++;
  run.ending = { outcome, step: run.step, counted };
  const { step, stretch } = passageOf(state.plan, state.plan.runs[index]!).putBack!;
  Object.assign(run, { phase: 'ready', step, stretch, claims: (run.claims ?? []).filter(isGuard), stepBegunAt: null, wish: null });
  state.lost.delete(index);
  state.broken.delete(index);
  state.wishes.delete(index);
  state.ready.add(index);
}

/**
 * It ends as it would have ended without anything to put back.
 *
 * @param remains why that could not be put back; null: it was
 */
export function endAtLast(state: RolloutState, index: number, remains: string | null, at: Instant): void {
  const run = state.runs[index]!;
  const { outcome, step, counted } = run.ending!;
  if (counted) state.waves[run.wave]!.broken--;
  const { stretches } = passageOf(state.plan, state.plan.runs[index]!);
  Object.assign(run, { step, stretch: stretches.findIndex((s) => step < s.to), ending: null, owes: false });
  if (remains !== null) {
    const left = `what was set aside could not be put back: ${remains}`;
    run.detail = run.detail === null ? left : `${run.detail}\n${left}`;
  }
  endRun(state, index, outcome, at);
}

/** Whether a run waits for one that has ended, and not verified. */
export function strand(state: RolloutState, index: number): void {
  const needed = state.runs[index]!.phase === 'ended' ? null : neededBy(state, index);
  if (needed !== null && state.runs[needed]!.phase === 'ended') state.stranded.add(index);
  else state.stranded.delete(index);
}

export function stepDone(state: RolloutState, index: number, at: Instant): void {
  const run = state.runs[index]!;
  const passage = passageOf(state.plan, state.plan.runs[index]!);
  const rung = rungOf(state, index);
  if (passage.steps[run.step]!.sets === 'back') run.owes = false;
  // It was found as it has to be to be begun with.
  if (passage.steps[run.step]!.looks) run.changed = false;
  if (run.ending) endAtLast(state, index, null, at);
  else if (rung?.joins !== undefined && run.step === passage.stretches[rung.stretch]!.to - 1) join(state, index, rung.joins, at);
  else if (rung?.takes && run.step === passage.stretches[rung.stretch]!.to - 1) endRun(state, index, 'recovered', at);
  else if (run.step === legSteps(passage) - 1) endRun(state, index, 'verified', at);
  else moveTo(state, index, run.step + 1, at);
}

/** What stood for the end of a stretch has ended well: the leg goes on after that. */
function join(state: RolloutState, index: number, step: number, at: Instant): void {
  const passage = passageOf(state.plan, state.plan.runs[index]!);
  Object.assign(state.runs[index]!, { step: step - 1, stretch: passage.stretches.findIndex((s) => step === s.to) });
  if (step === legSteps(passage)) endRun(state, index, 'verified', at);
  else moveTo(state, index, step, at);
}

/** It comes to its next step by itself, at the next hour of its own; where none is known, at once. */
function arm(state: RolloutState, index: number, at: Instant): void {
  const run = state.runs[index]!;
  const { window = '' } = state.plan.runs[index]!;
  const hours = state.plan.windows?.[window]?.hours ?? [];
  run.phase = 'armed';
  run.claims = run.claims!.filter(isGuard);
  run.dueAt = hours.find((hour) => hour >= at) ?? at;
  state.armed.add(index);
}

/** Where the leg after the one that a run is in begins; null when that is its last. */
export function nextLeg(state: RolloutState, index: number): number | null {
  const passage = passageOf(state.plan, state.plan.runs[index]!);
  const { leg } = passage.steps[state.runs[index]!.step]!;
  const at = passage.steps.findIndex((s) => s.leg > leg);
  return at < 0 || at >= legSteps(passage) ? null : at;
}

/** The step with which it is looked at again after the soak; null when it is not. */
export function provesFrom(state: RolloutState, index: number): number | null {
  return passageOf(state.plan, state.plan.runs[index]!).stretches.find((s) => s.afterSoak)?.from ?? null;
}

/** On to a step: within its stretch, or before the next one, holding nothing. A leg that is behind it can be stopped after. */
export function moveTo(state: RolloutState, index: number, step: number, at: Instant): void {
  const run = state.runs[index]!;
  const { steps, stretches } = passageOf(state.plan, state.plan.runs[index]!);
  const { leg } = steps[step]!;
  if (leg > steps[run.step]!.leg) {
    run.legs = leg;
    run.pastReturn = false;
    run.changed = false;
    overcome(state, index);
  }
  run.step = step;
  run.stepBegunAt = null;
  if (step < stretches[run.stretch]!.to) {
    if (steps[step]!.ownHour) return arm(state, index, at);
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
    run.changed = false;
    run.met = true;
    overcome(state, index);
    state.waves[run.wave]!.soaking++;
    for (const other of state.dependants.get(index) ?? []) strand(state, other);
  }
  strand(state, index);
}

/** Retries a run, and with it those that were not begun for want of it. */
export function revive(state: RolloutState, index: number): void {
  retry(state, index);
  for (const other of state.dependants.get(index) ?? []) {
    if (state.runs[other]!.cause === 'needed-run') revive(state, other);
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
  const arrived = run.legs === legsOf(state.plan, state.plan.runs[index]!).length;
  const step = (arrived ? provesFrom(state, index) : null) ?? first;
  Object.assign(run, {
    phase: 'waiting',
    step,
    stretch: stretches.findIndex((s) => step < s.to),
    claims: null,
    endedAt: null,
    pastReturn: false,
    changed: run.outcome !== 'recovered' && isChanged(run),
    owes: false,
    outcome: null,
    met: arrived,
    absences: 0,
    tried: [],
    mended: [],
    mayCutOff: false,
    failedStep: null,
    cause: null,
    detail: null,
  });
}

/** Who had ended counts again, in the wave that is open, or in the last one when all have ended. */
export function reopen(state: RolloutState, index: number, as: 'waiting' | 'active'): void {
  const run = state.runs[index]!;
  const before = state.waves[run.wave]!;
  before.ended[run.outcome!]--;
  if ((run.outcome === 'failed' || run.outcome === 'recovered') && before.forgiven > 0) before.forgiven--;
  joinWave(state, index, as);
  if (state.phase === 'ended' || state.phase === 'stopping') {
    // Why it was held before it was stopped holds it no more.
    Object.assign(state, { phase: 'running', endedAt: null, heldBecause: null, heldBy: null });
  }
}

/** Into the wave that is open, or the last one when all have ended; it is open again then. */
export function joinWave(state: RolloutState, index: number, as: 'waiting' | 'active'): void {
  const run = state.runs[index]!;
  run.wave = Math.max(state.wave, run.wave);
  const wave = state.waves[run.wave]!;
  wave[as]++;
  if (wave.phase === 'soaking' || wave.phase === 'proving' || wave.phase === 'passed') {
    wave.phase = 'open';
    wave.endedAt = null;
    state.wave = run.wave;
  }
}
