import type { Client, ClientChannel } from 'ssh2';
import { WireError } from '../errors.js';
import { ownNow, ownPause, ownTimeout } from '../own-time.js';
import { connectSsh, type ShellTarget } from './connect.js';

/** One line of a recorded conversation. */
export interface ShellEntry {
  readonly at: number;
  readonly from: 'barrow' | 'device';
  readonly text: string;
}

/** The most of a device's output, in characters, that is held before somebody takes it. */
const longestOutput = 1 << 20;

/** A terminal session on a device. */
export class ShellSession {
  readonly hostKey: string;
  readonly #client: Client;
  readonly #channel: ClientChannel;
  readonly #entries: ShellEntry[] = [];
  #entryBytes = 0;
  #output = '';
  #concealed = false;
  /** Output that came while it was concealed, and was not taken yet, stays so. */
  #tainted = false;
  #closed = false;
  /** It sent more than is held while nobody took it. */
  #flooded = false;
  /** The last wait ended without an answer: what still comes belongs to it. */
  #gaveUp = false;
  #waiter: (() => void) | null = null;

  private constructor(client: Client, channel: ClientChannel, hostKey: string) {
    this.#client = client;
    this.#channel = channel;
    this.hostKey = hostKey;
    channel.on('data', (data: Buffer) => {
      if (this.#flooded) return;
      const text = data.toString('utf8');
      this.#output += text;
      this.#record('device', text);
      // A device that sends while nobody waits must not fill our memory: it is cut off, and whoever asks next is told why.
      if (this.#output.length > longestOutput) {
        this.#flooded = true;
        this.close();
      }
      this.#waiter?.();
    });
    const ended = (): void => {
      this.#closed = true;
      this.#waiter?.();
    };
    channel.on('close', ended);
    client.on('close', ended);
    client.on('error', ended);
  }

  /** @throws WireError as `connectSsh` does, and `sessions-full` or `refused` when it gives no shell. */
  static async open(target: ShellTarget): Promise<ShellSession> {
    const { client, hostKey } = await connectSsh(target);
    return new Promise((resolve, reject) => {
      client.shell({ term: 'dumb', cols: 200, rows: 24 }, (error, channel) => {
        if (!error) return resolve(new ShellSession(client, channel, hostKey));
        client.end();
        // RFC 4254 §5.1: resource shortage (4) and administratively prohibited (1) are how full devices answer.
        const full = /resource|prohibited|too many/i.test(error.message);
        reject(new WireError(full ? 'sessions-full' : 'refused', `${target.host}:${target.port} gives no shell: ${error.message}`));
      });
    });
  }

  get closed(): boolean {
    return this.#closed;
  }

  /** The conversation so far; what Barrow sends never holds a password, which travels in the SSH handshake. */
  get conversation(): readonly ShellEntry[] {
    return this.#entries;
  }

  /** While a note is set, what the device says is not recorded; the note stands in its place. */
  conceal(note: string | null): void {
    if (note !== null) this.#entries.push({ at: Date.now(), from: 'barrow', text: note });
    this.#concealed = note !== null;
    // What is still to come of an answer that nobody waits for any longer was to be concealed as well.
    this.#tainted = this.#concealed || this.#gaveUp || this.#output !== '';
    if (this.#concealed) this.#gaveUp = false;
  }

  send(text: string): void {
    if (this.#flooded) throw new WireError('malformed', 'the device sent without end, and was cut off');
    if (this.#closed) throw new WireError('lost', 'the session has ended');
    this.#record('barrow', text);
    this.#channel.write(text);
  }

  /**
   * Waits until `test` finds what it looks for in the output that was not taken yet, and takes that output.
   * `test` is called whenever more has arrived; `moved` says that it goes on, and begins the limit anew.
   * @throws WireError `timeout` or `lost`, with the last words of the device unless they are concealed.
   */
  async take<T>(
    test: (output: string) => { readonly found: T; readonly length: number } | 'moved' | null,
    limitMs: number,
    signal?: AbortSignal,
  ): Promise<T> {
    let timedOut = false;
    const limited = () =>
      ownTimeout(() => {
        timedOut = true;
        this.#waiter?.();
      }, limitMs);
    let timer = limited();
    const abort = (): void => this.#waiter?.();
    signal?.addEventListener('abort', abort);
    try {
      for (;;) {
        const hit = test(this.#output);
        if (hit === 'moved') {
          timer.cancel();
          timedOut = false;
          timer = limited();
        } else if (hit) {
          this.#output = this.#output.slice(hit.length);
          this.#gaveUp = false;
          if (!this.#concealed && this.#output === '') this.#tainted = false;
          return hit.found;
        }
        const tail = (): string => (this.#tainted ? 'concealed' : JSON.stringify(this.#output.slice(-200)));
        if (signal?.aborted) throw new WireError('cancelled', 'stopped');
        if (this.#flooded) throw new WireError('malformed', `the device sends without end, and was cut off; last: ${tail()}`);
        if (this.#closed) throw new WireError('lost', `the device ended the session; last: ${tail()}`);
        if (timedOut) throw new WireError('timeout', `nothing expected came within ${Math.round(limitMs / 100) / 10} s; last: ${tail()}`);
        await new Promise<void>((resolve) => {
          this.#waiter = resolve;
        });
        this.#waiter = null;
      }
    } catch (error) {
      this.#gaveUp = true;
      throw error;
    } finally {
      timer.cancel();
      signal?.removeEventListener('abort', abort);
    }
  }

  /**
   * Takes what has come once nothing more comes for so long, or `test` says that it is whole; what is there when `limitMs` is over, or
   * when the device has ended the session. For whoever does not know how its answers end.
   */
  async settled(quietMs: number, limitMs: number, test: (output: string) => boolean, signal?: AbortSignal): Promise<string> {
    const begun = ownNow();
    let length = -1;
    let since = begun;
    for (;;) {
      if (this.#output.length !== length) [length, since] = [this.#output.length, ownNow()];
      const isQuiet = length > 0 && ownNow() - since >= quietMs;
      if (isQuiet || this.#closed || signal?.aborted || ownNow() - begun >= limitMs || (length > 0 && test(this.#output))) break;
      await ownPause(30, signal);
    }
    const taken = this.#output;
    this.#output = '';
    return taken;
  }

  /** Waits until the device has ended the session. @throws WireError `timeout` */
  async ended(limitMs: number): Promise<void> {
    await this.take(() => (this.#closed ? { found: true, length: 0 } : null), limitMs);
  }

  close(): void {
    this.#closed = true;
    this.#client.end();
    this.#client.destroy();
    this.#waiter?.();
  }

  #record(from: ShellEntry['from'], text: string): void {
    if (this.#tainted || this.#entryBytes > longestOutput) return;
    this.#entryBytes += text.length;
    const last = this.#entries[this.#entries.length - 1];
    if (last?.from === from && from === 'device') this.#entries[this.#entries.length - 1] = { ...last, text: last.text + text };
    else this.#entries.push({ at: Date.now(), from, text });
  }
}
