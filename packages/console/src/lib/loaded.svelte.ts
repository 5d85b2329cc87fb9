import type { LiveEvent } from '@barrow/core';
import { hearChanges } from './live.svelte.js';
import { UnreachableError } from '@barrow/client';
import { failureOf, type Failure } from './session.svelte.js';

/** Between two tries to read what could not be read. */
const retryMs = 3000;

type What = Extract<LiveEvent, { kind: 'changed' }>['what'];

/**
 * Something that a page shows: read when the page is opened or what it reads by has changed (an id in the address), and again when one
 * of these has changed or the connection is back.
 */
export class Loaded<T> {
  value = $state.raw<T | null>(null);
  failure = $state.raw<Failure | null>(null);
  /** Counts the occasions at which what is shown became another: what is still being read for an earlier one is left aside. */
  #turn = 0;
  #reading: Promise<void> | null = null;
  #more = false;
  #retry: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly read: () => Promise<T>,
    of: readonly What[],
    /** Other news after which it is read anew; what it does with them besides is its own. */
    news: (event: LiveEvent) => boolean = () => false,
  ) {
    $effect(() => {
      void this.#begin();
      const end = hearChanges(of, () => this.again(), news);
      return () => {
        clearTimeout(this.#retry);
        end();
      };
    });
  }

  /** Reads it anew; while it is being read it is read once more after that, however often this is asked for. */
  again(): Promise<void> {
    if (this.#reading === null) return this.#begin();
    this.#more = true;
    return this.#reading;
  }

  /** Shows what an act gave back; what is being read was asked for before it. */
  show(value: T): void {
    this.value = value;
    if (this.#reading !== null) void this.#begin();
  }

  #begin(): Promise<void> {
    clearTimeout(this.#retry);
    return (this.#reading = this.#untilRead(++this.#turn));
  }

  async #untilRead(turn: number): Promise<void> {
    do {
      this.#more = false;
      try {
        const value = await this.read();
        if (turn !== this.#turn) return;
        this.value = value;
        this.failure = null;
      } catch (error) {
        if (turn !== this.#turn) return;
        this.failure = failureOf(error);
        // The page says that it is tried again: one lost request need not lose the live connection, which would try it again too.
        if (error instanceof UnreachableError) this.#retry = setTimeout(() => void this.again(), retryMs);
      }
    } while (this.#more);
    this.#reading = null;
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
