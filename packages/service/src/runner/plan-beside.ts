import { givesTo, type Candidate, type Service } from '@barrow/core';
import type { DeviceBook } from '../devices/book.js';
import type { KnownDevice } from '../devices/devices.js';

/** What stands beside each device: who gives it what it needs to come back, and which access points reach where it reaches. */
export class Beside {
  readonly #gives: ReadonlyMap<string, readonly { readonly from: string; readonly what: readonly Service[] }[]>;
  /** Of each access point: those that reach there, as one of the two says. */
  readonly #radio = new Map<string, Set<string>>();

  constructor(all: readonly KnownDevice[], book: DeviceBook) {
    this.#gives = givesTo(all.map(({ row }) => row));
    const put = (one: string, other: string): void => {
      const those = this.#radio.get(one);
      if (those) those.add(other);
      else this.#radio.set(one, new Set([other]));
    };
    for (const { row } of all) {
      // What a person says counts, and not what is heard.
      const names = row.told?.radio ?? row.shows?.radio ?? [];
      for (const name of names) {
        const other = book.all(name)[0];
        if (!other || other.id === row.id) continue;
        put(row.id, other.id);
        put(other.id, row.id);
      }
    }
  }

  givenBy(device: string): readonly { readonly from: string; readonly what: readonly Service[] }[] {
    return this.#gives.get(device) ?? [];
  }

  /** What a plan has to know of it. */
  of(device: string): Pick<Candidate, 'needsUp' | 'radio'> {
    const needsUp = this.givenBy(device).map((g) => g.from);
    // It may be down with all but one of those that reach where it reaches, and where each of these reaches.
    const radio = [device, ...(this.#radio.get(device) ?? [])].flatMap((at) => {
      const others = this.#radio.get(at)?.size ?? 0;
      return others === 0 ? [] : [{ device: at, of: others + 1 }];
    });
    return { ...(needsUp.length > 0 ? { needsUp } : {}), ...(radio.length > 0 ? { radio } : {}) };
  }
}
