import type { Device, Standing } from '@barrow/core';

/** Where on the way to its target a device stands, left to right. */
export const places = ['no target', 'unknown', 'blocked', '2 or more away', '1 away', 'at target', 'ahead'] as const;
export type Place = (typeof places)[number];

export interface Cluster {
  readonly firmware: string | null;
  readonly standing: Standing;
  readonly devices: readonly Device[];
}
/** One family and the version that is meant for it, with its devices by place and by version. */
export interface Lane {
  readonly key: string;
  readonly family: string | null;
  readonly target: string | null;
  readonly devices: number;
  readonly at: Readonly<Record<Place, readonly Cluster[]>>;
}

/** A part of the picture: a place in every lane, or one version in one lane. */
export interface Chosen {
  readonly place: Place;
  readonly lane: string | null;
  readonly firmware: string | null;
}

export function placeOf(d: Pick<Device, 'standing' | 'path'>): Place {
  switch (d.standing) {
    case 'no-target':
      return 'no target';
    case 'unknown':
      return 'unknown';
    case 'blocked':
      return 'blocked';
    case 'at-target':
      return 'at target';
    case 'ahead':
      return 'ahead';
    case 'behind':
      return d.path.filter((p) => p.on === null).length > 1 ? '2 or more away' : '1 away';
  }
}

/** A pinned device keeps to the lane that its family has anyhow. */
const laneKey = (d: Device): string => JSON.stringify([d.family, d.target]);

/** Parts the fleet into lanes, the largest family first; what has no family or no target comes last. */
export function lanesOf(devices: readonly Device[]): Lane[] {
  const lanes = new Map<string, Map<string, Device[]>>();
  for (const d of devices) {
    const clusters = lanes.get(laneKey(d)) ?? new Map<string, Device[]>();
    const key = JSON.stringify([placeOf(d), d.standing, d.firmware]);
    const list = clusters.get(key);
    if (list) list.push(d);
    else clusters.set(key, [d]);
    lanes.set(laneKey(d), clusters);
  }
  const made = [...lanes].map(([key, clusters]): Lane => {
    const at = Object.fromEntries(places.map((p) => [p, [] as Cluster[]])) as Record<Place, Cluster[]>;
    let first: Device | null = null;
    let count = 0;
    for (const list of clusters.values()) {
      first ??= list[0]!;
      count += list.length;
      at[placeOf(list[0]!)].push({ firmware: list[0]!.firmware, standing: list[0]!.standing, devices: list });
    }
    return { key, family: first!.family, target: first!.target, devices: count, at };
  });
  const last = (lane: Lane): number => (lane.family === null ? 2 : lane.target === null ? 1 : 0);
  const ofFamily = new Map<string | null, number>();
  for (const lane of made) ofFamily.set(lane.family, (ofFamily.get(lane.family) ?? 0) + lane.devices);
  const size = (lane: Lane): number => ofFamily.get(lane.family)!;
  return made.sort(
    (a, b) => last(a) - last(b) || size(b) - size(a) || (a.family ?? '').localeCompare(b.family ?? '') || b.devices - a.devices,
  );
}
