/**
 * Shares a link among the transfers that use it: a bucket of octets that fills at the link's rate. Who finds it empty
 * comes again; those who wait are served in turn, because each takes one window at a time.
 */
export class Pacer {
  #octets: number;
  #at = performance.now();
  #perMs: number;

  constructor(octetsPerSecond: number) {
    this.#perMs = octetsPerSecond / 1000;
    this.#octets = this.#most();
  }

  /** The rate may change while transfers go on. */
  set octetsPerSecond(rate: number) {
    this.#perMs = rate / 1000;
  }

  /** A fifth of a second may go at once, or one large block. */
  #most(): number {
    return Math.max(this.#perMs * 200, 1500);
  }

  /** Takes the octets and answers 0, or answers how many milliseconds to wait before asking again. */
  take(octets: number): number {
    const now = performance.now();
    this.#octets = Math.min(this.#most(), this.#octets + (now - this.#at) * this.#perMs);
    this.#at = now;
    // A block may run into debt, so that one that is larger than the bucket passes at all.
    if (this.#octets > 0) {
      this.#octets -= octets;
      return 0;
    }
    return Math.max(1, Math.ceil((1 - this.#octets) / this.#perMs));
  }
}
