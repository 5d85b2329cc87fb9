import { inRange, mixedStates, VersionUnreadable, type Candidate, type Passing, type RunFacts, type VersionRange } from '@barrow/core';
import { versionsOf, type Family } from '@barrow/families';
import type { ImageRow } from '../data/entities.js';
import type { KnownDevice } from '../devices/devices.js';

interface Known {
  readonly all: readonly KnownDevice[];
  readonly images: ReadonlyMap<string, ImageRow>;
  readonly families: ReadonlyMap<string, Family>;
}

/**
 * Looks at every state in which a device and what it is handled through can stand beside each other in the night: who may not be newer
 * than what the other still runs waits for it, and what no order mends is told. Linear in devices.
 */
export function withMixed(
  candidates: readonly Candidate[],
  facts: ReadonlyMap<string, RunFacts>,
  { all, images, families }: Known,
): { readonly candidates: Candidate[]; readonly facts: Map<string, RunFacts> } {
  const planned = new Map(candidates.map((c) => [c.device, c]));
  const rows = new Map(all.map(({ row }) => [row.id, row]));
  const released = new Map([...images.values()].map((i) => [`${i.family}|${i.component}|${i.version}`, i]));
  const rule = (image: ImageRow | undefined, family: string | null): VersionRange | null => {
    const found = image?.note.needs.partners.find((p) => p.family === family);
    return found ? { atLeast: found.atLeast, ...(found.upTo ? { upTo: found.upTo } : {}) } : null;
  };
  const waits = new Map<string, { leg: number; device: string; name: string }[]>();
  const told = new Map<string, string[]>();
  for (const { row } of all) {
    const parent = row.parent === null ? undefined : rows.get(row.parent);
    const [child, above] = [planned.get(row.id), parent && planned.get(parent.id)];
    if (!parent || !(child || above) || row.firmware === null || parent.firmware === null) continue;
    const family = families.get(parent.family ?? '');
    if (!family) continue;
    const childPasses: Passing[] = [
      { version: row.firmware, goesWith: rule(released.get(`${row.family}|system|${row.firmware}`), parent.family) },
    ];
    for (const leg of child?.passage.legs ?? [])
      childPasses.push(
        leg.component === 'system'
          ? { version: leg.to, goesWith: rule(images.get(leg.image), parent.family) }
          : childPasses[childPasses.length - 1]!,
      );
    if (childPasses.every((p) => p.goesWith === null)) continue;
    const parentPasses = [parent.firmware];
    for (const leg of above?.passage.legs ?? [])
      parentPasses.push(leg.component === 'system' ? leg.to : parentPasses[parentPasses.length - 1]!);
    const waitOf = (one: Candidate | undefined, other: string): number | null => one?.needs?.find((n) => n.device === other)?.leg ?? null;
    try {
      const { parentWaits, words } = mixedStates({
        ...{ child: row.name, childPasses, parent: parent.name, parentPasses },
        childWaits: waitOf(child, parent.id),
        parentWaits: waitOf(above, row.id),
        inRange: (range, version) => inRange(versionsOf(family, 'system'), range, version),
      });
      if (parentWaits !== null) push(waits, parent.id, { leg: parentWaits, device: row.id, name: row.name });
      for (const one of words) push(told, child ? row.id : parent.id, one);
    } catch (error) {
      // What its family cannot read, nobody can compare.
      if (!(error instanceof VersionUnreadable)) throw error;
    }
  }
  return {
    candidates: candidates.map((c) => {
      const list = waits.get(c.device);
      if (!list) return c;
      const names = list.length <= 3 ? list.map((l) => l.name).join(', ') : `${list[0]!.name} and ${list.length - 1} more`;
      return {
        ...c,
        needs: [...(c.needs ?? []), ...list.map(({ leg, device }) => ({ leg, device }))],
        notices: [...(c.notices ?? []), `waits for ${names}: what it becomes does not go with what they run before`],
      };
    }),
    facts: new Map([...facts].map(([device, of]) => [device, { ...of, mismatches: told.get(device) ?? [] }])),
  };
}

function push<K, V>(into: Map<K, V[]>, key: K, value: V): void {
  const list = into.get(key);
  if (list) list.push(value);
  else into.set(key, [value]);
}
