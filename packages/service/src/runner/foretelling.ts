import { foretell, rehearse, type Foretold, type Instant, type Played } from '@barrow/core';
import { steadyNow } from '../steady.js';
import type { ActiveRollout } from './active.js';

/** For each thousand devices what was foretold holds for so long, in milliseconds: it is played anew for nobody sooner. */
const holdsFor = 10_000;

interface Told extends Foretold {
  readonly plannedEndsAt: Instant;
  /** When it was foretold. */
  readonly at: Instant;
  /** As it was rehearsed, from its start on. */
  readonly rehearsed: Played;
}

/** Foretells the ends of rollouts under way for all who ask, each at most so often. */
export class Foretelling {
  readonly #told = new WeakMap<ActiveRollout, { readonly told: Told; readonly seq: number }>();
  readonly #rehearsed = new WeakMap<ActiveRollout, Played>();

  of(active: ActiveRollout): Told {
    const { plan, state, seq } = active;
    const known = this.#told.get(active);
    const now = steadyNow();
    const fresh = known && now - known.told.at < holdsFor * Math.ceil(plan.runs.length / 1000);
    if (fresh && (known.seq === seq || plan.runs.length > 1000)) return known.told;
    let rehearsed = this.#rehearsed.get(active);
    if (rehearsed === undefined) this.#rehearsed.set(active, (rehearsed = rehearse(plan, state.startedAt ?? now)));
    // Of one that has ended the end is known.
    const ended = state.endedAt === null ? {} : { endsAt: state.endedAt };
    const told: Told = { ...foretell(state, now), ...ended, plannedEndsAt: rehearsed.endsAt, at: now, rehearsed };
    this.#told.set(active, { told, seq });
    return told;
  }
}
