import { lastsBeyond, opensAt, type Claim, type PlannedRun } from '../plan/plan.js';
import type { Holder, Ledger } from './ledger.js';
import { neededBy, nextClaims, soaks, type RolloutState } from './state.js';
import type { Instant } from '../units.js';

/** Why nothing happens to a run now. */
export interface Waiting {
  /** As a person says it, after the name of the device. */
  readonly text: string;
  /** When it is over, where that is known. */
  readonly until: Instant | null;
}

/** That a wave is held back, by whom and why. */
export function heldBackText({ plan, waves }: RolloutState, wave: number): string {
  const { by, reason } = waves[wave]!.heldBack!;
  return `wave ${wave + 1} (${plan.waves[wave]!.name}) is held back by ${by}${reason === '' ? '' : `: ${reason}`}`;
}

/** Why a run is not taken on now, in words; null when it is in hand, or has ended. `nameOf` tells the name of a run of any rollout, `wall` the time by which windows open, `now` that by which some have to begin one after the other. */
export function whyWaiting(
  state: RolloutState,
  index: number,
  ledger: Ledger,
  nameOf: (holder: Holder) => string,
  wall: Instant = 0,
  now: Instant = wall,
): Waiting | null {
  const run = state.runs[index]!;
  if (run.phase === 'ended' || run.phase === 'busy' || run.phase === 'asking' || state.phase === 'planned') return null;
  const until = (text: string, at: Instant | null = null): Waiting => ({ text, until: at });
  if (state.draining) return until('waits until the service is started again');
  if (run.phase === 'armed') return until('is armed: it takes what it holds by itself, at its own hour', run.dueAt);
  if (state.phase === 'held' && !(run.phase === 'broken' && state.heldBy === 'Barrow'))
    // Why it is held stands with the rollout.
    return run.pastReturn && run.phase !== 'broken' ? null : until('waits: the rollout is held');
  if (run.phase === 'absent')
    return until(
      run.cause === 'unreachable'
        ? 'was not there; it goes on as soon as it answers, while others of the rollout are under way'
        : 'was not ready; it is asked again from time to time, while others of the rollout are under way',
    );
  if (run.phase !== 'waiting' && run.phase !== 'parked' && run.phase !== 'broken') return null;
  if (run.wave > state.wave) {
    const before = state.waves[run.wave - 1];
    // Just started, and its first wave is about to be opened.
    if (!before) return null;
    const back = state.waves.findIndex((w, at) => at > state.wave && at <= run.wave && w.heldBack !== null);
    if (back >= 0 && (back > state.wave + 1 || before.phase === 'passed' || back === run.wave))
      return until(`waits: ${heldBackText(state, back)}`);
    const name = `wave ${run.wave} (${state.plan.waves[run.wave - 1]!.name})`;
    const { gate } = state.plan.waves[run.wave - 1]!;
    if (before.phase !== 'soaking') return until(`waits for ${name}`);
    if (gate.approval && before.approvedBy === null) return until(`waits for an approval of ${name}`);
    return until(`waits for the soak of ${name}`, before.endedAt! + gate.soakMs);
  }
  if (soaks(state, index)) {
    const wave = state.waves[run.wave]!;
    const name = `wave ${run.wave + 1} (${state.plan.waves[run.wave]!.name})`;
    if (wave.phase === 'open') return until(`has reached its target, and soaks with ${name}`);
    if (wave.phase === 'soaking')
      return until(`has reached its target, and soaks with ${name}`, wave.endedAt! + state.plan.waves[run.wave]!.gate.soakMs);
  }
  const needed = run.phase === 'broken' ? null : neededBy(state, index);
  if (needed !== null) return until(`waits for ${state.plan.runs[needed]!.name}, which has to be done first`);
  const opens = opensAt(state.plan, state.plan.runs[index]!, run.stretch, wall);
  if (opens !== wall) return until(opens === null ? 'no window is left that is long enough for it' : 'waits for its window', opens);
  if (run.phase !== 'broken' && lastsBeyond(state.plan, state.plan.runs[index]!, run.stretch, wall, state.doneBy))
    return until('is not begun: it would not be back by when all is to be done', state.doneBy);
  const holder: Holder = { rollout: state.plan.id, run: state.plan.runs[index]!.id };
  const claims = nextClaims(state.plan, state, index);
  const lacking = ledger.lacksMost(claims, holder);
  if (lacking !== null) return until(lackText(lacking, state.plan.runs[index]!, holder, ledger, nameOf));
  const spaced = claims.find(({ key }) => ledger.freeFrom(key) > now);
  if (!spaced) return null;
  const where = spaced.key.startsWith('apart:') ? `at ${spaced.key.slice('apart:'.length)}` : 'on what it is handled through';
  return until(`waits: the one before it ${where} has begun only just now`, ledger.freeFrom(spaced.key));
}

/** What is said of who cannot have a claim, after the name of who wants it. */
export function lackText(
  claim: Claim,
  planned: Pick<PlannedRun, 'device' | 'under'>,
  self: Holder,
  ledger: Ledger,
  nameOf: (holder: Holder) => string,
): string {
  const others = ledger.holdersOf(claim.key).filter((h) => h.rollout !== self.rollout || h.run !== self.run);
  const names = others.slice(0, 3).map(nameOf).join(', ') + (others.length > 3 ? ` and ${others.length - 3} more` : '');
  const one = others.length === 1;
  const at = claim.key.indexOf(':');
  const on = claim.key.slice(at + 1);
  switch (claim.key.slice(0, at)) {
    case 'up':
      if (on === planned.device) return `waits for ${names}: ${one ? 'it hangs' : 'they hang'} on this device, and must not lose it now`;
      if (claim.mode === 'exclusive') return `waits for ${names}, which would lose power with it`;
      return planned.under.includes(on)
        ? `waits for ${names}, on which it hangs, to be back`
        : `waits for ${names}, which gives what it needs to come back`;
    case 'ring':
      return `waits for ${names}: one device of their ring may be down at a time`;
    case 'feeds':
      return `waits for ${names}: together they would take the last power of a device`;
    case 'radio':
      return `waits for ${names}: together they would take the last radio where one of them reaches`;
    case 'device':
      return `waits for ${names}, which has it in hand`;
    case 'store':
      return `waits for ${names}, which brings an image to the same storage`;
    case 'parent':
      return `waits for its turn: ${ledger.mostOf(claim.key)} at once on what it is handled through`;
    case 'link':
      return `waits for its turn: ${ledger.mostOf(claim.key)} at once over the link of ${on}`;
    case 'site':
      return `waits for its turn: ${ledger.mostOf(claim.key)} at once at ${on}`;
    default:
      return `waits for its turn: ${ledger.mostOf(claim.key)} at once`;
  }
}
