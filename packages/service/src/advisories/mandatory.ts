import { Worker } from 'node:worker_threads';

/** What is told of failed tests; a document that fails more is faulty all the same. */
const mostTold = 20;
/** No document takes longer; one that does is not to be believed. */
const longestMs = 60_000;
/** The thread is let go when nobody asked for so long. */
const idleMs = 30_000;

/**
 * Which of the mandatory tests of CSAF 2.0 (OASIS, §6.1) documents fail, each with its number and its place. Loading the tests
 * takes seconds of a processor, so they are made in a thread of their own, which is there only while somebody asks.
 */
export class MandatoryTests {
  #worker: Worker | null = null;
  #next = 1;
  readonly #asked = new Map<number, (failed: string[]) => void>();
  #idle: NodeJS.Timeout | undefined;

  async failed(document: unknown): Promise<string[]> {
    const worker = this.#start();
    const id = this.#next++;
    clearTimeout(this.#idle);
    let timer: NodeJS.Timeout | undefined;
    try {
      return await new Promise<string[]>((resolve) => {
        this.#asked.set(id, resolve);
        timer = setTimeout(() => {
          resolve(['the tests did not come to their end']);
          this.stop();
        }, longestMs);
        worker.postMessage({ id, document });
      }).then((failed) => failed.slice(0, mostTold));
    } finally {
      clearTimeout(timer);
      this.#asked.delete(id);
      if (this.#asked.size === 0) this.#idle = setTimeout(() => this.stop(), idleMs).unref();
    }
  }

  #start(): Worker {
    if (this.#worker) return this.#worker;
    const worker = new Worker(new URL('./mandatory-worker.js', import.meta.url));
    worker.unref();
    worker.on('message', ({ id, failed }: { id: number; failed: string[] }) => this.#asked.get(id)?.(failed));
    worker.on('error', (error) => this.#end(worker, `the tests could not be made: ${error.message}`));
    worker.on('exit', () => this.#end(worker, 'the tests could not be made'));
    this.#worker = worker;
    return worker;
  }

  #end(worker: Worker, why: string): void {
    if (this.#worker !== worker) return;
    this.#worker = null;
    for (const resolve of this.#asked.values()) resolve([why]);
  }

  stop(): void {
    clearTimeout(this.#idle);
    void this.#worker?.terminate();
  }
}
