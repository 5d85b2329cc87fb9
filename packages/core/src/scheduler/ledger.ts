import { claimsOf, isGuard, lastsBeyond, opensAt, passageOf, type Claim, type Plan } from '../plan/plan.js';
import { indexAfter, spanAt } from '../plan/windows.js';
import type { Instant, Key, Ms, RolloutId } from '../units.js';
import type { RolloutEvent } from './events.js';
import { neededBy, nextClaims, soaks, type RolloutState } from './state.js';

/** Who holds or waits: a run of a rollout, or something else that touches a device. */
export interface Holder {
  readonly rollout: RolloutId;
  readonly run: string;
}

interface Named {
  readonly holder: Holder;
  readonly name: string;
}

interface Held {
  readonly by: Map<string, Holder>;
  exclusive: boolean;
}

/** A run that may enter its next stretch as soon as its claims can be had. */
interface Candidate extends Holder {
  /** As `nameOf` makes it. */
  readonly name: string;
  readonly index: number;
  /** Its place in the order: who has begun goes before who has not, and the earlier in the plan before the later. */
  readonly ticket: number;
}

/** Candidates that take the same places: while one of these has no room, none of them is looked at. */
export interface Bucket {
  readonly room: readonly Key[];
  /** Those of what they claim that have to be taken one after the other. */
  readonly spaced: readonly Key[];
  readonly queue: Candidate[];
}

const windowKey = (rollout: RolloutId, name: string): Key => `window:${rollout}/${name}`;
/** What nobody can have any more who would not be back by when all is to be done. */
const doneByKey = (rollout: RolloutId): Key => `window:${rollout}`;

const nameOf = (holder: Holder): string => `${holder.rollout}/${holder.run}`;

/**
 * Who holds what, across all rollouts, and who waits for what. It follows the events of every rollout that is under
 * way; what it knows is a fold of them, and can be made anew at any time. One decider owns it.
 */
export class Ledger {
  readonly #held = new Map<Key, Held>();
  #releases = 0;
  #looks = 0;
  /** Counts what may let somebody in: something let go, somebody new in a queue, a limit that changed. */
  #changes = 0;
  /** Up to which of these changes the queues of a rollout were looked through. */
  readonly #looked = new Map<RolloutId, number>();
  readonly #claims = new Map<string, readonly Claim[]>();
  readonly #capacity = new Map<Key, Map<RolloutId, number>>();
  /** The least of each key's numbers in `#capacity`. */
  readonly #most = new Map<Key, number>();
  readonly #spacing = new Map<Key, Map<RolloutId, Ms>>();
  /** When a key that has to be taken one after the other was taken last. */
  readonly #taken = new Map<Key, Instant>();
  /** When the next such key may be taken for which somebody of a rollout waits. */
  readonly #mayBeTaken = new Map<RolloutId, Instant>();
  readonly #buckets = new Map<RolloutId, Map<string, Bucket>>();
  /** Where a candidate stands: in a bucket, or filed under the key that it lacks. */
  readonly #place = new Map<string, { readonly candidate: Candidate; bucket: Bucket; blockedBy: Key | null }>();
  readonly #blocked = new Map<Key, Set<string>>();
  readonly #holders = new Map<RolloutId, Named[]>();
  /** How each window stood when it was last looked at. */
  readonly #windows = new Map<Key, number>();

  /** Takes a rollout under its care, as it stands. */
  add(state: RolloutState): void {
    this.remove(state.plan.id);
    const { id, capacity, spacing = {} } = state.plan;
    for (const [from, into] of [
      [capacity, this.#capacity],
      [spacing, this.#spacing],
    ] as const)
      for (const [key, number] of Object.entries(from)) {
        const all = into.get(key);
        if (all) all.set(id, number);
        else into.set(key, new Map([[id, number]]));
        if (into === this.#capacity) this.#setMost(key);
      }
    this.#buckets.set(id, new Map());
    state.runs.forEach((run, index) => {
      this.#settle(state, index);
      if (run.entered !== null) this.#take(lastClaims(state, index, run.entered), run.enteredAt!);
    });
  }

  /** Forgets a rollout: what its runs hold is free, and its limits hold nobody any more. */
  remove(rollout: RolloutId): void {
    for (const bucket of this.#buckets.get(rollout)?.values() ?? []) for (const candidate of [...bucket.queue]) this.#drop(candidate.name);
    for (const [name, { candidate }] of this.#place) if (candidate.rollout === rollout) this.#drop(name);
    for (const name of [...this.#claims.keys()]) if (name.startsWith(`${rollout}/`)) this.release(name);
    this.#buckets.delete(rollout);
    this.#looked.delete(rollout);
    this.#holders.delete(rollout);
    this.#mayBeTaken.delete(rollout);
    this.#changes++;
    for (const of of [this.#capacity, this.#spacing])
      for (const [key, all] of of) {
        all.delete(rollout);
        if (all.size === 0) of.delete(key);
        if (of === this.#capacity) this.#setMost(key);
      }
  }

  #setMost(key: Key): void {
    const all = this.#capacity.get(key);
    if (all) this.#most.set(key, Math.min(...all.values()));
    else this.#most.delete(key);
  }

  /** Takes note of what an event changed; call it after `apply`. */
  follow(state: RolloutState, event: RolloutEvent): void {
    if (state.phase === 'planned') return;
    if (!this.#buckets.has(state.plan.id)) return state.phase === 'ended' ? undefined : this.add(state);
    if (event.kind === 'wave-opened' || event.kind === 'soak-ended') state.runs.forEach((_, index) => this.#settle(state, index));
    else if (event.kind === 'rollout-ended') this.remove(state.plan.id);
    else {
      const index = state.indexOf.get((event as { readonly run?: string }).run ?? '');
      if (index === undefined) return;
      this.#settle(state, index);
      if (event.kind === 'stretch-entered') this.#take(event.claims, event.at);
      // Who needed it may begin now; or may not any more, when it is retried.
      if (state.runs[index]!.met || event.kind === 'run-retried') this.#settleBelow(state, index);
    }
  }

  #settleBelow(state: RolloutState, index: number): void {
    for (const other of state.dependants.get(index) ?? []) {
      this.#settle(state, other);
      this.#settleBelow(state, other);
    }
  }

  /** Brings the holdings and the place of one run to what its state says. */
  #settle(state: RolloutState, index: number): void {
    const run = state.runs[index]!;
    const planned = state.plan.runs[index]!;
    const { holder, name } = this.#holderOf(state.plan, index);
    if (run.claims) this.hold(holder, run.claims);
    else this.release(name);
    const isOpen = run.wave === state.wave && state.waves[state.wave]?.phase === 'open';
    const isParked = run.phase === 'parked' && (!soaks(state, index) || state.waves[run.wave]?.phase === 'proving');
    const waits = (isParked || (run.phase === 'waiting' && isOpen)) && neededBy(state, index) === null;
    if (!waits) return this.#drop(name);
    if (this.#place.has(name)) return;
    const buckets = this.#buckets.get(state.plan.id)!;
    const { spacing } = state.plan;
    const spaced = spacing
      ? nextClaims(state.plan, state, index)
          .map((c) => c.key)
          .filter((key) => spacing[key] !== undefined)
      : [];
    const room = passageOf(state.plan, planned).stretches[run.stretch]!.byHand ? [] : planned.room;
    const key = [...room, ...spaced].join(' ');
    let bucket = buckets.get(key);
    if (!bucket) buckets.set(key, (bucket = { room, spaced, queue: [] }));
    const ticket = run.phase === 'parked' ? index - state.runs.length : index;
    const candidate: Candidate = { ...holder, name, index, ticket };
    this.#place.set(name, { candidate, bucket, blockedBy: null });
    this.#changes++;
    queueUp(bucket.queue, candidate);
  }

  /** Names are long, and asked for with every event: each is made once. */
  #holderOf({ id, runs }: Plan, index: number): Named {
    let all = this.#holders.get(id);
    if (!all) this.#holders.set(id, (all = []));
    const known = all[index];
    if (known) return known;
    const holder = { rollout: id, run: runs[index]!.id };
    return (all[index] = { holder, name: nameOf(holder) });
  }

  #drop(name: string): void {
    const place = this.#place.get(name);
    if (!place) return;
    this.#place.delete(name);
    if (place.blockedBy !== null) this.#blocked.get(place.blockedBy)?.delete(name);
    else leave(place.bucket.queue, place.candidate);
  }

  /** What a holder holds from now on, instead of what it held. */
  hold(holder: Holder, claims: readonly Claim[]): void {
    const name = nameOf(holder);
    const before = this.#claims.get(name);
    if (before && before.length === claims.length && before.every((c, i) => c.key === claims[i]!.key && c.mode === claims[i]!.mode)) return;
    this.release(name);
    this.#claims.set(name, claims);
    for (const { key, mode } of claims) {
      let held = this.#held.get(key);
      if (!held) this.#held.set(key, (held = { by: new Map(), exclusive: false }));
      held.by.set(name, holder);
      if (mode === 'exclusive') held.exclusive = true;
    }
  }

  /** What a holder holds that has just been let in: who has to begin apart from it counts from now. */
  take(holder: Holder, claims: readonly Claim[], now: Instant): void {
    this.hold(holder, claims);
    this.#take(claims, now);
  }

  release(holder: Holder | string): void {
    const name = typeof holder === 'string' ? holder : nameOf(holder);
    const claims = this.#claims.get(name);
    if (!claims) return;
    this.#claims.delete(name);
    this.#releases++;
    this.#changes++;
    for (const { key } of claims) {
      const held = this.#held.get(key);
      // Named twice, it was let go already.
      if (!held?.by.delete(name)) continue;
      if (held.by.size === 0) this.#held.delete(key);
      this.#lookAgain(key);
    }
  }

  /** How many of those who wait were looked at so far: what it costs to let somebody in. */
  get looks(): number {
    return this.#looks;
  }

  /** How often somebody has let go what it held: when it is as before, nobody who waits need be looked at. */
  get releases(): number {
    return this.#releases;
  }

  /**
   * Looks at the windows of a rollout: who waits for one that has opened stands in its queue again.
   *
   * @returns when the next one opens for which somebody waits, and the windows that will not open again
   */
  lookAtWindows({ plan }: RolloutState, now: Instant): { readonly next: Instant | null; readonly over: readonly string[] } {
    let next: Instant | null = null;
    const over: string[] = [];
    for (const [name, { spans }] of Object.entries(plan.windows ?? {})) {
      const key = windowKey(plan.id, name);
      const open = spanAt(spans, now) !== null;
      const at = indexAfter(spans, now);
      const stands = 2 * at + (open ? 1 : 0);
      if (this.#windows.get(key) !== stands) {
        this.#windows.set(key, stands);
        this.#changes++;
        this.#lookAgain(key);
      }
      if (!this.#blocked.get(key)?.size) continue;
      const later = spans[open ? at + 1 : at]?.[0];
      if (later === undefined) over.push(name);
      else next = Math.min(next ?? Infinity, later);
    }
    return { next, over };
  }

  /** Whether somebody of a rollout waits who would not be back by when it is to be done; a person's word lets them go on. */
  isTooLate({ plan, doneBy }: RolloutState): boolean {
    const key = doneByKey(plan.id);
    if (!this.#blocked.get(key)?.size) return false;
    if (doneBy !== null) return true;
    this.#changes++;
    this.#lookAgain(key);
    return false;
  }

  /** Who waited for a key stands in its queue again. */
  #lookAgain(key: Key): void {
    const names = this.#blocked.get(key);
    if (!names) return;
    this.#blocked.delete(key);
    for (const name of names) {
      const place = this.#place.get(name)!;
      place.blockedBy = null;
      queueUp(place.bucket.queue, place.candidate);
    }
  }

  /** Takes note of when keys were taken that have to be taken one after the other. */
  #take(claims: readonly Claim[], at: Instant): void {
    for (const { key } of claims) if (this.#spacing.has(key)) this.#taken.set(key, Math.max(at, this.#taken.get(key) ?? at));
  }

  /** From when on a key may be taken, as far apart from the last time as any rollout under way says. */
  freeFrom(key: Key): Instant {
    const all = this.#spacing.get(key);
    const taken = this.#taken.get(key);
    return all && taken !== undefined ? taken + Math.max(...all.values()) : -Infinity;
  }

  /** When a rollout may go on with those who wait only for others to have begun long enough ago; null when nobody does. */
  mayBeTaken(rollout: RolloutId): Instant | null {
    return this.#mayBeTaken.get(rollout) ?? null;
  }

  /** The most that may share a key: the least that any rollout under way says. */
  mostOf(key: Key): number {
    return this.#most.get(key) ?? Infinity;
  }

  /** Whether somebody could take a claim, what it holds itself left out. */
  admits({ key, mode }: Claim, name: string): boolean {
    const held = this.#held.get(key);
    if (!held) return true;
    const others = held.by.size - (held.by.has(name) ? 1 : 0);
    if (others === 0) return true;
    return mode === 'shared' && !held.exclusive && others < this.mostOf(key);
  }

  /** Whether there is a place under a limit, as for a shared claim. */
  #hasRoom(key: Key, name: string): boolean {
    const held = this.#held.get(key);
    if (!held || held.by.size === 0) return true;
    if (!held.exclusive && held.by.size < this.mostOf(key)) return true;
    return this.admits({ key, mode: 'shared' }, name);
  }

  /** The first claim that cannot be had now; null when all can. */
  lacks(claims: readonly Claim[], holder: Holder): Claim | null {
    const name = nameOf(holder);
    return claims.find((claim) => !this.admits(claim, name)) ?? null;
  }

  /** Of the claims that cannot be had now the one that tells most: a guard before a place under a limit. */
  lacksMost(claims: readonly Claim[], holder: Holder): Claim | null {
    const name = nameOf(holder);
    const lacking = claims.filter((claim) => !this.admits(claim, name));
    return lacking.find(isGuard) ?? lacking[0] ?? null;
  }

  /** Who holds a key. */
  holdersOf(key: Key): readonly Holder[] {
    return [...(this.#held.get(key)?.by.values() ?? [])];
  }

  /**
   * Gives entry to those who may begin and whose claims can all be had, in their order; they hold them from then on. Who
   * lacks a guard is looked at again when it is free; who lacks room, when there is room for the first of its queue.
   * Those in `left` are left out.
   *
   * @param wall by the clock on the wall, by which windows open
   * @param now by the clock of waits, by which some have to begin one after the other
   */
  *enter(
    state: RolloutState,
    left: ReadonlySet<number> = new Set(),
    wall: Instant = 0,
    now: Instant = wall,
  ): Generator<{ readonly index: number; readonly claims: readonly Claim[] }> {
    // Nobody gets in by what others took.
    const opens = this.#mayBeTaken.get(state.plan.id) ?? Infinity;
    if (this.#looked.get(state.plan.id) === this.#changes && now < opens) return;
    const upTo = this.#changes;
    this.#mayBeTaken.delete(state.plan.id);
    // By their tickets, whichever queue they stand in: no site goes on before another because it was filed first.
    const open: Head[] = [];
    for (const bucket of this.#buckets.get(state.plan.id)?.values() ?? []) stand(open, { bucket, at: 0, kept: 0 });
    for (let head = open.pop(); head; head = open.pop()) {
      const { room, spaced, queue } = head.bucket;
      const candidate = queue[head.at]!;
      this.#looks++;
      const { name } = candidate;
      const run = state.plan.runs[candidate.index]!;
      let lacks: Key | null = null;
      let isFull = false;
      if (!left.has(candidate.index)) {
        const from = spaced.length === 0 ? -Infinity : Math.max(...spaced.map((key) => this.freeFrom(key)));
        const { stretch } = state.runs[candidate.index]!;
        if (opensAt(state.plan, run, stretch, wall) !== wall) lacks = windowKey(state.plan.id, run.window!);
        else if (lastsBeyond(state.plan, run, stretch, wall, state.doneBy)) lacks = doneByKey(state.plan.id);
        else if (!room.every((key) => this.#hasRoom(key, name))) isFull = true;
        else if (now < from) {
          this.#mayBeTaken.set(state.plan.id, Math.min(from, this.#mayBeTaken.get(state.plan.id) ?? from));
          isFull = true;
        } else {
          const claims = this.#claims.get(name) ?? nextClaims(state.plan, state, candidate.index);
          lacks = this.lacks(claims, candidate)?.key ?? null;
          if (lacks === null) {
            this.take(candidate, claims, now);
            yield { index: candidate.index, claims };
          }
        }
      }
      if (!isFull) {
        // Who is filed elsewhere leaves the queue at the end: ten thousand may wait for one window.
        if (lacks === null) queue[head.kept++] = candidate;
        else this.#file(name, lacks);
        head.at++;
        if (head.at < queue.length) {
          stand(open, head);
          continue;
        }
      }
      if (head.kept < head.at) queue.splice(head.kept, head.at - head.kept);
    }
    this.#looked.set(state.plan.id, upTo);
  }

  /** Not in its queue any more, until what it waits for is free. */
  #file(name: string, key: Key): void {
    this.#place.get(name)!.blockedBy = key;
    const waiting = this.#blocked.get(key);
    if (waiting) waiting.add(name);
    else this.#blocked.set(key, new Set([name]));
  }
}

/** What a run claimed when it entered a stretch last. */
function lastClaims(state: RolloutState, index: number, entered: number): readonly Claim[] {
  const planned = state.plan.runs[index]!;
  return claimsOf(state.plan, planned, passageOf(state.plan, planned).stretches[entered]!);
}

/** Where a ticket stands or would stand in a queue, which is in order. */
function placeIn(queue: readonly Candidate[], ticket: number): number {
  let low = 0;
  let high = queue.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (queue[middle]!.ticket < ticket) low = middle + 1;
    else high = middle;
  }
  return low;
}

function queueUp(queue: Candidate[], candidate: Candidate): void {
  queue.splice(placeIn(queue, candidate.ticket), 0, candidate);
}

/** Where one stands that goes through a queue: at whom, and how many before stay in it. */
interface Head {
  readonly bucket: Bucket;
  at: number;
  kept: number;
}

/** Puts who goes through a queue among the others, the one whose turn is next last. */
function stand(open: Head[], head: Head): void {
  const candidate = head.bucket.queue[head.at];
  if (!candidate) return;
  let low = 0;
  let high = open.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    const { bucket, at } = open[middle]!;
    if (bucket.queue[at]!.ticket > candidate.ticket) low = middle + 1;
    else high = middle;
  }
  open.splice(low, 0, head);
}

function leave(queue: Candidate[], candidate: Candidate): void {
  const at = placeIn(queue, candidate.ticket);
  if (queue[at] === candidate) queue.splice(at, 1);
}
