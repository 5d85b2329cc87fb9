import { currentStep, neededBy, nextClaims, type RolloutState, type WaveState } from './state.js';
import type { Claim } from '../plan/plan.js';
import type { Ledger } from './ledger.js';
import type { StepName } from './steps.js';
import type { Instant, RunId } from '../units.js';

/** What may be begun at this moment. */
export type Command =
  /** Its claims are held in the ledger from now on. */
  | {
      readonly kind: 'enter-stretch';
      readonly run: RunId;
      readonly stretch: number;
      readonly claims: readonly Claim[];
      readonly attempt: number;
    }
  | { readonly kind: 'begin-step'; readonly run: RunId; readonly step: StepName; readonly leg?: number; readonly attempt: number }
  | { readonly kind: 'reconcile'; readonly run: RunId; readonly step: StepName; readonly leg?: number }
  | { readonly kind: 'skip-run'; readonly run: RunId; readonly by: string; readonly reason: string }
  | { readonly kind: 'withdraw-run'; readonly run: RunId; readonly reason: string }
  /** What failed is not taken back: the rollout is being stopped. */
  | { readonly kind: 'give-up'; readonly run: RunId; readonly reason: string }
  /** What it needs has ended, and was not verified. */
  | { readonly kind: 'end-needless'; readonly run: RunId; readonly need: RunId; readonly detail: string }
  /** All others have ended, and its device was not seen. */
  | { readonly kind: 'miss-run'; readonly run: RunId }
  | { readonly kind: 'open-wave'; readonly wave: number }
  | { readonly kind: 'end-wave'; readonly wave: number }
  /** It has soaked: what its devices showed meanwhile is to be judged, and told by an event. */
  | { readonly kind: 'judge-soak'; readonly wave: number }
  | { readonly kind: 'end-soak'; readonly wave: number }
  | { readonly kind: 'pass-gate'; readonly wave: number }
  | { readonly kind: 'hold'; readonly reason: string }
  /** Nothing is left that Barrow's hold could keep from harm. */
  | { readonly kind: 'resume' }
  | { readonly kind: 'end-rollout' }
  /** Nothing more can be begun before this moment. */
  | { readonly kind: 'wake'; readonly at: Instant };

/** Why a rollout is held whose devices cannot go down any more. */
export const windowOver = 'its last window is over, and devices still wait for one';
export const tooLate = 'nobody who is left would be back by when it is to be done';

/** Why a wave holds the rollout, or null when it does not: also when nothing is left that holding could keep from harm. */
export function holdReason(state: RolloutState, wave: WaveState, index: number): string | null {
  const { name, gate } = state.plan.waves[index]!;
  const last = index === state.waves.length - 1;
  if (last && wave.waiting + wave.active - wave.broken === 0) return null;
  // Who was taken back, or is being, has failed all the same.
  const failed = wave.ended.failed + wave.ended.recovered + wave.broken - wave.forgiven;
  if (failed >= gate.failureLimit) return `${failed} failed in wave ${index + 1} (${name}); the limit is ${gate.failureLimit}`;
  // Where nothing is said, nothing is too much.
  const { failureShare = Infinity, absentLimit = Infinity } = gate;
  const size = wave.waiting + wave.active + wave.absent + Object.values(wave.ended).reduce((a, b) => a + b, 0);
  if (failed * 100 >= failureShare * size)
    return `${failed} of ${size} failed in wave ${index + 1} (${name}); the limit is ${failureShare} %`;
  const isOver = wave.phase === 'soaking' || (wave.phase === 'proving' && wave.active === 0);
  if (isOver && !last && wave.absent - wave.absentAccepted > absentLimit)
    return `${wave.absent} of wave ${index + 1} (${name}) are absent or not ready; the limit is ${absentLimit}`;
  if (isOver && !last && wave.ended.verified + wave.soaking === 0 && !wave.unprovenAccepted)
    return `no device of wave ${index + 1} (${name}) was verified, so it proves nothing`;
  if (isOver && !last && wave.worse !== null && !wave.worseAccepted) return `what soaked got worse: ${wave.worse}`;
  return null;
}

/** Whether the last wave has come to its end. */
function isOver(state: RolloutState): boolean {
  const last = state.waves[state.waves.length - 1]!;
  return state.wave === state.waves.length - 1 && last.waiting + last.active === 0;
}

/** The step that a run takes next, as events name it: that of a first leg without its number. */
function stepAt(state: RolloutState, index: number): { step: StepName; leg?: number } {
  const { step, leg } = currentStep(state, index);
  return leg === 0 ? { step } : { step, leg };
}

/**
 * Decides what may be begun now in one rollout, under every rule; the ledger knows what all rollouts hold. It changes nothing
 * but the ledger, in which those who may enter hold their claims from now on, and costs what is ready, lost or may
 * begin, not what exists. Journal the commands, let the ledger follow, carry them out, and decide again.
 *
 * @param now by the clock of waits, which nobody sets
 * @param wall by the clock on the wall, by which windows open
 */
export function decide(state: RolloutState, ledger: Ledger, now: Instant, wall: Instant = now): Command[] {
  if (state.phase === 'ended') return [];
  const commands: Command[] = [];
  const mayBegin = state.phase === 'running' && !state.draining;

  // A wish goes before everything else of its run; past the point of no return it cannot be obeyed any more.
  const left = new Set<number>();
  for (const index of state.wishes) {
    const { phase, pastReturn, wish } = state.runs[index]!;
    if (pastReturn || phase === 'busy' || phase === 'asking' || phase === 'lost') continue;
    left.add(index);
    commands.push({ kind: 'skip-run', run: state.plan.runs[index]!.id, by: wish!.by, reason: wish!.reason });
  }

  for (const index of state.lost) {
    const at = stepAt(state, index);
    const { step, whenLost } = currentStep(state, index);
    const run = state.plan.runs[index]!.id;
    if (state.draining) continue;
    if (whenLost === 'ask') commands.push({ kind: 'reconcile', run, ...at });
    else if (mayBegin || state.runs[index]!.pastReturn || state.runs[index]!.ending)
      commands.push({ kind: 'begin-step', run, ...at, attempt: state.runs[index]!.attempt });
    else if (state.phase === 'stopping') commands.push({ kind: 'withdraw-run', run, reason: `stopped in ${step}` });
  }

  for (const index of state.ready) {
    if (left.has(index)) continue;
    const run = state.runs[index]!;
    const { id } = state.plan.runs[index]!;
    const { step, waits } = currentStep(state, index);
    // Past the point of no return a run goes on whatever anybody asks, until it only waits for the device.
    const mustGoOn = run.pastReturn && !(state.draining && waits);
    if (mayBegin || mustGoOn || run.ending) commands.push({ kind: 'begin-step', run: id, ...stepAt(state, index), attempt: run.attempt });
    else if (state.phase === 'stopping' && !run.pastReturn)
      commands.push({ kind: 'withdraw-run', run: id, reason: `stopped before ${step}` });
  }

  // Who is armed comes to its next step by itself, whatever anybody asks.
  let due = Infinity;
  for (const index of state.armed) {
    const { dueAt, attempt } = state.runs[index]!;
    if (dueAt! > wall) due = Math.min(due, dueAt!);
    else if (!state.draining) commands.push({ kind: 'begin-step', run: state.plan.runs[index]!.id, ...stepAt(state, index), attempt });
  }
  if (due < Infinity) commands.push({ kind: 'wake', at: due - wall + now });

  // Who is broken is taken back before anybody else begins; also when Barrow holds the rollout, for that is why it does.
  const mayMend = !state.draining && (state.phase === 'running' || (state.phase === 'held' && state.heldBy === 'Barrow'));
  for (const index of state.broken) {
    const { id } = state.plan.runs[index]!;
    if (state.phase === 'stopping') commands.push({ kind: 'give-up', run: id, reason: 'the rollout was stopped' });
    if (!mayMend) continue;
    const holder = { rollout: state.plan.id, run: id };
    const claims = nextClaims(state.plan, state, index);
    if (ledger.lacks(claims, holder) !== null) continue;
    ledger.take(holder, claims, now);
    const { stretch, attempt } = state.runs[index]!;
    commands.push({ kind: 'enter-stretch', run: id, stretch, claims, attempt });
  }

  if (state.phase === 'stopping') {
    for (const [index, run] of state.runs.entries())
      if ((run.phase === 'waiting' || run.phase === 'parked' || run.phase === 'absent') && !left.has(index))
        commands.push({
          kind: 'withdraw-run',
          run: state.plan.runs[index]!.id,
          reason: run.phase === 'parked' ? `stopped before ${currentStep(state, index).step}` : 'stopped before it began',
        });
    if (state.runs.every((r) => r.phase === 'ended')) commands.push({ kind: 'end-rollout' });
    return commands;
  }
  if (state.phase === 'held' && state.heldBy === 'Barrow' && !state.draining && commands.length === 0 && isOver(state))
    commands.push({ kind: 'resume' });
  if (!mayBegin) return commands;

  for (const index of state.stranded) {
    const { phase } = state.runs[index]!;
    if ((phase !== 'waiting' && phase !== 'parked') || left.has(index)) continue;
    const at = neededBy(state, index)!;
    const { id, name } = state.plan.runs[at]!;
    const detail = `${name} has to be done first, and has ended ${state.runs[at]!.outcome}`;
    commands.push({ kind: 'end-needless', run: state.plan.runs[index]!.id, need: id, detail });
    left.add(index);
  }

  const wave = state.waves[state.wave];
  if (!wave || wave.phase === 'passed') {
    const next = state.waves[state.wave + 1];
    // One that a person holds back waits for their word.
    if (next?.heldBack) return commands;
    if (next) commands.push({ kind: 'open-wave', wave: state.wave + 1 });
    else if (state.absent.size > 0) {
      for (const index of state.absent) if (!left.has(index)) commands.push({ kind: 'miss-run', run: state.plan.runs[index]!.id });
    } else commands.push({ kind: 'end-rollout' });
    return commands;
  }
  const reason = holdReason(state, wave, state.wave);
  if (reason !== null) return [{ kind: 'hold', reason }];
  ledger.lookAtWindows(state, wall);
  ledger.isTooLate(state);
  if (wave.phase === 'open' || (wave.phase === 'proving' && wave.active > 0)) {
    if (wave.waiting + wave.active - wave.soaking === 0 && wave.phase === 'open') commands.push({ kind: 'end-wave', wave: state.wave });
    else
      for (const { index, claims } of ledger.enter(state, left, wall, now)) {
        const { stretch, phase, attempt } = state.runs[index]!;
        const run = state.plan.runs[index]!.id;
        commands.push({ kind: 'enter-stretch', run, stretch, claims, attempt: phase === 'waiting' ? attempt + 1 : attempt });
      }
    // Who was filed just now waits for a window too.
    const then = ledger.lookAtWindows(state, wall);
    if (then.over.length > 0) commands.push({ kind: 'hold', reason: windowOver });
    else if (then.next !== null) commands.push({ kind: 'wake', at: then.next - wall + now });
    const apart = ledger.mayBeTaken(state.plan.id);
    if (apart !== null) commands.push({ kind: 'wake', at: apart });
    // While somebody else may still begin, the others wait beside it.
    if (commands.length === 0 && ledger.isTooLate(state) && state.runs.every((r) => r.claims === null))
      return [{ kind: 'hold', reason: tooLate }];
    return commands;
  }
  const { gate } = state.plan.waves[state.wave]!;
  const opensAt = wave.endedAt! + gate.soakMs;
  if (now < opensAt) commands.push({ kind: 'wake', at: opensAt });
  else if (gate.watch && !wave.judged && wave.phase === 'soaking') commands.push({ kind: 'judge-soak', wave: state.wave });
  else if (wave.soaking > 0) commands.push({ kind: 'end-soak', wave: state.wave });
  else if (!gate.approval || wave.approvedBy !== null) commands.push({ kind: 'pass-gate', wave: state.wave });
  return commands;
}
