import type { DeviceName } from '@barrow/core';
import { SvelteMap } from 'svelte/reactivity';

/** What a person has chosen in a list; it stays while they look at something else, and is gone with them. */
export class Selection<T extends { readonly id: string }> {
  readonly #chosen = new SvelteMap<string, T>();
  /** Where a range begins: the place of a row in what is shown. */
  #anchor: number | null = null;
  /** Of what all are chosen; null when that cannot be said. */
  #all = $state<string | null>(null);

  get size(): number {
    return this.#chosen.size;
  }
  get all(): T[] {
    return [...this.#chosen.values()];
  }
  has(id: string): boolean {
    return this.#chosen.has(id);
  }
  /** Whether all are chosen of what is shown under this name. */
  hasAll(shown: string): boolean {
    return this.#all === shown;
  }
  clear(): void {
    this.#chosen.clear();
    this.#anchor = null;
    this.#all = null;
  }
  #put(some: readonly T[], on: boolean): void {
    for (const one of some)
      if (on) this.#chosen.set(one.id, one);
      else this.#chosen.delete(one.id);
    if (!on) this.#all = null;
  }
  /** All that are shown, also those that are not in view; or none of them any more. */
  async toggleAll(shown: string, all: () => Promise<readonly T[]>): Promise<void> {
    const on = !this.hasAll(shown);
    this.#put(await all(), on);
    this.#all = on ? shown : null;
  }
  /**
   * One is chosen, or not any more; with `toHere` all from the one before to this one, in the order in which they are shown.
   *
   * @param some reads so many of what is shown, from one on
   */
  async toggle(
    one: T,
    index: number,
    toHere: boolean,
    some: (from: number, count: number) => readonly T[] | Promise<readonly T[]>,
  ): Promise<void> {
    const on = !this.has(one.id);
    const anchor = this.#anchor;
    this.#anchor = index;
    if (!toHere || anchor === null) return this.#put([one], on);
    this.#put(await some(Math.min(anchor, index), Math.abs(anchor - index) + 1), on);
  }
}

/** The devices that are chosen. */
export const chosenDevices = new Selection<DeviceName>();
