import { SvelteSet } from 'svelte/reactivity';

/** What a person has chosen in a list; it stays while they look at something else, and is gone with them. */
export class Selection {
  readonly #ids = new SvelteSet<string>();
  /** Where a range begins. */
  #anchor: string | null = null;

  get size(): number {
    return this.#ids.size;
  }
  has(id: string): boolean {
    return this.#ids.has(id);
  }
  /** Of a list those that are chosen, in its order. */
  of<T extends { readonly id: string }>(list: readonly T[]): T[] {
    return list.filter(({ id }) => this.#ids.has(id));
  }
  clear(): void {
    this.#ids.clear();
    this.#anchor = null;
  }
  put(ids: readonly string[], on: boolean): void {
    for (const id of ids)
      if (on) this.#ids.add(id);
      else this.#ids.delete(id);
  }
  /** One is chosen, or not any more; with `toHere` all from the one before to this one, in the order in which they are shown. */
  toggle(id: string, shown: readonly string[], toHere: boolean): void {
    const on = !this.#ids.has(id);
    const [from, to] = [this.#anchor === null ? -1 : shown.indexOf(this.#anchor), shown.indexOf(id)];
    if (toHere && from >= 0 && to >= 0) this.put(shown.slice(Math.min(from, to), Math.max(from, to) + 1), on);
    else this.put([id], on);
    this.#anchor = id;
  }
}

/** The devices that are chosen. */
export const chosenDevices = new Selection();
