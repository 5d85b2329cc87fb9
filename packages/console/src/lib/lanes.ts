import { distances, type Distance, type StandingGroup } from '@barrow/core';

/** One family and the version that is meant for it, with those of its devices that stand alike, by how far away they are. */
export interface Lane {
  readonly key: string;
  readonly family: string | null;
  readonly target: string | null;
  readonly devices: number;
  readonly at: Readonly<Record<Distance, readonly StandingGroup[]>>;
}

/** A part of the picture: a distance in every lane, or one group of one lane. */
export interface Chosen {
  readonly distance: Distance;
  readonly group: string | null;
}

/** Parts the fleet into lanes, the largest family first; what has no family or no target comes last. */
export function lanesOf(groups: readonly StandingGroup[]): Lane[] {
  const lanes = new Map<string, { family: string | null; target: string | null; devices: number; at: Record<Distance, StandingGroup[]> }>();
  for (const group of groups) {
    const { family, target } = group;
    const key = JSON.stringify([family, target]);
    let lane = lanes.get(key);
    if (!lane) {
      const at = Object.fromEntries(distances.map((d) => [d, [] as StandingGroup[]])) as Record<Distance, StandingGroup[]>;
      lanes.set(key, (lane = { family, target, devices: 0, at }));
    }
    lane.devices += group.devices;
    lane.at[group.distance].push(group);
  }
  const made = [...lanes].map(([key, lane]): Lane => ({ key, ...lane }));
  const last = (lane: Lane): number => (lane.family === null ? 2 : lane.target === null ? 1 : 0);
  const ofFamily = new Map<string | null, number>();
  for (const lane of made) ofFamily.set(lane.family, (ofFamily.get(lane.family) ?? 0) + lane.devices);
  const size = (lane: Lane): number => ofFamily.get(lane.family)!;
  return made.sort(
    (a, b) => last(a) - last(b) || size(b) - size(a) || (a.family ?? '').localeCompare(b.family ?? '') || b.devices - a.devices,
  );
}
