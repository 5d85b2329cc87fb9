import { deviceColumns, type DeviceColumn } from '@barrow/core';
import type { DeviceRow } from '../data/entities.js';

const collate = new Intl.Collator('en', { numeric: true });

/** The order of lists: by site and name, as people count. */
export const inOrder = (a: { site: string; name: string }, b: { site: string; name: string }): number =>
  collate.compare(a.site, b.site) || collate.compare(a.name, b.name);

/** As much of a device as stands in a list. */
interface Listed {
  readonly row: DeviceRow;
  readonly parentName: string | null;
  readonly target: { readonly version: string } | null;
  readonly standing: { readonly standing: string };
}

/** What stands in each column of a list. */
export const shownAs: Record<DeviceColumn, (known: Listed) => string> = {
  name: ({ row }) => row.name,
  address: ({ row, parentName }) => (row.address === '' ? `at ${parentName ?? 'no address'}` : row.address),
  site: ({ row }) => row.site,
  kind: ({ row }) => row.kind,
  model: ({ row }) => [row.maker, row.model].filter(Boolean).join(' '),
  hardware: ({ row }) => row.hardwareRevision ?? '',
  serial: ({ row }) => row.serial ?? '',
  firmware: ({ row }) => row.firmware ?? 'unknown',
  target: ({ target }) => target?.version ?? '',
  standing: ({ standing }) => standing.standing,
  seen: ({ row }) => String(row.lastSeen).padStart(16, '0'),
};

/**
 * What is looked for in a list: words that may stand anywhere, and words of one column, as `model:TB-24` or `model:"Tarnbrook TB"`.
 * All must be there; how they are written does not matter.
 */
export function wordsIn(text: string): { readonly anywhere: readonly string[]; readonly of: readonly (readonly [DeviceColumn, string])[] } {
  const anywhere: string[] = [];
  const of: (readonly [DeviceColumn, string])[] = [];
  for (const [whole] of text.toLowerCase().matchAll(/[a-z]+:"[^"]*"?|\S+/g)) {
    const [, column, word] = /^([a-z]+):"?(.*?)"?$/.exec(whole) ?? [];
    // What is no column is a word like another, e.g. the beginning of a hardware address.
    if (column !== undefined && deviceColumns.some((c) => c === column && c !== 'seen')) {
      if (word !== '') of.push([column as DeviceColumn, word!]);
    } else anywhere.push(whole);
  }
  return { anywhere, of };
}

/** Devices in the orders that people asked for; each is made once of a list, and again when the list is another. */
export class DeviceOrders<T extends Listed> {
  #of: readonly T[] | null = null;
  readonly #made = new Map<DeviceColumn, readonly T[]>();

  /** @param sort a column, with a minus before it the other way round; absent: as the list is */
  in(all: readonly T[], sort: string | undefined): readonly T[] {
    if (sort === undefined) return all;
    if (this.#of !== all) this.#made.clear();
    this.#of = all;
    const column = sort.replace(/^-/, '') as DeviceColumn;
    let made = this.#made.get(column);
    if (!made) {
      const of = shownAs[column];
      made = all
        .map((known) => [of(known), known] as const)
        .sort((a, b) => collate.compare(a[0], b[0]))
        .map(([, known]) => known);
      this.#made.set(column, made);
    }
    return sort.startsWith('-') ? made.toReversed() : made;
  }
}
