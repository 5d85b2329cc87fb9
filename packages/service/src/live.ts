import type { LiveEvent } from '@barrow/core';

/** More than this are told as all. */
const fewIds = 50;

/** Hands what happens to everybody who listens; a listener that fails is dropped. */
export class Live {
  readonly #listeners = new Set<(event: LiveEvent) => void>();

  tell(event: LiveEvent): void {
    for (const listener of this.#listeners) listener(event);
  }

  /** Tells that a list is no longer what it was; listeners ask for it again. `ids`: only these of it have changed. */
  changed(what: Extract<LiveEvent, { kind: 'changed' }>['what'], ids?: readonly string[]): void {
    this.tell({ kind: 'changed', what, ...(ids && ids.length <= fewIds ? { ids: [...ids] } : {}) });
  }

  listen(listener: (event: LiveEvent) => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }
}
