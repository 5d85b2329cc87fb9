import type { Instant, JournalEntry, RolloutEvent, StepName } from '@barrow/core';

export type Facts = Record<string, unknown>;

/** What is remembered of a step that was begun. */
export interface StepTrace {
  readonly begunAt: Instant;
  endedAt: Instant | null;
  facts: Facts;
}

/** What the steps of a run found: by leg and step. */
export type Trail = Map<string, StepTrace>;

const keyOf = (step: StepName, leg = 0): string => `${leg}/${step}`;
const legOf = (key: string): number => Number(key.slice(0, key.indexOf('/')));

/** What a step of a leg found; undefined when it was not begun. */
export const traceOf = (trail: Trail, step: StepName, leg = 0): StepTrace | undefined => trail.get(keyOf(step, leg));

/** What a step of a leg found in the last attempt that went further than its first step, and after which it was begun anew. */
export const earlierTraceOf = (trail: Trail, step: StepName, leg = 0): StepTrace | undefined => trail.get(earlier + keyOf(step, leg));

/** The trail of a run, from its part of the journal. */
export function trailOf(entries: readonly JournalEntry[], legs: number): Trail {
  const trail: Trail = new Map();
  for (const { event } of entries) follow(trail, event, legs);
  return trail;
}

/** Keeps the facts of a run's steps; one that begins anew keeps those of the legs that are behind it. `legs`: how many it has. */
function follow(trail: Trail, event: RolloutEvent, legs: number): void {
  const forgetFrom = (leg: number): void => {
    for (const key of [...trail.keys()]) if (legOf(key) >= leg) trail.delete(key);
  };
  const ofLeg = (leg: number): [string, StepTrace][] => [...trail].filter(([key]) => legOf(key) === leg);
  // Who was only looked at was not changed: what was seen before a change is kept.
  const onlyLooked = (leg: number): boolean => ofLeg(leg).length < 2;
  const setAside = (leg: number): void => {
    if (onlyLooked(leg)) return;
    const now = ofLeg(leg);
    for (const key of [...trail.keys()]) if (key.startsWith(`${earlier}${leg}/`)) trail.delete(key);
    for (const [key, trace] of now) trail.set(earlier + key, trace);
  };
  /** What an earlier attempt found counts again. */
  const takeUp = (leg: number): void => {
    for (const [key, trace] of [...trail])
      if (key.startsWith(`${earlier}${leg}/`)) {
        trail.delete(key);
        trail.set(key.slice(earlier.length), trace);
      }
  };
  switch (event.kind) {
    case 'run-retried':
      trail.set(anew, { begunAt: event.at, endedAt: null, facts: {} });
      break;
    case 'take-back-asked':
      // Of an earlier attempt to take it back nothing counts any more; of the attempt that changed it, all that was seen before.
      forgetFrom(legs);
      for (let leg = 0; leg < legs; leg++) if (onlyLooked(leg)) takeUp(leg);
      break;
    case 'step-begun': {
      // The first step after a retry is of the first leg that was not verified.
      if (trail.delete(anew)) {
        for (let leg = event.leg ?? 0; leg < legs; leg++) setAside(leg);
        forgetFrom(event.leg ?? 0);
      }
      const key = keyOf(event.step, event.leg);
      // Begun again after a restart of the service: when it was first begun is what counts.
      if (!trail.has(key)) trail.set(key, { begunAt: event.at, endedAt: null, facts: {} });
      break;
    }
    case 'step-done':
    case 'step-failed': {
      const trace = traceOf(trail, event.step, event.leg);
      if (trace) {
        trace.endedAt = event.at;
        trace.facts = event.facts ?? {};
      }
      break;
    }
    case 'leg-proven': {
      // What the earlier attempt found counts again, and its checks are those that were made now.
      const begunAt = traceOf(trail, 'preflight', event.leg)?.begunAt ?? event.at;
      takeUp(event.leg);
      trail.set(keyOf('checks', event.leg), { begunAt, endedAt: event.at, facts: event.facts ?? {} });
      break;
    }
    case 'reconciled': {
      const trace = event.truth === 'done' ? traceOf(trail, event.step, event.leg) : undefined;
      if (trace) trace.endedAt = event.at;
      break;
    }
    default:
      break;
  }
}

/** Before what an earlier attempt found. */
const earlier = 'earlier ';

/** Stands in a trail between a retry and the first step after it. */
const anew = '-1/anew';

/** The trails of the runs of a rollout that have not ended, each read from the journal when it is first asked for. */
export class Trails {
  readonly #known = new Map<string, Trail>();
  /** Being read, with what happens meanwhile. */
  readonly #reading = new Map<string, { readonly trail: Promise<Trail>; readonly later: JournalEntry[] }>();

  constructor(
    private readonly legsOf: (run: string) => number,
    private readonly read: (run: string) => Promise<readonly JournalEntry[]>,
  ) {}

  of(run: string): Promise<Trail> {
    const known = this.#known.get(run);
    if (known) return Promise.resolve(known);
    const reading = this.#reading.get(run);
    if (reading) return reading.trail;
    const later: JournalEntry[] = [];
    const trail = this.read(run)
      .then((entries) => {
        const last = entries.at(-1)?.seq ?? 0;
        const made = trailOf([...entries, ...later.filter((e) => e.seq > last)], this.legsOf(run));
        this.#known.set(run, made);
        return made;
      })
      .finally(() => this.#reading.delete(run));
    this.#reading.set(run, { trail, later });
    return trail;
  }

  /** Nobody asks for it any more. */
  forget(run: string): void {
    this.#known.delete(run);
  }

  /** Takes note of what happened to a run. `over`: it has ended with it, and is not asked for any more. */
  follow(run: string, entry: JournalEntry, over: boolean): void {
    const known = this.#known.get(run);
    if (known) follow(known, entry.event, this.legsOf(run));
    this.#reading.get(run)?.later.push(entry);
    if (over) this.#known.delete(run);
  }
}
