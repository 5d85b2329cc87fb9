import { untrack } from 'svelte';
import type { Device, LiveEvent } from '@barrow/core';
import type { DeviceQuery } from '@barrow/client';
import type { Rows } from './rows.js';
import { hear } from './live.svelte.js';
import { client, failureOf, type Failure } from './session.svelte.js';

/** So many rows are asked for together. */
const pageLength = 60;
/** What is typed within a moment is asked for once. */
const typingMs = 180;
/** What changes is read again no more often than this. */
const changesMs = 700;

/** What changes, or changes how they stand. */
export const deviceListOf = ['devices', 'targets', 'images', 'rollouts', 'families'] as const;
const ofAll: ReadonlySet<string> = new Set(deviceListOf);

/**
 * A list of devices of which only the rows in view are here: the service filters it, puts it in order, and hands it out in parts.
 * Rows that were seen stay until what is asked for, or what is known, is another.
 */
export class DevicePages implements Rows<Device> {
  /** How many fit; null before the first answer. */
  total = $state<number | null>(null);
  failure = $state.raw<Failure | null>(null);
  #rows = $state.raw<ReadonlyMap<number, Device>>(new Map());
  #query = $state.raw<DeviceQuery>({});
  /** Counts what is asked for; an answer to what was asked before is not taken. */
  #asked = 0;
  #view = { from: 0, to: pageLength };
  /** Pages that are here or on their way. */
  #pages = new Set<number>();
  #timer: ReturnType<typeof setTimeout> | undefined;
  #typing: ReturnType<typeof setTimeout> | undefined;

  /** @param query what is asked for, besides the part of it */
  constructor(query: () => DeviceQuery) {
    let last: string | null = null;
    $effect(() => {
      const next = query();
      const key = JSON.stringify(next);
      if (key === last) return;
      const ask = (): void => {
        this.#query = next;
        void this.again();
      };
      clearTimeout(this.#typing);
      // What the page is opened with is asked for at once, and stands before others read by it.
      if (last === null) untrack(ask);
      else this.#typing = setTimeout(ask, typingMs);
      last = key;
    });
    $effect(() => {
      const leave = hear(
        (event) => this.#heard(event),
        () => this.again(),
      );
      return () => {
        leave();
        clearTimeout(this.#timer);
        clearTimeout(this.#typing);
      };
    });
  }

  get length(): number {
    return this.total ?? 0;
  }
  at(index: number): Device | undefined {
    return this.#rows.get(index);
  }
  /** What is asked for, once the typing has paused. */
  get query(): DeviceQuery {
    return this.#query;
  }

  /** The rows that are in view, of which those that lack are read. */
  inView(from: number, to: number): void {
    this.#view = { from, to };
    void this.#fill();
  }

  #heard(event: LiveEvent): void {
    if (event.kind !== 'changed' || !ofAll.has(event.what)) return;
    this.#timer ??= setTimeout(() => {
      this.#timer = undefined;
      void this.again();
    }, changesMs);
  }

  /** Reads what is in view anew; the rest, when it comes into view. */
  async again(): Promise<void> {
    this.#asked++;
    this.#pages = new Set();
    await this.#fill(true);
  }

  async #fill(anew = false): Promise<void> {
    const [first, last] = [Math.floor(this.#view.from / pageLength), Math.floor(Math.max(0, this.#view.to - 1) / pageLength)];
    const asked = this.#asked;
    const wanted: number[] = [];
    for (let page = first; page <= last; page++) if (!this.#pages.has(page)) wanted.push(page);
    for (const page of wanted) this.#pages.add(page);
    if (wanted.length === 0) return;
    try {
      const offset = wanted[0]! * pageLength;
      const limit = (wanted.at(-1)! + 1) * pageLength - offset;
      const { items, total } = await client().devicePage({ ...this.#query, offset, limit });
      if (asked !== this.#asked) return;
      const rows = new Map(anew ? [] : this.#rows);
      items.forEach((device, i) => rows.set(offset + i, device));
      this.#rows = rows;
      this.total = total;
      this.failure = null;
      // Fewer fit than were in view.
      if (items.length === 0 && total > 0 && offset >= total) {
        this.#view = { from: Math.max(0, total - pageLength), to: total };
        await this.#fill();
      }
    } catch (error) {
      if (asked !== this.#asked) return;
      for (const page of wanted) this.#pages.delete(page);
      this.failure = failureOf(error);
    }
  }
}
