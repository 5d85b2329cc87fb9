import { claimsOf, passageOf, type Plan } from '../plan/plan.js';
import type { DeviceId, Instant, Key, Ms, RunId } from '../units.js';
import type { Played } from './play.js';
import type { PlayedPart, PlayedRun } from './watch.js';

/** Work on one device that had to be done before the next of the chain could be entered. */
export interface ChainLink {
  readonly run: RunId;
  readonly name: string;
  readonly wave: number;
  readonly part: string;
  readonly from: Instant;
  /** When the next of the chain was let in, or all was over. */
  readonly until: Instant;
  /** Why it was not entered at once; null when it was. */
  readonly waited: string | null;
}

/**
 * What makes a played rollout as long as it is: from its end back, each time to whose doing let the next begin. Between two
 * links that do not meet lies a soak or a wait for a moment. First to last; empty when nothing was played.
 */
export function chainOf(played: Played): ChainLink[] {
  const byRun = new Map(played.runs.map((run) => [run.run, run]));
  const last = played.runs.reduce<PlayedRun | null>(
    (best, run) => (run.parts.length > 0 && run.endsAt > (best?.endsAt ?? -1) ? run : best),
    null,
  );
  if (!last) return [];
  const links: ChainLink[] = [];
  let run = last;
  let at = run.parts.length - 1;
  let until = run.endsAt;
  for (;;) {
    const part = run.parts[at]!;
    links.push({ run: run.run, name: run.name, wave: run.wave, part: part.name, from: part.from, until, waited: part.waited });
    const before = part.after === null ? undefined : byRun.get(part.after);
    // What let it in lies before it, or at the latest ended in the moment in which it was entered.
    const found = before ? before.parts.findLastIndex((p) => p.from < part.from) : -1;
    if (found < 0) break;
    run = before!;
    at = found;
    until = Math.min(run.parts[found]!.until, part.from);
  }
  return links.reverse();
}

/** Those that follow each other for one reason, or are one device, told together. */
export interface ChainGroup {
  readonly names: readonly string[];
  /** Of one device: the stretches of it. */
  readonly parts: readonly string[];
  readonly from: Instant;
  readonly until: Instant;
  readonly waited: string | null;
}

/** The chain as it is told: a device whose stretches follow each other is one, and so are all that wait for one reason. */
export function groupsOf(chain: readonly ChainLink[]): ChainGroup[] {
  const groups: { names: string[]; parts: string[]; from: Instant; until: Instant; waited: string | null }[] = [];
  for (const { name, part, from, until, waited } of chain) {
    const group = groups.at(-1);
    const isAlike = waited !== null && group?.waited === waited && from === group.until;
    // Who waited for the same reason goes on by itself: it is still the same wait that decides.
    const goesOn = waited === null && group !== undefined && group.names.at(-1) === name && from === group.until;
    if (group && (isAlike || goesOn)) {
      if (group.names.at(-1) !== name) group.names.push(name);
      group.parts.push(part);
      group.until = until;
    } else groups.push({ names: [name], parts: [part], from, until, waited });
  }
  return groups;
}

/**
 * The least that the same work could take under the limits of the plan: of each wave the longest device, and what has to share one
 * place, in whatever order; who goes down only after what hangs on it was done, as it was played, after all of that; its soak; and
 * what is done after that. Windows and persons are left out of it.
 */
export function leastOf(plan: Plan, played: Played): Ms {
  const byRun = new Map(plan.runs.map((run) => [run.id, run]));
  let total = 0;
  const byWave = plan.waves.map((): PlayedRun[] => []);
  for (const run of played.runs) byWave[run.wave]!.push(run);
  plan.waves.forEach(({ gate }, wave) => {
    const runs = byWave[wave]!;
    if (runs.length === 0) return;
    total += gate.soakMs;
    for (const isAfter of [false, true]) {
      let longest = 0;
      const shared = new Map<Key, number>();
      const most = new Map<Key, number>();
      const alone = new Map<Key, number>();
      const limitedBy = new Map<Key, Map<Key, Ms>>();
      for (const { run: id, parts } of runs) {
        const run = byRun.get(id)!;
        const passage = passageOf(plan, run);
        let whole = 0;
        for (const part of parts) {
          const stretch = passage.stretches[part.stretch]!;
          if ((stretch.afterSoak === true) !== isAfter) continue;
          const takes = workOf(part, passage.steps.slice(stretch.from, stretch.to));
          whole += takes;
          const claims = claimsOf(plan, run, stretch);
          const limited = claims.filter(({ key, mode }) => mode === 'shared' && plan.capacity[key] !== undefined);
          for (const { key, mode } of claims)
            if (mode === 'exclusive') alone.set(key, (alone.get(key) ?? 0) + takes);
            else {
              shared.set(key, (shared.get(key) ?? 0) + takes);
              most.set(key, Math.max(most.get(key) ?? 0, takes));
              if (plan.capacity[key] !== undefined) continue;
              // While who is alone is down, those that share it with one limit do not go on either.
              for (const of of limited) {
                const both = limitedBy.get(key) ?? new Map<Key, Ms>();
                limitedBy.set(key, both.set(of.key, (both.get(of.key) ?? 0) + takes));
              }
            }
        }
        longest = Math.max(longest, whole);
      }
      for (const key of new Set([...shared.keys(), ...alone.keys()])) {
        const places = plan.capacity[key];
        const together = Math.max(
          most.get(key) ?? 0,
          places === undefined ? 0 : (shared.get(key) ?? 0) / places,
          ...[...(limitedBy.get(key) ?? [])].map(([of, work]) => work / plan.capacity[of]!),
        );
        longest = Math.max(longest, Math.ceil(together) + (alone.get(key) ?? 0));
      }
      total += isAfter ? longest : Math.max(longest, trunksLast(plan, runs));
    }
  });
  return total;
}

/** The least that leaves before their trunk could take: all of them under one limit, and then what has the trunk go down. */
function trunksLast(plan: Plan, runs: readonly PlayedRun[]): Ms {
  const byRun = new Map(plan.runs.map((run) => [run.id, run]));
  /** When each goes down, as it was played, and for how long it is in hand then. */
  const trunks = new Map<DeviceId, { readonly from: Instant; readonly takes: Ms }>();
  for (const { run: id, parts } of runs) {
    const run = byRun.get(id)!;
    const { steps, stretches } = passageOf(plan, run);
    const stepsIn = (part: PlayedPart) => steps.slice(stretches[part.stretch]!.from, stretches[part.stretch]!.to);
    const down = parts.filter((part) => stepsIn(part).some((s) => s.down)).at(-1);
    if (down) trunks.set(run.device, { from: down.from, takes: workOf(down, stepsIn(down)) });
  }
  const before = new Map<DeviceId, Map<Key, Ms>>();
  for (const { run: id, parts } of runs) {
    const run = byRun.get(id)!;
    const { steps, stretches } = passageOf(plan, run);
    const own = parts.filter((part) => stretches[part.stretch]!.afterSoak !== true);
    const ended = own.at(-1)?.until ?? Infinity;
    const above = run.under.filter((device) => device !== run.device && (trunks.get(device)?.from ?? -1) >= ended);
    if (above.length === 0) continue;
    for (const part of own) {
      const stretch = stretches[part.stretch]!;
      const takes = workOf(part, steps.slice(stretch.from, stretch.to));
      for (const { key } of claimsOf(plan, run, stretch)) {
        if (plan.capacity[key] === undefined) continue;
        for (const device of above) {
          const work = before.get(device) ?? new Map<Key, Ms>();
          before.set(device, work.set(key, (work.get(key) ?? 0) + takes));
        }
      }
    }
  }
  const least = [...before].flatMap(([device, work]) => [...work].map(([key, ms]) => ms / plan.capacity[key]! + trunks.get(device)!.takes));
  return Math.ceil(least.reduce((most, ms) => Math.max(most, ms), 0));
}

/** How long the steps of a stretch take; what one waits in it for an hour of its own is no work. */
const workOf = (part: PlayedPart, steps: readonly { readonly typicalMs: Ms }[]): Ms =>
  Math.min(
    part.until - part.from,
    steps.reduce((sum, step) => sum + step.typicalMs, 0),
  );
