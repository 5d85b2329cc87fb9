import type { Report } from '../api/shapes.js';
import type { Plan } from '../plan/plan.js';
import { apply, ImpossibleEvent } from '../scheduler/apply.js';
import type { RolloutEvent } from '../scheduler/events.js';
import { initialState } from '../scheduler/state.js';
import type { Instant } from '../units.js';

/** A rung that was begun with: for what, on whose word, and what came of it. */
export interface Climbed {
  /** Index into the rungs of the passage. */
  readonly rung: number;
  /** What had failed before. */
  readonly cause: string;
  readonly detail: string;
  /** Who had it taken back; null where the plan says that it is. */
  readonly by: string | null;
  readonly begunAt: Instant;
  /** null while it is being tried. */
  endedAt: Instant | null;
  /** By which cause it failed too; null: it has not. */
  failed: { readonly cause: string; readonly detail: string } | null;
  /** Why nobody knows whether what it was to do was done; null where that is known. */
  unsure: string | null;
}

/** What came of a rung that did not fail, in words. */
export const workedText = (unsure: string | null): string =>
  unsure === null ? 'it worked' : `it came back, and whether that was done nobody knows: ${unsure}`;

/** What came of a rung that is told in a report, in words. */
export function cameText({ endedAt, failed, unsure }: Report['runs'][number]['rungs'][number]): string {
  if (failed !== null) return `that failed too: ${failed.cause.what}`;
  if (endedAt === null) return 'not ended yet';
  return workedText(unsure);
}

/**
 * The rungs that each run was tried by, in their order, by its id: also those that worked, of which its state tells nothing any more.
 * Runs that none was begun with are left out. A journal that does not fold is read as far as it does.
 */
export function climbedOf(plan: Plan, events: Iterable<RolloutEvent>): ReadonlyMap<string, readonly Climbed[]> {
  const found = new Map<string, Climbed[]>();
  const failure = new Map<string, { cause: string; detail: string }>();
  const word = new Map<string, string>();
  let state = initialState(plan);
  try {
    for (const event of events) {
      state = apply(state, event);
      if (!('run' in event) || event.run === undefined) continue;
      const { rung, phase, outcome } = state.runs[state.indexOf.get(event.run)!]!;
      const list = found.get(event.run) ?? [];
      const last = list.at(-1);
      const open = last?.endedAt === null ? last : null;
      if (event.kind === 'take-back-asked') word.set(event.run, event.by);
      if (event.kind === 'run-retried') word.delete(event.run);
      const unsure = event.kind === 'step-done' ? event.facts?.['unsure'] : undefined;
      if (open && typeof unsure === 'string') open.unsure = unsure;
      if (event.kind === 'step-failed') {
        const { cause, detail } = event;
        failure.set(event.run, { cause, detail });
        if (open) Object.assign(open, { endedAt: event.at, failed: { cause, detail } });
      } else if (open && (rung === null || phase === 'ended')) {
        open.endedAt = event.at;
        if (outcome === 'failed') open.failed = { ...failure.get(event.run)! };
        word.delete(event.run);
      } else if (event.kind === 'step-begun' && rung !== null && !open) {
        const why = failure.get(event.run) ?? { cause: 'service-fault', detail: '' };
        list.push({ rung, ...why, by: word.get(event.run) ?? null, begunAt: event.at, endedAt: null, failed: null, unsure: null });
        found.set(event.run, list);
      }
    }
  } catch (error) {
    if (!(error instanceof ImpossibleEvent)) throw error;
  }
  return found;
}
