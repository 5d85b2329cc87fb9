import type { Device, LiveEvent } from '@barrow/core';
import { hear } from './live.svelte.js';
import { client, failureOf, type Failure } from './session.svelte.js';

const inOrder = new Intl.Collator('en', { numeric: true });
const byPlace = (a: Device, b: Device): number => inOrder.compare(a.site, b.site) || inOrder.compare(a.name, b.name);

/** What is together within a moment is asked for together. */
const moment = 200;

/**
 * The devices, for every page that shows them: read whole once, and kept by the rows that change. Of what changes something for
 * all of them, a target or an image, they are read anew.
 */
class DeviceList {
  all = $state.raw<Device[] | null>(null);
  failure = $state.raw<Failure | null>(null);
  #users = 0;
  #leave: (() => void) | null = null;
  /** What has changed and is not asked for yet; all of it when null. */
  #due: Set<string> | null = new Set();
  #timer: ReturnType<typeof setTimeout> | undefined;
  #asking: Promise<void> = Promise.resolve();

  /** While a page shows them; call what it gives back when that is over. */
  use(): () => void {
    if (this.#users++ === 0) {
      this.#soon(null, 0);
      this.#leave = hear(
        (event) => this.#heard(event),
        () => this.#soon(null, 0),
      );
    }
    return () => {
      if (--this.#users > 0) return;
      this.#leave?.();
      clearTimeout(this.#timer);
      this.#timer = undefined;
    };
  }

  #heard(event: LiveEvent): void {
    if (event.kind !== 'changed' || !['devices', 'targets', 'images', 'rollouts', 'families'].includes(event.what)) return;
    this.#soon(event.what === 'devices' && event.ids ? event.ids : null, moment);
  }

  #soon(ids: readonly string[] | null, wait: number): void {
    if (ids === null) this.#due = null;
    else for (const id of ids) this.#due?.add(id);
    if (wait === 0) clearTimeout(this.#timer);
    else if (this.#timer !== undefined) return;
    this.#timer = setTimeout(() => {
      this.#timer = undefined;
      const due = this.#due;
      this.#due = new Set();
      this.#asking = this.#asking.then(() => this.#ask(due));
    }, wait);
  }

  async #ask(due: ReadonlySet<string> | null): Promise<void> {
    try {
      if (due === null || this.all === null) this.all = await client().devices();
      else if (due.size > 0) {
        const fresh = new Map((await client().devices({ ids: [...due].join(',') })).map((d) => [d.id, d]));
        const known = new Set(this.all.map((d) => d.id));
        // What was asked for and did not come is gone.
        const next = this.all.flatMap((d) => fresh.get(d.id) ?? (due.has(d.id) ? [] : [d]));
        for (const d of fresh.values()) if (!known.has(d.id)) next.push(d);
        this.all = next.sort(byPlace);
      }
      this.failure = null;
    } catch (error) {
      this.failure = failureOf(error);
      // What could not be read is read when there is a reason again, and then all of it.
      this.#due = null;
    }
  }
}

export const deviceList = new DeviceList();
