import { ImpossibleEvent, Trace, type PlayedRun, type PlayedWave } from '@barrow/core';
import type { ActiveRollout } from './active.js';
import type { Foretelling } from './foretelling.js';
import type { Journal } from './journal.js';

/** What happened in rollouts, and is foretold of them: each journal is read once, and then only what came since. */
export class Timelines {
  readonly #traces = new WeakMap<ActiveRollout, { readonly trace: Trace; seq: number }>();

  constructor(
    private readonly journal: Journal,
    private readonly foretelling: Foretelling,
  ) {}

  async of(active: ActiveRollout): Promise<{ readonly runs: readonly PlayedRun[]; readonly waves: readonly PlayedWave[] }> {
    const { plan, state } = active;
    const known = this.#traces.get(active);
    const read = known ? await this.journal.since(plan.id, known.seq) : await this.journal.of(plan.id);
    const seen = this.#traces.get(active) ?? { trace: new Trace(plan), seq: 0 };
    this.#traces.set(active, seen);
    for (const { seq, event } of read.entries) {
      if (seq <= seen.seq) continue;
      try {
        seen.trace.see(event);
      } catch (error) {
        // The rollout stopped for that entry, and says so itself: what was before it is what happened.
        if (!(error instanceof ImpossibleEvent)) throw error;
        break;
      }
      seen.seq = seq;
    }
    const told = this.foretelling.of(active);
    return seen.trace.with(state.endedAt === null ? told.rest : null, state.endedAt ?? told.at);
  }
}
