import { hazardsOf, type Guards, type Hazard, type Plan, type RunFacts } from '@barrow/core';
import type { Devices, KnownDevice } from '../devices/devices.js';

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
export async function hazardsIn(plan: Plan, devices: Devices, guards: Guards, runs: ReadonlyMap<string, RunFacts>): Promise<Hazard[]> {
  const all = await devices.list({});
  return hazardsOf({
    plan,
    now: Date.now(),
    devices: new Map(
      all.map(({ row }) => [row.id, { name: row.name, tags: row.tags, upSince: row.upSince, armed: row.armed?.version ?? null }]),
    ),
    under: guards.under,
    runs,
  });
}
