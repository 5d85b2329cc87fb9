import type { DeviceId } from '../units.js';
import type { MapDevice, Topology } from './topology.js';

/** What must not happen at the same time in a network, read from its map. */
export interface Guards {
  /**
   * The single points of failure of a device, itself among them: when any of these goes down, it loses its power, its only
   * way to the middle of the network, or what manages it.
   */
  readonly under: ReadonlyMap<DeviceId, readonly DeviceId[]>;
  /** The rings in which a device, or what goes dark with it, carries others; a device in none is left out. */
  readonly rings: ReadonlyMap<DeviceId, readonly string[]>;
  /** Devices of several feeds that lose one of them when a device goes down, and stay up; a device that feeds none is left out. */
  readonly feeds: ReadonlyMap<DeviceId, readonly DeviceId[]>;
  /** How many feeds a device has, of those that have several. */
  readonly feedCount: ReadonlyMap<DeviceId, number>;
}

/**
 * Reads single points of failure, rings and shared feeds from the map. `here` is the device on which the service hangs; where
 * nobody has said so, each connected part is judged from its middle: the device, or the ring of devices, without which the
 * largest rest is smallest. Links and feeds that are only suggested count where nothing surer is known. Close to
 * linear: one depth-first walk, and rounds of meetings of short lists.
 */
export function guardsOf(
  devices: readonly Pick<MapDevice, 'id' | 'parent' | 'keepsPower'>[],
  topology: Pick<Topology, 'links' | 'feeds'>,
  here: DeviceId | null = null,
): Guards {
  const ids = devices.map((d) => d.id);
  const indexOf = new Map(ids.map((id, i) => [id, i]));
  const next = neighbours(ids, indexOf, topology.links);
  const feeders = feedersOf(ids, indexOf, topology.feeds);
  const parents = devices.map((d) => (d.parent === null || d.parent === d.id ? undefined : indexOf.get(d.parent)));
  const keeps = devices.map((d) => d.keepsPower === true);
  const power = powerUnder(feeders, keeps);
  const { blocks, middles } = walk(next, here === null ? undefined : indexOf.get(here));

  const under = pathUnder(next, middles, power, parents);
  const carries: number[][] = ids.map(() => []);
  under.forEach((list, u) => list.forEach((x) => x !== u && carries[x]!.push(u)));

  const ringsOf: string[][] = ids.map(() => []);
  blocks.forEach((members, n) => {
    const inside = new Set(members);
    for (const v of members) if (!isSpare(v, inside, next)) ringsOf[v]!.push(`${n}`);
  });
  const rings = new Map<DeviceId, readonly string[]>();
  const feeds = new Map<DeviceId, readonly DeviceId[]>();
  const fed: number[][] = ids.map(() => []);
  feeders.forEach((list, u) => list.length > 1 && list.forEach((f) => fed[f]!.push(u)));
  ids.forEach((id, d) => {
    const darkened = [d, ...carries[d]!];
    const mine = new Set(darkened.flatMap((x) => ringsOf[x]!));
    if (mine.size > 0) rings.set(id, [...mine].sort());
    const dark = new Set(darkened);
    const hurt = new Set(
      darkened.flatMap((x) => (power[x]!.includes(d) && !(x === d && keeps[d]) ? fed[x]! : [])).filter((u) => !dark.has(u)),
    );
    if (hurt.size > 0) feeds.set(id, [...hurt].map((u) => ids[u]!).sort());
  });
  return {
    under: new Map(ids.map((id, u) => [id, under[u]!.map((x) => ids[x]!).sort()])),
    rings,
    feeds,
    feedCount: new Map(ids.flatMap((id, u) => (feeders[u]!.length > 1 ? [[id, feeders[u]!.length] as const] : []))),
  };
}

function neighbours(ids: readonly string[], indexOf: ReadonlyMap<string, number>, links: Topology['links']): number[][] {
  const surer = new Set(links.filter((l) => l.sure !== 'suggested').flatMap((l) => [l.a.device, l.b.device]));
  const next = ids.map(() => new Set<number>());
  for (const { a, b, sure } of links) {
    const [from, to] = [indexOf.get(a.device), indexOf.get(b.device)];
    if (from === undefined || to === undefined || from === to) continue;
    if (sure === 'suggested' && surer.has(a.device) && surer.has(b.device)) continue;
    next[from]!.add(to);
    next[to]!.add(from);
  }
  return next.map((set) => [...set]);
}

function feedersOf(ids: readonly string[], indexOf: ReadonlyMap<string, number>, feeds: Topology['feeds']): number[][] {
  const surer = new Set(feeds.filter((f) => f.sure !== 'suggested').map((f) => f.to));
  const feeders = ids.map(() => new Set<number>());
  for (const { from, to, sure } of feeds) {
    const [by, u] = [indexOf.get(from.device), indexOf.get(to)];
    if (by !== undefined && u !== undefined && by !== u && !(sure === 'suggested' && surer.has(to))) feeders[u]!.add(by);
  }
  return feeders.map((set) => [...set]);
}

/**
 * The devices whose restart takes the power of each device: what all of its feeds have in common. A circle of feeds ends where it
 * closes. A feed that keeps delivering power while it restarts takes it only when it loses its own.
 */
function powerUnder(feeders: readonly (readonly number[])[], keeps: readonly boolean[]): readonly (readonly number[])[] {
  const known: (readonly number[] | undefined)[] = feeders.map(() => undefined);
  const open = new Set<number>();
  const of = (u: number): readonly number[] => {
    const done = known[u];
    if (done) return done;
    if (open.has(u)) return [u];
    open.add(u);
    const common = feeders[u]!.map((f) => (keeps[f] ? of(f).filter((x) => x !== f) : of(f))).reduce<readonly number[] | null>(
      (a, b) => (a === null ? b : a.filter((x) => b.includes(x))),
      null,
    );
    open.delete(u);
    return (known[u] = [...new Set([u, ...(common ?? [])])]);
  };
  return feeders.map((_, u) => of(u));
}

/**
 * Greatest solution of: a device is under what takes its power, what all of its neighbours are under, and what its parent is
 * under. From the middle nothing but power is asked.
 */
function pathUnder(
  next: readonly (readonly number[])[],
  middles: readonly number[],
  power: readonly (readonly number[])[],
  parents: readonly (number | undefined)[],
): readonly (readonly number[])[] {
  const isMiddle = new Set(middles);
  /** Undefined: not reached yet, so that it says nothing. */
  const under: (readonly number[] | undefined)[] = next.map(() => undefined);
  const meet = (u: number): readonly number[] | null => {
    if (isMiddle.has(u) || next[u]!.length === 0) return [];
    let common: readonly number[] | null = null;
    for (const n of next[u]!) {
      const theirs = under[n];
      if (theirs) common = common === null ? theirs : common.filter((x) => theirs.includes(x));
      if (common?.length === 0) break;
    }
    return common;
  };
  // From the middles outwards; whoever changed is asked about by its neighbours once more.
  let round = new Set<number>([...middles, ...next.flatMap((list, u) => (list.length === 0 ? [u] : []))]);
  const children = next.map(() => [] as number[]);
  parents.forEach((p, u) => p !== undefined && children[p]!.push(u));
  for (let rounds = 0; round.size > 0 && rounds <= next.length; rounds++) {
    const after = new Set<number>();
    for (const u of round) {
      const common = meet(u);
      if (common === null) continue;
      const parent = parents[u];
      const above = parent === undefined ? [] : (under[parent] ?? power[parent]!);
      const now = [...new Set([...power[u]!, ...common, ...above])];
      const before = under[u];
      if (before && before.length === now.length && now.every((x) => before.includes(x))) continue;
      under[u] = now;
      for (const n of next[u]!) after.add(n);
      for (const c of children[u]!) after.add(c);
    }
    round = after;
  }
  return under.map((list, u) => list ?? power[u]!);
}

/** Whether others in a ring do without a device whoever else goes: its neighbours there know each other directly. */
function isSpare(v: number, inside: ReadonlySet<number>, next: readonly (readonly number[])[]): boolean {
  const mine = next[v]!.filter((n) => inside.has(n));
  if (mine.length > 4) return false;
  return mine.every((a, i) => mine.slice(i + 1).every((b) => next[a]!.includes(b)));
}

/**
 * Parts that no single removal cuts (of three devices and more), and the middle of each connected part: one device, or all of
 * such a part. After Hopcroft and Tarjan, 1973; the middle is the centroid of the tree of cuts and blocks.
 */
function walk(next: readonly (readonly number[])[], here: number | undefined): { blocks: number[][]; middles: number[] } {
  const order = next.map(() => -1);
  const low = next.map(() => 0);
  const size = next.map(() => 1);
  /** The largest rest of its part that hangs below it, were it gone; and how much all of these are together. */
  const below = next.map(() => 0);
  const cutOff = next.map(() => 0);
  const blocks: number[][] = [];
  const middles: number[] = [];
  let count = 0;
  for (let root = 0; root < next.length; root++) {
    if (order[root] !== -1) continue;
    const part: number[] = [];
    const kept: number[] = [];
    /** With the size of what hangs below the first of each, its members among them. */
    const mine: { members: number[]; below: number }[] = [];
    const stack: { v: number; from: number; at: number }[] = [];
    const enter = (v: number, from: number): void => {
      order[v] = low[v] = count++;
      part.push(v);
      kept.push(v);
      stack.push({ v, from, at: 0 });
    };
    enter(root, -1);
    while (stack.length > 0) {
      const top = stack[stack.length - 1]!;
      const { v, from } = top;
      const to = next[v]![top.at++];
      if (to !== undefined) {
        if (to === from) continue;
        if (order[to] === -1) enter(to, v);
        else low[v] = Math.min(low[v]!, order[to]!);
        continue;
      }
      stack.pop();
      if (from === -1) continue;
      low[from] = Math.min(low[from]!, low[v]!);
      size[from]! += size[v]!;
      if (low[v]! < order[from]!) continue;
      // Everything found since, and the one above it, is one block.
      below[from] = Math.max(below[from]!, size[v]!);
      cutOff[from]! += size[v]!;
      const members = [from];
      for (let member = -1; member !== v;) members.push((member = kept.pop()!));
      mine.push({ members, below: size[v]! });
    }
    blocks.push(...mine.map((b) => b.members).filter((members) => members.length > 2));
    if (here !== undefined && part.includes(here)) {
      middles.push(here);
      continue;
    }
    const restOf = (v: number): number => Math.max(below[v]!, part.length - 1 - cutOff[v]!);
    const middle = part.reduce((best, v) => (restOf(v) < restOf(best) ? v : best));
    let most = restOf(middle);
    let among = [middle];
    for (const { members, below: size } of mine) {
      const hangs = Math.max(part.length - size, ...members.slice(1).map((m) => 1 + cutOff[m]!));
      if (hangs >= most) continue;
      most = hangs;
      among = members;
    }
    middles.push(...among);
  }
  return { blocks, middles };
}
