import { hazardsOf, type Guards, type Hazard, type Plan, type RunFacts } from '@barrow/core';
import type { KnownDevice } from '../devices/devices.js';

/** Models that are not served any more after a leg, of a family; null: all of them. */
export interface Drop {
  readonly leg: number;
  readonly family: string;
  readonly models: readonly string[] | null;
}

/** Adds to each planned device those that it serves no more afterwards and that are not planned along. */
export function withLeftBehind(
  facts: ReadonlyMap<string, RunFacts>,
  dropping: ReadonlyMap<string, readonly Drop[]>,
  all: readonly KnownDevice[],
  planned: ReadonlySet<string>,
): Map<string, RunFacts> {
  const left = new Map<string, string[]>();
  for (const { row } of all) {
    const drops = row.parent === null || planned.has(row.id) ? undefined : dropping.get(row.parent);
    if (!drops?.some((d) => d.family === row.family && (d.models === null || d.models.includes(row.model ?? '')))) continue;
    const names = left.get(row.parent!);
    if (names) names.push(row.name);
    else left.set(row.parent!, [row.name]);
  }
  return new Map([...facts].map(([device, of]) => [device, { ...of, leavesBehind: left.get(device) ?? [] }]));
}

/** What could hurt in a plan, by everything that is known of the devices of the whole map. */
export function hazardsIn(
  plan: Plan,
  all: readonly KnownDevice[],
  { under, placed }: { readonly under: Guards['under']; readonly placed: ReadonlySet<string> },
  runs: ReadonlyMap<string, RunFacts>,
): Hazard[] {
  return hazardsOf({
    plan,
    now: Date.now(),
    devices: new Map(
      all.map(({ row: { id, name, tags, upSince, armed } }) => [
        id,
        { name, tags, upSince, armed: armed?.version ?? null, isPlaced: placed.has(id) },
      ]),
    ),
    under,
    runs,
  });
}
