import type { DeviceId, Kind } from '../units.js';

/** By what those are divided into waves that no wave was named for: a wave for each, or so many hundredths of them in turn. */
export type Division = 'site' | 'kind' | 'family' | readonly number[];

/** A wave that a person named, with those who go in it. */
export interface NamedWave {
  readonly name: string;
  readonly devices: readonly DeviceId[];
}

/** What waves are made of. */
export interface Divisible {
  readonly device: DeviceId;
  readonly name: string;
  readonly site: string;
  readonly family: string;
  readonly kind?: Kind;
  readonly needs?: readonly { readonly device: DeviceId }[];
}

export interface Divided<T> {
  /** In their order; none is empty. */
  readonly waves: readonly { readonly name: string; readonly members: readonly T[] }[];
  /** Who goes earlier than asked, because another needs it. */
  readonly moved: readonly { readonly who: T; readonly for: T; readonly into: string }[];
}

/** What hangs on least goes first, and what carries most goes last. */
const kindOrder: readonly Kind[] = [
  'handset',
  'phone',
  'camera',
  'access-point',
  'power-strip',
  'other',
  'base-station',
  'recorder',
  'console-server',
  'controller',
  'switch',
  'router',
];

/**
 * Divides devices into waves: those that a person named, in their order; before the others one of each family in turn, until `first` are
 * chosen; then the others, at once or by a division. What one needs never goes later than itself.
 *
 * @param ordered in the order in which they go within a wave
 * @param first how many go first, or which ones
 */
export function divide<T extends Divisible>(
  ordered: readonly T[],
  {
    named = [],
    first,
    by = null,
  }: { readonly named?: readonly NamedWave[]; readonly first: number | readonly DeviceId[]; readonly by?: Division | null },
): Divided<T> {
  const waves: { name: string; members: T[] }[] = named.map(({ name }) => ({ name, members: [] }));
  const waveOf = new Map<T, number>();
  const byDevice = new Map(ordered.map((one) => [one.device, one]));
  named.forEach(({ devices }, wave) => {
    for (const device of devices) {
      const one = byDevice.get(device);
      if (one) waveOf.set(one, wave);
    }
  });
  const into = (name: string, members: readonly T[]): void => {
    if (members.length === 0) return;
    // A person may have given that name already.
    const taken = waves.some((w) => w.name === name);
    waves.push({ name: taken ? `${name} of the others` : name, members: [] });
    for (const one of members) waveOf.set(one, waves.length - 1);
  };
  const left = (): T[] => ordered.filter((one) => !waveOf.has(one));
  const pioneers = typeof first === 'number' ? oneOfEach(left(), first) : thoseNamed(left(), first);
  if (pioneers.length < left().length) into('first', pioneers);
  const rest = left();
  if (by === null) into(waves.length > 0 ? 'rest' : 'all', rest);
  else if (typeof by !== 'string') {
    let from = 0;
    by.forEach((share, at) => {
      const to =
        at === by.length - 1 && sum(by) >= 100 ? rest.length : Math.min(rest.length, from + Math.ceil((rest.length * share) / 100));
      into(`to ${sum(by.slice(0, at + 1))} %`, rest.slice(from, to));
      from = to;
    });
    into('rest', rest.slice(from));
  } else {
    const keyOf = (one: T): string => (by === 'kind' ? (one.kind ?? 'other') : one[by]);
    const groups = grouped(rest, keyOf);
    const keys = [...groups.keys()].sort(
      by === 'kind' ? (a, b) => kindOrder.indexOf(a as Kind) - kindOrder.indexOf(b as Kind) : (a, b) => a.localeCompare(b),
    );
    for (const key of keys) into(key, groups.get(key)!);
  }
  const moved = needed(ordered, waveOf, byDevice, (wave) => waves[wave]!.name);
  for (const one of ordered) waves[waveOf.get(one)!]!.members.push(one);
  return { waves: waves.filter((w) => w.members.length > 0), moved };
}

function grouped<T>(list: readonly T[], keyOf: (one: T) => string): Map<string, T[]> {
  const groups = new Map<string, T[]>();
  for (const one of list) {
    const group = groups.get(keyOf(one));
    if (group) group.push(one);
    else groups.set(keyOf(one), [one]);
  }
  return groups;
}

const sum = (numbers: readonly number[]): number => numbers.reduce((a, b) => a + b, 0);

/** One of each family in turn, until so many are chosen; what they need of the others is among them. */
function oneOfEach<T extends Divisible>(ordered: readonly T[], most: number): T[] {
  const chosen = new Set<T>();
  const families = [...grouped(ordered, (one) => one.family).values()];
  for (let round = 0; chosen.size < Math.min(most, ordered.length); round++)
    for (const members of families) {
      const member = members[round];
      if (member && chosen.size < most) chosen.add(member);
    }
  return withNeeded(ordered, chosen);
}

function thoseNamed<T extends Divisible>(ordered: readonly T[], devices: readonly DeviceId[]): T[] {
  const names = new Set(devices);
  return withNeeded(ordered, new Set(ordered.filter((one) => names.has(one.device))));
}

function withNeeded<T extends Divisible>(ordered: readonly T[], chosen: Set<T>): T[] {
  const byDevice = new Map(ordered.map((one) => [one.device, one]));
  for (const one of chosen)
    for (const { device } of one.needs ?? []) {
      const other = byDevice.get(device);
      if (other) chosen.add(other);
    }
  return [...chosen];
}

/** What the choice of pilot devices looks at. */
export interface PilotCandidate {
  readonly device: DeviceId;
  readonly name: string;
  readonly family: string;
  readonly model: string | null;
  readonly site: string;
  /** Whether its site is reached over a slow link, such as a radio link to a vessel. */
  readonly isRemote: boolean;
}

/**
 * The pilot devices of a plan: one of each family and model. Not the only one of its site where another exists, and on a wired link
 * before one on a radio link.
 */
export function pilotsOf(candidates: readonly PilotCandidate[]): DeviceId[] {
  const groups = grouped(candidates, (c) => JSON.stringify([c.family, c.model]));
  return [...groups.values()].map((members) => {
    const atSite = grouped(members, (c) => c.site);
    const rank = (c: PilotCandidate): number => (atSite.get(c.site)!.length === 1 ? 2 : 0) + (c.isRemote ? 1 : 0);
    return [...members].sort((a, b) => rank(a) - rank(b) || a.name.localeCompare(b.name, 'en', { numeric: true }))[0]!.device;
  });
}

/** Brings what is needed into the wave of who needs it first, wherever it was to go. */
function needed<T extends Divisible>(
  ordered: readonly T[],
  waveOf: Map<T, number>,
  byDevice: ReadonlyMap<DeviceId, T>,
  nameOf: (wave: number) => string,
): { who: T; for: T; into: string }[] {
  const moved = new Map<T, { who: T; for: T; into: string }>();
  // Whoever was moved may need others in turn: it is looked at again.
  const queue = [...ordered];
  for (const one of queue)
    for (const { device } of one.needs ?? []) {
      const other = byDevice.get(device);
      const wave = waveOf.get(one)!;
      if (!other || waveOf.get(other)! <= wave) continue;
      waveOf.set(other, wave);
      moved.set(other, { who: other, for: one, into: nameOf(wave) });
      queue.push(other);
    }
  return [...moved.values()];
}
