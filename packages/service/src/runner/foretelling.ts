import { foretell, rehearse, type Foretold, type Instant } from '@barrow/core';
import { steadyNow } from '../steady.js';
import type { ActiveRollout } from './active.js';

/** For each thousand devices what was foretold holds for so long, in milliseconds: it is played anew for nobody sooner. */
const holdsFor = 10_000;

interface Told extends Foretold {
  readonly plannedEndsAt: Instant;
}

/** Foretells the ends of rollouts under way for all who ask, each at most so often. */
export class Foretelling {
  readonly #told = new WeakMap<ActiveRollout, { readonly told: Told; readonly at: Instant; readonly seq: number }>();
  readonly #planned = new WeakMap<ActiveRollout, Instant>();

  of(active: ActiveRollout): Told {
    const { plan, state, seq } = active;
    const known = this.#told.get(active);
    const now = steadyNow();
    const fresh = known && now - known.at < holdsFor * Math.ceil(plan.runs.length / 1000);
    if (fresh && (known.seq === seq || plan.runs.length > 1000)) return known.told;
    let plannedEndsAt = this.#planned.get(active);
    if (plannedEndsAt === undefined) this.#planned.set(active, (plannedEndsAt = rehearse(plan, state.startedAt ?? now).endsAt));
    // Of one that has ended the end is known.
    const told = { ...foretell(state, now), ...(state.endedAt === null ? {} : { endsAt: state.endedAt }), plannedEndsAt };
    this.#told.set(active, { told, at: now, seq });
    return told;
  }
}
