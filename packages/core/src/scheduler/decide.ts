import { currentStep, type RolloutState, type WaveState } from './state.js';
import { stepNames, whenLost, type StepName } from './steps.js';
import type { Instant, RunId } from '../units.js';

/** What may be begun at this moment. */
export type Command =
  | { readonly kind: 'begin-step'; readonly run: RunId; readonly step: StepName; readonly attempt: number }
  | { readonly kind: 'reconcile'; readonly run: RunId; readonly step: StepName }
  | { readonly kind: 'withdraw-run'; readonly run: RunId; readonly reason: string }
  | { readonly kind: 'open-wave'; readonly wave: number }
  | { readonly kind: 'end-wave'; readonly wave: number }
  | { readonly kind: 'pass-gate'; readonly wave: number }
  | { readonly kind: 'hold'; readonly reason: string }
  | { readonly kind: 'end-rollout' }
  /** Nothing more can be begun before this moment. */
  | { readonly kind: 'wake'; readonly at: Instant };

/** The step from which on a device is left to itself, so that the service may stop: it waits for the device. */
const waitsForDevice = stepNames.indexOf('return');

/** Why a wave holds the rollout, or null when it does not: also when nothing is left that holding could keep from harm. */
export function holdReason(state: RolloutState, wave: WaveState, index: number): string | null {
  const { name, gate } = state.plan.waves[index]!;
  const last = index === state.waves.length - 1;
  if (last && wave.waiting + wave.active === 0) return null;
  const failed = wave.ended.failed - wave.forgiven;
  if (failed >= gate.failureLimit) return `${failed} failed in wave ${index + 1} (${name}); the limit is ${gate.failureLimit}`;
  if (wave.phase === 'soaking' && !last && wave.ended.verified === 0 && !wave.unprovenAccepted)
    return `no device of wave ${index + 1} (${name}) was verified, so it proves nothing`;
  return null;
}

/**
 * Decides what may be begun now, under every rule. It changes nothing and costs what is ready, lost or may begin,
 * not what exists. Carry out the commands, journal what happened, and decide again.
 */
export function decide(state: RolloutState, now: Instant): Command[] {
  if (state.phase === 'planned' || state.phase === 'ended') return [];
  const commands: Command[] = [];
  const mayBegin = state.phase === 'running' && !state.draining;

  for (const index of state.lost) {
    const { step } = currentStep(state, index);
    const run = state.plan.runs[index]!.id;
    if (state.draining) continue;
    if (whenLost(step) === 'ask-device') commands.push({ kind: 'reconcile', run, step });
    else if (mayBegin || state.runs[index]!.pastReturn)
      commands.push({ kind: 'begin-step', run, step, attempt: state.runs[index]!.attempt });
    else if (state.phase === 'stopping') commands.push({ kind: 'withdraw-run', run, reason: `stopped in ${step}` });
  }

  for (const index of state.ready) {
    const run = state.runs[index]!;
    const { id } = state.plan.runs[index]!;
    const { step } = currentStep(state, index);
    // Past the point of no return a run goes on whatever anybody asks, until it only waits for the device.
    const mustGoOn = run.pastReturn && (!state.draining || run.step < waitsForDevice);
    if (mayBegin || mustGoOn) commands.push({ kind: 'begin-step', run: id, step, attempt: run.attempt });
    else if (state.phase === 'stopping' && !run.pastReturn)
      commands.push({ kind: 'withdraw-run', run: id, reason: `stopped before ${step}` });
  }

  if (state.phase === 'stopping') {
    for (const [index, run] of state.runs.entries())
      if (run.phase === 'waiting')
        commands.push({ kind: 'withdraw-run', run: state.plan.runs[index]!.id, reason: 'stopped before it began' });
    if (commands.length === 0 && state.runs.every((r) => r.phase === 'ended')) commands.push({ kind: 'end-rollout' });
    return commands;
  }
  if (!mayBegin) return commands;

  const wave = state.waves[state.wave];
  if (!wave || wave.phase === 'passed') {
    commands.push(state.wave + 1 < state.waves.length ? { kind: 'open-wave', wave: state.wave + 1 } : { kind: 'end-rollout' });
    return commands;
  }
  const reason = holdReason(state, wave, state.wave);
  if (reason !== null) return [{ kind: 'hold', reason }];
  if (wave.phase === 'open') {
    if (wave.waiting + wave.active === 0) commands.push({ kind: 'end-wave', wave: state.wave });
    else beginRuns(state, wave, commands);
    return commands;
  }
  const gate = state.plan.waves[state.wave]!.gate;
  const opensAt = wave.endedAt! + gate.soakMs;
  if (now < opensAt) commands.push({ kind: 'wake', at: opensAt });
  else if (!gate.approval || wave.approvedBy !== null) commands.push({ kind: 'pass-gate', wave: state.wave });
  return commands;
}

/** Begins waiting runs while every limit they count against has room. */
function beginRuns(state: RolloutState, wave: WaveState, commands: Command[]): void {
  const added = new Map<string, number>();
  const room = (key: string): boolean => {
    const most = state.plan.limits[key];
    return most === undefined || (state.counts.get(key) ?? 0) + (added.get(key) ?? 0) < most;
  };
  for (const bucket of wave.buckets.values()) {
    for (let place = bucket.head; place < bucket.queue.length && bucket.keys.every(room); place++) {
      const index = bucket.queue[place]!;
      commands.push({
        kind: 'begin-step',
        run: state.plan.runs[index]!.id,
        step: currentStep(state, index).step,
        attempt: state.runs[index]!.attempt + 1,
      });
      for (const key of bucket.keys) added.set(key, (added.get(key) ?? 0) + 1);
    }
  }
}
