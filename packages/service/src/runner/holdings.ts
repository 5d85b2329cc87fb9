import { Ledger, type Holder } from '@barrow/core';

/** The one ledger of the service: whoever touches a device in a way that others must know of holds it here, rollouts and deliveries alike. */
export class Holdings {
  readonly ledger = new Ledger();
  readonly #names: ((holder: Holder) => string | null)[] = [];
  readonly #waiters: (() => void)[] = [];
  #told = false;

  /** Adds who can name holders; null for those that it does not know. */
  nameBy(name: (holder: Holder) => string | null): void {
    this.#names.push(name);
  }

  readonly nameOf = (holder: Holder): string => {
    for (const name of this.#names) {
      const found = name(holder);
      if (found !== null) return found;
    }
    return holder.run;
  };

  /** Adds who looks again when something was let go. */
  onRelease(look: () => void): void {
    this.#waiters.push(look);
  }

  /** Something was let go: those who wait look again, once for all that is let go in this turn. */
  letGo(): void {
    if (this.#told) return;
    this.#told = true;
    setImmediate(() => {
      this.#told = false;
      for (const look of this.#waiters) look();
    });
  }
}
