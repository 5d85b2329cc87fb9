/** The least and the most that an answer is waited for once, in milliseconds. */
const [least, most] = [1000, 8000];

/**
 * How long answers are waited for, by what was measured: the smoothed round trip and its variance, as RFC 6298 §2 has them. One
 * for all devices: what makes many of them slow is our own machine, or the link that they share with us.
 */
export class Patience {
  #smoothed: number | null = null;
  #variance = 0;

  /** An answer to a request that was sent once came after so long (Karn's rule, RFC 6298 §3: others prove nothing). */
  measured(ms: number): void {
    if (this.#smoothed === null) {
      this.#smoothed = ms;
      this.#variance = ms / 2;
      return;
    }
    this.#variance = 0.75 * this.#variance + 0.25 * Math.abs(this.#smoothed - ms);
    this.#smoothed = 0.875 * this.#smoothed + 0.125 * ms;
  }

  /** How long to wait for the answer to the n-th try, the first being 0; each is waited for longer (RFC 6298 §5.5). */
  wait(wish: number, tries: number): number {
    const measured = this.#smoothed === null ? least : this.#smoothed + 4 * this.#variance;
    return Math.min(most, Math.max(wish, measured) * 1.5 ** tries);
  }
}
