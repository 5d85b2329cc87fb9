import { hazardsOf, type Guards, type Hazard, type Kind, type Passage, type Plan, type RunFacts } from '@barrow/core';
import type { Family } from '@barrow/families';
import type { ImageRow } from '../data/entities.js';
import type { KnownDevice } from '../devices/devices.js';
import type { Beside } from './plan-beside.js';

/** Models that are not served any more after a leg, of a family; null: all of them. */
export interface Drop {
  readonly leg: number;
  readonly family: string;
  readonly models: readonly string[] | null;
}

/** Adds to each planned device those that it brings along by itself and that are not planned. */
export function withTakenAlong(
  facts: ReadonlyMap<string, RunFacts>,
  all: readonly KnownDevice[],
  planned: ReadonlySet<string>,
  families: ReadonlyMap<string, Family>,
): Map<string, RunFacts> {
  const takes = new Map(all.map(({ row }) => [row.id, families.get(row.family ?? '')?.takesAlong ?? []]));
  const along = new Map<string, string[]>();
  for (const { row } of all) {
    if (row.parent === null || planned.has(row.id) || !takes.get(row.parent)?.includes(row.family ?? '')) continue;
    const names = along.get(row.parent);
    if (names) names.push(row.name);
    else along.set(row.parent, [row.name]);
  }
  return new Map([...facts].map(([device, of]) => [device, { ...of, takesAlong: along.get(device) ?? [] }]));
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

/** What a family says of what its backup and a restart are worth. */
export const saidByFamily = ({ backupLacks, restartLoses }: Family, { steps }: Passage): Pick<RunFacts, 'backupLacks' | 'loses'> => ({
  ...(steps.some((s) => s.step === 'backup') ? { backupLacks } : {}),
  ...(steps.some((s) => s.down) ? { loses: restartLoses } : {}),
});

/** What is to be known of the images that a device takes. */
export const saidOfImages = (images: readonly ImageRow[]): Pick<RunFacts, 'unread' | 'uncompared' | 'needsBytes' | 'licences'> => ({
  licences: images.flatMap((i) => (i.note.needs.licence ? [`${i.file}: ${i.note.needs.licence}`] : [])),
  unread: images.filter((i) => i.note.notes !== '' && i.read.length === 0).map((i) => i.file),
  uncompared: images.filter((i) => i.compared === null).map((i) => i.file),
  needsBytes: Math.max(0, ...images.map((i) => i.note.spaceBytes ?? i.bytes)),
});

/** What could hurt in a plan, by everything that is known of the devices of the whole map. */
export function hazardsIn(
  plan: Plan,
  all: readonly KnownDevice[],
  runs: ReadonlyMap<string, RunFacts>,
  at: {
    readonly under: Guards['under'];
    readonly placed: ReadonlySet<string>;
    readonly here: string | null;
    readonly beside: Beside;
    readonly asked: ReadonlySet<string>;
    readonly contacts: ReadonlyMap<string, string>;
  },
): Hazard[] {
  return hazardsOf({
    plan,
    now: Date.now(),
    devices: new Map(
      all.map(({ row: { id, name, kind, site, tags, upSince, armed, told, shows } }) => [
        id,
        {
          ...{ name, kind: kind as Kind, site, tags, upSince, told, shows },
          armed: armed?.version ?? null,
          isPlaced: at.placed.has(id),
          givenBy: at.beside.givenBy(id),
        },
      ]),
    ),
    under: at.under,
    runs,
    here: at.here,
    asked: at.asked,
    contacts: at.contacts,
  });
}
