import { holdReason, stepNames, type Command, type RolloutState } from '@barrow/core';

/**
 * The rules of `decide`, said again the plain way: every run is looked at, every count is counted anew. It is the
 * truth that the indexed one is compared with.
 */
export function decideByFullScan(state: RolloutState, now: number): Command[] {
  const { plan } = state;
  if (state.phase === 'planned' || state.phase === 'ended') return [];
  const commands: Command[] = [];
  const mayBegin = state.phase === 'running' && !state.draining;
  const stepOf = (i: number) => plan.runs[i]!.steps[state.runs[i]!.step]!.step;
  const dangerous = (step: string) => step === 'activate' || step === 'reboot';
  state.runs.forEach((run, i) => {
    const id = plan.runs[i]!.id;
    const step = stepOf(i);
    if (run.phase === 'lost' && !state.draining) {
      if (dangerous(step)) commands.push({ kind: 'reconcile', run: id, step });
      else if (mayBegin || run.pastReturn) commands.push({ kind: 'begin-step', run: id, step, attempt: run.attempt });
      else if (state.phase === 'stopping') commands.push({ kind: 'withdraw-run', run: id, reason: `stopped in ${step}` });
    }
    if (run.phase === 'ready') {
      const forced = run.pastReturn && (!state.draining || run.step < stepNames.indexOf('return'));
      if (mayBegin || forced) commands.push({ kind: 'begin-step', run: id, step, attempt: run.attempt });
      else if (state.phase === 'stopping' && !run.pastReturn)
        commands.push({ kind: 'withdraw-run', run: id, reason: `stopped before ${step}` });
    }
    if (run.phase === 'waiting' && state.phase === 'stopping')
      commands.push({ kind: 'withdraw-run', run: id, reason: 'stopped before it began' });
  });
  if (state.phase === 'stopping') {
    if (commands.length === 0 && state.runs.every((r) => r.phase === 'ended')) commands.push({ kind: 'end-rollout' });
    return commands;
  }
  if (!mayBegin) return commands;
  const wave = state.waves[state.wave];
  if (!wave || wave.phase === 'passed') {
    commands.push(state.wave + 1 < plan.waves.length ? { kind: 'open-wave', wave: state.wave + 1 } : { kind: 'end-rollout' });
    return commands;
  }
  const reason = holdReason(state, wave, state.wave);
  if (reason !== null) return [{ kind: 'hold', reason }];
  const mine = state.runs.flatMap((r, i) => (r.wave === state.wave ? [i] : []));
  if (wave.phase === 'open') {
    if (mine.every((i) => state.runs[i]!.phase === 'ended')) commands.push({ kind: 'end-wave', wave: state.wave });
    return commands;
  }
  const gate = plan.waves[state.wave]!.gate;
  if (now < wave.endedAt! + gate.soakMs) commands.push({ kind: 'wake', at: wave.endedAt! + gate.soakMs });
  else if (!gate.approval || wave.approvedBy !== null) commands.push({ kind: 'pass-gate', wave: state.wave });
  return commands;
}

/** How many begun and not ended runs count against each limit. */
export function underWay(state: RolloutState): Map<string, number> {
  const counts = new Map<string, number>();
  state.runs.forEach((run, i) => {
    if (run.phase === 'waiting' || run.phase === 'ended') return;
    for (const key of state.plan.runs[i]!.limitKeys) counts.set(key, (counts.get(key) ?? 0) + 1);
  });
  return counts;
}
