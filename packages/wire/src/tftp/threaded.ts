import { Worker } from 'node:worker_threads';
import { WireError } from '../errors.js';
import type { Agreed } from './options.js';
import type { TftpRequest } from './packets.js';
import { refusalOf, type Packets, type TftpAddress, type TftpAnswer, type TftpPeer } from './server.js';
import type { TransferEnd, TransferProgress } from './transfer.js';
import type { FromWorker, TftpWorkerData, ToWorker } from './worker-messages.js';

export interface ThreadedTftpOptions<Tag> {
  /** Where to listen; port 0 chooses a free one, the same at every address. */
  readonly hosts: readonly string[];
  readonly port: number;
  readonly answer: (request: TftpRequest, peer: TftpPeer, at: TftpAddress) => TftpAnswer<Tag>;
  readonly onBegin: (tag: Tag, id: number, agreed: Agreed) => void;
  /** Told every `progressEveryMs` while it moves. */
  readonly onProgress: (tag: Tag, progress: TransferProgress) => void;
  /** `content` is what was taken, where something was to be taken and all of it came. */
  readonly onEnd: (tag: Tag, end: TransferEnd, progress: TransferProgress, packets: Packets, content: Uint8Array | null) => void;
  readonly onRefused: (peer: TftpPeer, request: TftpRequest | null, why: string, at: TftpAddress, untold: number) => void;
  /** The worker is gone though nobody stopped it. */
  readonly onLost: (why: string) => void;
  readonly progressEveryMs?: number;
  readonly tries?: number;
  readonly mostTransfers?: number;
}

/** A TFTP server in a thread of its own: it asks here who gets what, and tells what moved. */
export class ThreadedTftp<Tag> {
  #worker: Worker | null = null;
  readonly #tags = new Map<number, Tag>();
  readonly #questions = new Map<number, (packets: Packets | null) => void>();
  #nextQuestion = 1;
  #stopping: (() => void) | null = null;

  constructor(private readonly options: ThreadedTftpOptions<Tag>) {}

  get active(): number {
    return this.#tags.size;
  }

  /** @throws WireError when a port is taken or not allowed. */
  async start(): Promise<{ port: number }> {
    const { hosts, port, tries = 6, mostTransfers = 1000, progressEveryMs = 200 } = this.options;
    const workerData: TftpWorkerData = { hosts, port, tries, mostTransfers, progressEveryMs };
    const worker = new Worker(new URL('./worker.js', import.meta.url), { workerData });
    this.#worker = worker;
    return new Promise((resolve, reject) => {
      worker.on('error', (error) => this.#lost(error.message));
      worker.on('exit', () => this.#lost('its thread ended'));
      worker.on('message', (message: FromWorker) => {
        if (message.kind === 'listening') resolve({ port: message.port });
        else if (message.kind === 'failed') {
          this.#worker = null;
          void worker.terminate();
          reject(new WireError('refused', message.detail));
        } else this.#take(message);
      });
    });
  }

  /** Ends a transfer from this side; the receiver is told why. */
  end(id: number, why: string): void {
    this.#send({ kind: 'end', id, why });
  }

  /** The first and last packets of a transfer that moves; null when it does not. */
  packets(id: number): Promise<Packets | null> {
    if (!this.#worker || !this.#tags.has(id)) return Promise.resolve(null);
    const question = this.#nextQuestion++;
    return new Promise((resolve) => {
      this.#questions.set(question, resolve);
      this.#send({ kind: 'packets', id, question });
    });
  }

  async stop(why = 'the store is closing'): Promise<void> {
    const worker = this.#worker;
    if (!worker) return;
    await new Promise<void>((resolve) => {
      this.#stopping = resolve;
      this.#send({ kind: 'stop', why });
    });
    this.#worker = null;
    await worker.terminate();
  }

  #send(message: ToWorker): void {
    this.#worker?.postMessage(message);
  }

  #lost(why: string): void {
    if (this.#stopping) return this.#stopping();
    if (!this.#worker) return;
    this.#worker = null;
    this.#tags.clear();
    for (const answer of this.#questions.values()) answer(null);
    this.#questions.clear();
    this.options.onLost(why);
  }

  #take(message: FromWorker): void {
    switch (message.kind) {
      case 'ask': {
        const { request, peer, at } = message;
        const found = this.options.answer(request, peer, at);
        const not = refusalOf(request, found);
        if (not !== null || found.kind === 'refuse') this.#send({ kind: 'answer', id: message.id, answer: { kind: 'refuse', ...not! } });
        else {
          const { tag, ...rest } = found;
          this.#tags.set(message.id, tag);
          this.#send({ kind: 'answer', id: message.id, answer: rest.kind === 'send' ? { ...rest, link: rest.link ?? null } : rest });
        }
        break;
      }
      case 'begin':
        this.options.onBegin(this.#tags.get(message.id)!, message.id, message.agreed);
        break;
      case 'progress':
        for (const [id, progress] of message.moving) {
          const tag = this.#tags.get(id);
          if (tag !== undefined) this.options.onProgress(tag, progress);
        }
        break;
      case 'end': {
        const tag = this.#tags.get(message.id);
        this.#tags.delete(message.id);
        if (tag !== undefined) this.options.onEnd(tag, message.end, message.progress, message.packets, message.content);
        break;
      }
      case 'refused':
        this.options.onRefused(message.peer, message.request, message.why, message.at, message.untold);
        break;
      case 'packets':
        this.#questions.get(message.question)?.(message.packets);
        this.#questions.delete(message.question);
        break;
      case 'stopped':
        this.#stopping?.();
        break;
    }
  }
}
