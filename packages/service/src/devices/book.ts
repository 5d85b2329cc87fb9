import { meantName } from '@barrow/core';
import type { DeviceRow } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';

/** Finds devices among many by what people call them, each in one step. */
export class DeviceBook {
  readonly byId = new Map<string, DeviceRow>();
  readonly #by = {
    serial: new Map<string, DeviceRow[]>(),
    mac: new Map<string, DeviceRow[]>(),
    address: new Map<string, DeviceRow[]>(),
    name: new Map<string, DeviceRow[]>(),
  };

  constructor(rows: Iterable<DeviceRow>) {
    for (const row of rows) this.add(row);
  }

  add(row: DeviceRow): void {
    this.byId.set(row.id, row);
    for (const [what, key] of keysOf(row)) {
      const list = this.#by[what].get(key);
      if (list) list.push(row);
      else this.#by[what].set(key, [row]);
    }
  }

  /** Takes in what is known of a device now, instead of what was known of it before. */
  replace(row: DeviceRow): void {
    const before = this.byId.get(row.id);
    if (before)
      for (const [what, key] of keysOf(before)) {
        const others = this.#by[what].get(key)!.filter((r) => r !== before);
        if (others.length > 0) this.#by[what].set(key, others);
        else this.#by[what].delete(key);
      }
    this.add(row);
  }

  /** Those that bear this serial, MAC, address or name. */
  with(what: 'serial' | 'mac' | 'address' | 'name', text: string): readonly DeviceRow[] {
    return this.#by[what].get(text.toLowerCase()) ?? [];
  }

  /** One device by id, name, address, serial or MAC. @throws Refusal when there is none, or more than one. */
  get(asked: string, as?: string): DeviceRow {
    const found = this.all(asked);
    if (found.length === 1) return found[0]!;
    if (found.length > 1)
      throw new Refusal(
        409,
        'device-ambiguous',
        'More than one device is meant',
        `"${asked}" fits ${found.map((f) => `${f.id} (${f.name}${f.address === '' ? '' : `, ${f.address}`})`).join(' and ')}.`,
        'Give the id.',
      );
    const meant = meantName(
      asked,
      [...this.byId.values()].map((d) => d.name),
    );
    throw notFound(
      as ?? 'device',
      asked,
      `${meant === null ? '' : `Is ${meant} meant? `}\`barrow device list\` shows what is known; \`barrow discover\` looks for more.`,
    );
  }

  all(asked: string): DeviceRow[] {
    const id = this.byId.get(asked);
    return [...new Set([...(id ? [id] : []), ...(['name', 'address', 'serial', 'mac'] as const).flatMap((w) => [...this.with(w, asked)])])];
  }
}

/** What a device is found by. */
function* keysOf(row: DeviceRow): Generator<['serial' | 'mac' | 'address' | 'name', string]> {
  if (row.serial) yield ['serial', row.serial.toLowerCase()];
  if (row.mac) yield ['mac', row.mac];
  // Another device answers at the address of one that was displaced.
  if (row.address !== '' && !row.flags.some((f) => f.flag === 'displaced')) yield ['address', row.address];
  if (row.name !== '') yield ['name', row.name.toLowerCase()];
}
