import type { Command, Plan, RolloutState } from '@barrow/core';

/** A step is told by its name here, and by its traits there. */
const asks = ['activate', 'reboot'];
const writing = ['transfer', 'activate', 'reboot', 'fall-back', 'level'];
/** It has reached its target, and waits until its wave has soaked. */
export const isSoaking = (state: RolloutState, i: number): boolean => state.runs[i]!.phase === 'parked' && stepAt(state, i) === 'settle';
const down = ['reboot', 'return', 'cut-power', 'give-power'];

const stepsOf = (plan: Plan, i: number): string[] => plan.passages[plan.runs[i]!.passage]!.steps.map((s) => s.step);
const plannedAt = (state: RolloutState, i: number) => state.plan.passages[state.plan.runs[i]!.passage]!.steps[state.runs[i]!.step]!;
export const stepAt = (state: RolloutState, i: number): string => plannedAt(state, i).step;
/** A step as events name it. */
export const namedAt = (state: RolloutState, i: number): { step: string; leg?: number } => {
  const { step, leg } = plannedAt(state, i);
  return leg > 0 ? { step, leg } : { step };
};

/**
 * The rules of `decide`, said again the plain way: every run is looked at, every count is counted anew, and no code is
 * shared. It is the truth that the indexed one is compared with. Who may enter a stretch is compared apart.
 */
export function decideByFullScan(state: RolloutState, now: number): Command[] {
  const { plan } = state;
  if (state.phase === 'planned' || state.phase === 'ended') return [];
  const commands: Command[] = [];
  const mayBegin = state.phase === 'running' && !state.draining;
  state.runs.forEach((run, i) => {
    const id = plan.runs[i]!.id;
    const step = stepAt(state, i);
    const named = namedAt(state, i);
    const stopping = state.phase === 'stopping';
    if (run.wish && !run.pastReturn && ['waiting', 'parked', 'absent', 'ready'].includes(run.phase)) {
      commands.push({ kind: 'skip-run', run: id, by: run.wish.by, reason: run.wish.reason });
      return;
    }
    if (run.phase === 'lost' && !state.draining) {
      if (asks.includes(step)) commands.push({ kind: 'reconcile', run: id, ...named });
      else if (mayBegin || run.pastReturn || run.ending) commands.push({ kind: 'begin-step', run: id, ...named, attempt: run.attempt });
      else if (stopping) commands.push({ kind: 'withdraw-run', run: id, reason: `stopped in ${step}` });
    }
    if (run.phase === 'ready') {
      const forced = run.pastReturn && !(state.draining && ['return', 'checks', 'settle'].includes(step));
      if (mayBegin || forced || run.ending) commands.push({ kind: 'begin-step', run: id, ...named, attempt: run.attempt });
      else if (stopping && !run.pastReturn) commands.push({ kind: 'withdraw-run', run: id, reason: `stopped before ${step}` });
    }
    if (run.phase === 'armed' && run.dueAt! <= now && !state.draining)
      commands.push({ kind: 'begin-step', run: id, ...named, attempt: run.attempt });
    if (run.phase === 'broken' && stopping) commands.push({ kind: 'give-up', run: id, reason: 'the rollout was stopped' });
    if ((run.phase === 'waiting' || run.phase === 'absent') && stopping)
      commands.push({ kind: 'withdraw-run', run: id, reason: 'stopped before it began' });
    if (run.phase === 'parked' && stopping) commands.push({ kind: 'withdraw-run', run: id, reason: `stopped before ${step}` });
  });
  const hours = state.runs.flatMap((r) => (r.phase === 'armed' && r.dueAt! > now ? [r.dueAt!] : []));
  if (hours.length > 0) commands.push({ kind: 'wake', at: Math.min(...hours) });
  if (state.phase === 'stopping') {
    if (commands.length === 0 && state.runs.every((r) => r.phase === 'ended')) commands.push({ kind: 'end-rollout' });
    return commands;
  }
  const inLast =
    state.runs.filter((r) => r.wave === state.wave).every((r) => r.phase === 'ended' || r.phase === 'absent') &&
    state.wave === plan.waves.length - 1;
  const underWay = ['open', 'proving'];
  const isIdle = commands.length === 0;
  if (
    isIdle &&
    state.phase === 'held' &&
    state.heldBy === 'Barrow' &&
    !state.draining &&
    inLast &&
    underWay.includes(state.waves[state.wave]!.phase)
  )
    commands.push({ kind: 'resume' });
  if (!mayBegin) return commands;
  state.runs.forEach((run, i) => {
    const lacks = needOf(state, i);
    if (lacks === null || !['waiting', 'parked'].includes(run.phase) || run.wish || state.runs[lacks]!.phase !== 'ended') return;
    const { id, name } = plan.runs[lacks]!;
    const detail = `${name} has to be done first, and has ended ${state.runs[lacks]!.outcome}`;
    commands.push({ kind: 'end-needless', run: plan.runs[i]!.id, need: id, detail });
  });
  const wave = state.waves[state.wave];
  if (!wave || wave.phase === 'passed') {
    const missed = plan.runs.filter((_, i) => state.runs[i]!.phase === 'absent');
    const next = state.waves[state.wave + 1];
    if (next) {
      if (next.heldBack === null) commands.push({ kind: 'open-wave', wave: state.wave + 1 });
      return commands;
    }
    if (missed.length > 0)
      commands.push(
        ...missed.filter((r) => !state.runs[state.indexOf.get(r.id)!]!.wish).map((r) => ({ kind: 'miss-run', run: r.id }) as const),
      );
    else commands.push({ kind: 'end-rollout' });
    return commands;
  }
  // Who is not there counts nowhere.
  const mine = state.runs.filter((r) => r.wave === state.wave && r.phase !== 'absent');
  const soaking = state.runs.filter((r, i) => r.wave === state.wave && isSoaking(state, i));
  const number = state.wave + 1;
  const isLast = number === plan.waves.length;
  const over = mine.every((r) => r.phase === 'ended');
  const hasFailed = (r: (typeof mine)[number]): boolean => r.rung !== null || r.ending?.outcome === 'failed';
  const safe = mine.every((r) => r.phase === 'ended' || hasFailed(r));
  const { name, gate } = plan.waves[state.wave]!;
  const failed = mine.filter((r) => r.outcome === 'failed' || r.outcome === 'recovered' || hasFailed(r)).length - wave.forgiven;
  const isDone = wave.phase === 'soaking' || (wave.phase === 'proving' && over);
  const unproven = !isLast && isDone && !wave.unprovenAccepted && soaking.length === 0 && !mine.some((r) => r.outcome === 'verified');
  if (!(isLast && safe)) {
    if (failed >= gate.failureLimit)
      return [{ kind: 'hold', reason: `${failed} failed in wave ${number} (${name}); the limit is ${gate.failureLimit}` }];
    const size = state.runs.filter((r) => r.wave === state.wave).length;
    if (gate.failureShare !== undefined && failed > 0 && failed / size >= gate.failureShare / 100)
      return [{ kind: 'hold', reason: `${failed} of ${size} failed in wave ${number} (${name}); the limit is ${gate.failureShare} %` }];
    const away = state.runs.filter((r) => r.wave === state.wave && r.phase === 'absent').length;
    if (isDone && !isLast && gate.absentLimit !== undefined && away - wave.absentAccepted > gate.absentLimit)
      return [{ kind: 'hold', reason: `${away} of wave ${number} (${name}) are absent or not ready; the limit is ${gate.absentLimit}` }];
    const worse = isDone && !isLast && !wave.worseAccepted ? wave.worse : null;
    if (unproven) return [{ kind: 'hold', reason: `no device of wave ${number} (${name}) was verified, so it proves nothing` }];
    if (worse !== null) return [{ kind: 'hold', reason: `what soaked got worse: ${worse}` }];
  }
  if (wave.phase === 'proving' && !over) return commands;
  if (wave.phase === 'open') {
    if (mine.every((r) => r.phase === 'ended' || soaking.includes(r))) commands.push({ kind: 'end-wave', wave: state.wave });
    return commands;
  }
  if (now < wave.endedAt! + gate.soakMs) commands.push({ kind: 'wake', at: wave.endedAt! + gate.soakMs });
  else if (gate.watch === true && wave.phase === 'soaking' && !wave.judged) commands.push({ kind: 'judge-soak', wave: state.wave });
  else if (soaking.length > 0) commands.push({ kind: 'end-soak', wave: state.wave });
  else if (!gate.approval || wave.approvedBy !== null) commands.push({ kind: 'pass-gate', wave: state.wave });
  return commands;
}

/** The run that has to end well before this one may go on; null when there is none, or it has. */
export function needOf(state: RolloutState, i: number): number | null {
  const { leg } = plannedAt(state, i);
  const open = (state.plan.runs[i]!.needs ?? []).filter((n) => n.leg <= leg).map((n) => state.plan.runs.findIndex((r) => r.id === n.run));
  const isThere = (at: number): boolean => {
    const { outcome, detail } = state.runs[at]!;
    const planned = state.plan.passages[state.plan.runs[at]!.passage]!.legs.length;
    return (
      outcome === 'verified' || state.runs[at]!.legs === planned || (outcome === 'skipped' && (detail ?? '').startsWith('there already'))
    );
  };
  return open.find((at) => !isThere(at)) ?? null;
}

/** Whether a stretch may be entered now by its window: it goes down only in one that leaves it its time, and its way back. */
export function isInWindow(plan: Plan, i: number, stretch: number, now: number, doneBy: number | null = null): boolean {
  const run = plan.runs[i]!;
  const { steps, stretches, legs, rungs } = plan.passages[run.passage]!;
  const part = steps.slice(stretches[stretch]!.from, stretches[stretch]!.to);
  const mends = part[0]!.leg >= legs.length || part[0]!.step === 'cut-power';
  if (mends || !part.some((s) => down.includes(s.step))) return true;
  const lasts = (list: typeof part): number => list.reduce((sum, s) => sum + s.typicalMs, 0);
  const backs = rungs
    .filter((r) => r.means !== 'wait' && r.leg === part[0]!.leg)
    .map((r) => lasts(steps.slice(r.step, stretches.find((s) => s.from === r.step)!.to)));
  const ends = now + lasts(part) + (plan.wayBack ? Math.max(0, ...backs) : 0);
  if (doneBy !== null && ends > doneBy) return false;
  if (!run.window) return true;
  if (plan.windows![run.window]!.hours) return plan.windows![run.window]!.spans.some(([from, until]) => from <= now && now < until);
  return plan.windows![run.window]!.spans.some(([from, until]) => from <= now && ends <= until);
}

/** From when on who goes down at its site, or on what it is handled through, may begin, as far apart from the last one as it has to be. */
export function freeFrom(
  plan: Plan,
  i: number,
  stretch: number,
  entered: readonly { key: string; at: number }[],
  states: readonly RolloutState[],
): number {
  const apart = (key: string): number =>
    Math.max(...states.filter((s) => s.phase !== 'ended').map((s) => s.plan.spacing?.[key] ?? -Infinity));
  return Math.max(
    -Infinity,
    ...holdings(plan, i, stretch).flatMap(([key]) =>
      plan.spacing?.[key] === undefined ? [] : entered.filter((e) => e.key === key).map((e) => e.at + apart(key)),
    ),
  );
}

/** Whether it was armed, and has come to its hour: from there on it takes no place. */
const isAfterHour = (state: RolloutState, i: number): boolean => {
  const { steps, stretches } = state.plan.passages[state.plan.runs[i]!.passage]!;
  const { rung, step, stretch } = state.runs[i]!;
  return rung === null && steps.slice(stretches[stretch]!.from, step + 1).some((s) => s.ownHour);
};

type Hold = readonly [key: string, alone: boolean];

/** What a run holds in a stretch, said again. */
export function holdings(plan: Plan, i: number, stretch: number): Hold[] {
  const run = plan.runs[i]!;
  const { from, to } = plan.passages[run.passage]!.stretches[stretch]!;
  const names = stepsOf(plan, i).slice(from, to);
  const falls = names.some((n) => down.includes(n));
  const room = names.every((n) => n === 'by-hand') ? [] : run.room;
  const holds: Hold[] = room.map((key): Hold => [key, false]);
  holds.push([`device:${run.device}`, true]);
  const { ofParent } = plan.passages[run.passage]!.stretches[stretch]!;
  if (run.via && ofParent?.storage) holds.push([`store:${run.via}`, true]);
  if (run.via && ofParent?.most) holds.push([`parent:${run.via}`, false]);
  if (names[0] === 'cut-power') for (const { device } of run.power?.others ?? []) holds.push([`up:${device}`, true]);
  if (falls) for (const key of run.downClaims) holds.push([key, false]);
  if (falls && plan.spacing?.[`apart:${run.site}`]) holds.push([`apart:${run.site}`, false]);
  if (falls) for (const id of run.needsUp ?? []) if (!run.under.includes(id)) holds.push([`up:${id}`, false]);
  if (falls || names.some((n) => writing.includes(n))) for (const id of run.under) holds.push([`up:${id}`, falls && id === run.device]);
  return holds;
}

/** Whether it failed where it may still be down or writing, and nobody has seen or released it since. */
export const isDoubtful = (state: RolloutState, i: number): boolean => {
  const run = state.runs[i]!;
  const touched = down.includes(stepAt(state, i)) || writing.includes(stepAt(state, i));
  return state.phase !== 'ended' && run.phase === 'ended' && run.outcome === 'failed' && run.pastReturn && touched && run.claims !== null;
};

/** Who is in a stretch, of several rollouts, and what each holds. */
export function allHoldings(states: readonly RolloutState[]): { who: string; holds: Hold[] }[] {
  return states.flatMap((state) =>
    state.runs.flatMap((run, i) => {
      const who = `${state.plan.id}/${state.plan.runs[i]!.id}`;
      const ofStretch = holdings(state.plan, i, run.stretch);
      const guarding = ofStretch.filter(([key]) => !/^(rollout|site|apart|parent|store):/.test(key));
      // Who is broken, or puts back what was set aside, keeps what it had to be careful with.
      if (run.phase === 'broken' || run.ending) return [{ who, holds: run.claims!.map((c): Hold => [c.key, c.mode === 'exclusive']) }];
      if (['ready', 'busy', 'armed', 'lost', 'asking'].includes(run.phase))
        return [{ who, holds: isAfterHour(state, i) ? guarding : ofStretch }];
      if (!isDoubtful(state, i)) return [];
      return [{ who, holds: guarding.filter(([key]) => !key.startsWith('device:')).map(([key]): Hold => [key, false]) }];
    }),
  );
}

/** Why these holdings cannot stand together with those of others; null when they can. */
export function clash(
  wanted: readonly Hold[],
  others: readonly { holds: readonly Hold[] }[],
  states: readonly RolloutState[],
): string | null {
  for (const [key, alone] of wanted) {
    const held = others.flatMap(({ holds }) => holds.filter(([k]) => k === key));
    const most = Math.min(...states.filter((s) => s.phase !== 'ended').map((s) => s.plan.capacity[key] ?? Infinity));
    if (held.length > 0 && (alone || held.some(([, a]) => a) || held.length >= most)) return key;
  }
  return null;
}

/** What would be harm now: somebody goes down above who is writing, two of a ring are down, or a device lost its last feed. */
export function harm(states: readonly RolloutState[]): string | null {
  const inHand = states.flatMap((state) =>
    state.runs.flatMap((run, i) => {
      const step = stepAt(state, i);
      // Nobody knows better: it may be down, and it may be writing.
      const isBroken = run.phase === 'broken' && run.claims!.some((c) => c.key === `up:${state.plan.runs[i]!.device}`);
      if (isDoubtful(state, i) || isBroken) return [{ planned: state.plan.runs[i]!, isDown: true, writes: true, doubtful: true, cut: [] }];
      if (!['ready', 'busy', 'lost', 'asking'].includes(run.phase)) return [];
      const isDown = down.includes(step) && !(step === 'reboot' && run.phase === 'ready');
      const cut = step === 'cut-power' || step === 'give-power' ? (state.plan.runs[i]!.power?.others ?? []) : [];
      return [{ planned: state.plan.runs[i]!, isDown, writes: writing.includes(step) && run.phase !== 'ready', doubtful: false, cut }];
    }),
  );
  const fallen = inHand.filter((r) => r.isDown);
  for (const { planned: d, doubtful } of fallen)
    for (const { planned: u, writes } of inHand)
      if (!doubtful && u !== d && writes && u.under.includes(d.device)) return `${d.device} is down while ${u.device} is writing below it`;
  for (const { planned: d, cut } of fallen)
    for (const { planned: u, writes } of inHand)
      if (writes && cut.some((c) => c.device === u.device)) return `${u.device} is writing while its power is cut for ${d.device}`;
  for (const { planned: d, doubtful } of fallen)
    for (const { planned: u, doubtful: other } of fallen)
      if (u !== d && !doubtful && !other && u.needsUp?.includes(d.device))
        return `${u.device} is down while ${d.device} is, which it needs to come back`;
  const count = new Map<string, number>();
  for (const { planned } of fallen) for (const key of planned.downClaims) count.set(key, (count.get(key) ?? 0) + 1);
  for (const [key, n] of count) {
    const most = Math.min(...states.map((s) => s.plan.capacity[key] ?? Infinity));
    if (n > most) return `${n} are down of ${key}, where ${most} may be`;
  }
  return null;
}
