import type { RolloutState } from '../scheduler/state.js';
import type { Instant } from '../units.js';
import { play, usualWorld, type Played } from './play.js';

/** When a rollout comes to its end, as it stands: everything that is left takes its usual time, and nothing more fails. */
export interface Foretold {
  readonly endsAt: Instant;
  /** Gates that wait for a person, who is taken to say so at once. */
  readonly approvals: readonly number[];
  /** Why it never comes to its end; null when it does. */
  readonly stuck: string | null;
  /** A person holds it: it is taken to go on now. */
  readonly held: boolean;
  /** How it comes there. */
  readonly rest: Played;
}

/** Foretells the end of a rollout that is under way. Linear in what is left of it. */
export function foretell(state: RolloutState, now: Instant): Foretold {
  const rest = play(state.plan, { ...usualWorld, goesOn: true }, now, state);
  const { endsAt, approvals, stuck } = rest;
  return { endsAt, approvals, stuck, held: state.phase === 'held', rest };
}
