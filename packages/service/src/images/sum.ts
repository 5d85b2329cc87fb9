import { createHash } from 'node:crypto';
import { Worker } from 'node:worker_threads';
import type { SumAnswer, SumOrder } from './sum-worker.js';

/** SHA-256 (FIPS 180-4) of octets that come piece by piece; it can be told at any time, and more may follow. */
export interface Sum {
  /** Takes a piece; resolves at once, or when there is room for more. */
  add(piece: Buffer): Promise<void> | void;
  /** The digest of all that was added so far, in hexadecimal digits. */
  digest(): Promise<string>;
  end(): void;
}

/** Files below this are summed where they arrive: a thread costs more than it gives. */
const worthAThread = 16 << 20;
const portionLength = 1 << 20;
const portions = 4;

const mostThreads = 8;
let threads = 0;

/** A sum for a file of so many octets; a large one in a thread of its own, beside whoever receives and writes it. */
export const sumFor = (bytes: number): Sum => (bytes < worthAThread || threads >= mostThreads ? new LocalSum() : new ThreadedSum());

/** A sum that is known. */
export const knownSum = (digest: string): Sum => ({
  add: () => {
    throw new Error('a sum that is known takes no more');
  },
  digest: () => Promise.resolve(digest),
  end: () => undefined,
});

class LocalSum implements Sum {
  readonly #hash = createHash('sha256');
  add(piece: Buffer): void {
    this.#hash.update(piece);
  }
  digest(): Promise<string> {
    return Promise.resolve(this.#hash.copy().digest('hex'));
  }
  end(): void {
    // Nothing is held.
  }
}

/** Its memory is a few portions, which go to the thread and come back; when all are there, the source waits. */
class ThreadedSum implements Sum {
  readonly #worker = new Worker(new URL('./sum-worker.js', import.meta.url));
  readonly #free: ArrayBuffer[] = [];
  #made = 0;
  #filling: { readonly octets: ArrayBuffer; length: number } | null = null;
  #wake: (() => void) | null = null;
  readonly #told = new Map<number, { resolve: (digest: string) => void; reject: (error: Error) => void }>();
  #next = 0;
  #fault: Error | null = null;

  constructor() {
    threads++;
    this.#worker.unref();
    this.#worker.on('message', (answer: SumAnswer) => {
      if ('told' in answer) {
        this.#told.get(answer.told)?.resolve(answer.digest);
        this.#told.delete(answer.told);
        return;
      }
      this.#free.push(answer.free);
      this.#wake?.();
    });
    this.#worker.on('error', (error) => this.#fail(error));
    this.#worker.on('exit', () => {
      threads--;
      this.#fail(new Error('the thread of the digest ended'));
    });
  }

  add(piece: Buffer): Promise<void> | void {
    const left = this.#fill(piece);
    if (left.length > 0) return this.#addRest(left);
  }

  async #addRest(piece: Buffer): Promise<void> {
    let left = piece;
    while (left.length > 0) {
      if (this.#fault) throw this.#fault;
      if (this.#free.length === 0) await new Promise<void>((resolve) => (this.#wake = resolve));
      this.#wake = null;
      left = this.#fill(left);
    }
  }

  /** Puts into portions what there is room for; answers the rest. */
  #fill(piece: Buffer): Buffer {
    let left = piece;
    while (left.length > 0) {
      if (!this.#filling) {
        const octets = this.#free.pop() ?? (this.#made < portions ? (this.#made++, new ArrayBuffer(portionLength)) : null);
        if (!octets) break;
        this.#filling = { octets, length: 0 };
      }
      const { octets, length } = this.#filling;
      const some = left.subarray(0, portionLength - length);
      new Uint8Array(octets).set(some, length);
      this.#filling.length += some.length;
      left = left.subarray(some.length);
      if (this.#filling.length === portionLength) this.#send();
    }
    return left;
  }

  #send(): void {
    if (!this.#filling) return;
    const { octets, length } = this.#filling;
    this.#filling = null;
    this.#order({ octets, length }, [octets]);
  }

  #order(order: SumOrder, transfer: ArrayBuffer[] = []): void {
    this.#worker.postMessage(order, transfer);
  }

  digest(): Promise<string> {
    if (this.#fault) return Promise.reject(this.#fault);
    this.#send();
    const tell = this.#next++;
    return new Promise((resolve, reject) => {
      this.#told.set(tell, { resolve, reject });
      this.#order({ tell });
    });
  }

  end(): void {
    void this.#worker.terminate();
  }

  #fail(error: Error): void {
    this.#fault ??= error;
    for (const { reject } of this.#told.values()) reject(this.#fault);
    this.#told.clear();
    this.#wake?.();
  }
}
