import {
  apply,
  decide,
  eventOf,
  initialState,
  planBringing,
  whyWaiting,
  type Bringing,
  type Command,
  type RolloutEvent,
  type RolloutState,
} from '@barrow/core';
import { newId } from '../data/seal.js';
import type { Holdings } from '../runner/holdings.js';
import { steadyNow } from '../steady.js';

/** Deliveries that were asked for together, and where each of them is. */
interface Batch {
  state: RolloutState;
}

/**
 * Lets deliveries wait for their turn, by the decider and the ledger of the rollouts: while a device is written, nothing above it goes
 * down, and nobody else has it in hand. What is kept of a delivery is its row; it may be begun again at any time, so that no journal is.
 */
export class DeliveryQueue {
  readonly #batches = new Map<string, Batch>();
  /** In which each one is that has not ended. */
  readonly #of = new Map<string, Batch>();
  #stopped = false;

  constructor(
    private readonly holdings: Holdings,
    /** Begins one whose turn it is. */
    private readonly begin: (id: string) => void,
  ) {
    holdings.nameBy(({ rollout, run }) => {
      const plan = this.#batches.get(rollout)?.state.plan;
      return plan?.runs.find((r) => r.id === run)?.name ?? null;
    });
    holdings.onRelease(() => this.look());
  }

  /** Lets some wait for their turn, in their order. */
  add(all: readonly Bringing[]): void {
    if (all.length === 0) return;
    const batch: Batch = { state: initialState(planBringing(newId('q'), Date.now(), 'Barrow', all)) };
    this.#batches.set(batch.state.plan.id, batch);
    for (const { id } of all) this.#of.set(id, batch);
    this.#happen(batch, { kind: 'rollout-started', at: steadyNow(), by: 'Barrow' });
  }

  /** Takes out those that wait and are meant, as if they had never been added. */
  takeOut(meant: (id: string) => boolean): string[] {
    const out = [...this.#of].filter(([id, { state }]) => meant(id) && state.runs[state.indexOf.get(id)!]!.phase !== 'busy');
    for (const [id] of out) this.leave(id, 'taken out');
    return out.map(([id]) => id);
  }

  /** One that waits, or is under way, is left. */
  leave(id: string, reason: string): void {
    this.#end(id, { kind: 'run-skipped', at: steadyNow(), run: id, by: 'Barrow', reason });
  }

  /** One that was under way has come to its end. */
  ended(id: string, cause: string | null): void {
    const step = { at: steadyNow(), run: id, step: this.#of.get(id)?.state.plan.passages[0]!.steps[0]!.step ?? '' };
    this.#end(id, cause === null ? { kind: 'step-done', ...step } : { kind: 'step-failed', ...step, cause, detail: '' });
  }

  /** Why one waits, in words; null when it does not. */
  waits(id: string): string | null {
    const state = this.#of.get(id)?.state;
    if (!state) return null;
    const { ledger, nameOf } = this.holdings;
    return whyWaiting(state, state.indexOf.get(id)!, ledger, nameOf)?.text ?? null;
  }

  /** Begins whatever may be begun. */
  look(): void {
    for (const batch of this.#batches.values()) this.#tick(batch);
  }

  /** Begins nothing any more. */
  stop(): void {
    this.#stopped = true;
  }

  #end(id: string, event: RolloutEvent): void {
    const batch = this.#of.get(id);
    if (!batch) return;
    this.#of.delete(id);
    this.#happen(batch, event);
    // Also those of rollouts may have waited for it.
    this.holdings.letGo();
  }

  #happen(batch: Batch, event: RolloutEvent): void {
    batch.state = apply(batch.state, event);
    this.holdings.ledger.follow(batch.state, event);
  }

  #tick(batch: Batch): void {
    while (!this.#stopped && batch.state.phase !== 'ended') {
      const commands = decide(batch.state, this.holdings.ledger, steadyNow());
      for (const command of commands) this.#carryOut(batch, command);
      if (commands.length === 0) return;
    }
    if (batch.state.phase === 'ended') this.#batches.delete(batch.state.plan.id);
  }

  #carryOut(batch: Batch, command: Command): void {
    const event = eventOf(command, steadyNow());
    if (!event) return;
    this.#happen(batch, event);
    if (command.kind === 'begin-step') this.begin(command.run);
  }
}
