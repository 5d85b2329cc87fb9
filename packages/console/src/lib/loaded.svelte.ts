import type { LiveEvent } from '@barrow/core';
import { hearChanges } from './live.svelte.js';
import { failureOf, type Failure } from './session.svelte.js';

type What = Extract<LiveEvent, { kind: 'changed' }>['what'];

/**
 * Something that a page shows: read when the page is opened or what it reads by has changed (an id in the address), and again when one
 * of these has changed or the connection is back.
 */
export class Loaded<T> {
  value = $state.raw<T | null>(null);
  failure = $state.raw<Failure | null>(null);
  #asked = 0;

  constructor(
    private readonly read: () => Promise<T>,
    of: readonly What[],
    /** Other news after which it is read anew; what it does with them besides is its own. */
    news: (event: LiveEvent) => boolean = () => false,
  ) {
    $effect(() => {
      void this.again();
      return hearChanges(of, () => this.again(), news);
    });
  }

  /** Reads it anew; of several answers the one that was asked for last counts. */
  async again(): Promise<void> {
    const asked = ++this.#asked;
    try {
      const value = await this.read();
      if (asked !== this.#asked) return;
      this.value = value;
      this.failure = null;
    } catch (error) {
      if (asked === this.#asked) this.failure = failureOf(error);
    }
  }

  /** Does something about it, and reads it anew. */
  async act(work: () => Promise<unknown>): Promise<void> {
    try {
      await work();
      await this.again();
    } catch (error) {
      this.failure = failureOf(error);
    }
  }
}
