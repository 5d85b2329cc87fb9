import { Client, type ClientChannel } from 'ssh2';
import { WireError } from '../errors.js';
import { fingerprint } from './greeting.js';

export interface ShellTarget {
  readonly host: string;
  readonly port: number;
  readonly username: string;
  /** Also the answer to keyboard-interactive questions (RFC 4256) that do not echo. */
  readonly password?: string | undefined;
  /** A private key in PEM or OpenSSH form, and what opens it. */
  readonly privateKey?: string | undefined;
  readonly passphrase?: string | undefined;
  /** The pinned key, `SHA256:` and base64 without padding as RFC 4648 §4 writes it; null accepts any and tells it. */
  readonly hostKey: string | null;
  readonly readyTimeoutMs: number;
}

/** One line of a recorded conversation. */
export interface ShellEntry {
  readonly at: number;
  readonly from: 'barrow' | 'device';
  readonly text: string;
}

/** The most of a device's answer that is kept while waiting; endless output ends the wait with an error. */
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
  #closed = false;
  #waiter: (() => void) | null = null;

  private constructor(client: Client, channel: ClientChannel, hostKey: string) {
    this.#client = client;
    this.#channel = channel;
    this.hostKey = hostKey;
    channel.on('data', (data: Buffer) => {
      this.#output += data.toString('utf8');
      this.#record('device', data.toString('utf8'));
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

  /**
   * @throws WireError `unreachable`, `refused`, `login-refused`, `host-key-changed`, `no-common-algorithm`, `sessions-full`,
   * `login-slow` (the handshake is done, and the login is not answered), `timeout`.
   */
  static open(target: ShellTarget): Promise<ShellSession> {
    const client = new Client();
    const where = `${target.host}:${target.port}`;
    let seenKey = '';
    let keyRefused = false;
    return new Promise<ShellSession>((resolve, reject) => {
      let settled = false;
      const fail = (error: WireError): void => {
        if (settled) return;
        settled = true;
        client.end();
        reject(error);
      };
      client.on('error', (error: Error & { level?: string; code?: string }) => {
        if (keyRefused) return fail(new WireError('host-key-changed', `${where} shows ${seenKey}, pinned is ${target.hostKey}`));
        if (error.level === 'client-authentication')
          return fail(new WireError('login-refused', `${where} refused user ${target.username}`));
        if (error.level === 'client-timeout' && seenKey !== '')
          return fail(
            new WireError('login-slow', `${where} left the login of ${target.username} unanswered for ${target.readyTimeoutMs} ms`),
          );
        if (error.level === 'client-timeout')
          return fail(new WireError('timeout', `${where} did not finish the SSH handshake in ${target.readyTimeoutMs} ms`));
        if (error.code === 'ECONNREFUSED') return fail(new WireError('refused', `${where} refused the connection`));
        if (/no matching/.test(error.message)) return fail(new WireError('no-common-algorithm', `${where}: ${error.message}`));
        if (/parse|passphrase|private key/i.test(error.message))
          return fail(new WireError('login-refused', `the private key cannot be used: ${error.message}`));
        if (seenKey === '' && (error.code === 'ECONNRESET' || /before handshake/.test(error.message))) return fail(turnedAway());
        return fail(new WireError('unreachable', `${where}: ${error.code ?? error.message}`));
      });
      const turnedAway = (): WireError =>
        new WireError(
          'sessions-full',
          `${where} accepts the connection and closes it before a login: its sessions are taken, or a filter turns us away`,
        );
      client.on('close', () => fail(seenKey === '' ? turnedAway() : new WireError('lost', `${where} closed the connection`)));
      client.on('keyboard-interactive', (_name, _instructions, _language, prompts, answer) =>
        answer(prompts.map((p) => (p.echo ? target.username : (target.password ?? '')))),
      );
      client.on('ready', () => {
        client.setNoDelay(true);
        client.shell({ term: 'dumb', cols: 200, rows: 24 }, (error, channel) => {
          if (error) {
            // RFC 4254 §5.1: resource shortage (4) and administratively prohibited (1) are how full devices answer.
            const full = /resource|prohibited|too many/i.test(error.message);
            return fail(new WireError(full ? 'sessions-full' : 'refused', `${where} gives no shell: ${error.message}`));
          }
          settled = true;
          resolve(new ShellSession(client, channel, seenKey));
        });
      });
      const connecting = () =>
        client.connect({
          host: target.host,
          port: target.port,
          username: target.username,
          password: target.password,
          ...(target.privateKey === undefined ? {} : { privateKey: target.privateKey, passphrase: target.passphrase }),
          tryKeyboard: target.password !== undefined,
          readyTimeout: target.readyTimeoutMs,
          hostVerifier: (key: Buffer) => {
            seenKey = fingerprint(key);
            keyRefused = target.hostKey !== null && target.hostKey !== seenKey;
            return !keyRefused;
          },
        });
      try {
        connecting();
      } catch (error) {
        // An unreadable private key is told at once.
        fail(new WireError('login-refused', `the private key cannot be used: ${(error as Error).message}`));
      }
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
  }

  send(text: string): void {
    if (this.#closed) throw new WireError('lost', 'the session has ended');
    this.#record('barrow', text);
    this.#channel.write(text);
  }

  /**
   * Waits until `test` finds what it looks for in the output that was not taken yet, and takes that output.
   * `test` is called whenever more has arrived.
   * @throws WireError `timeout` or `lost`, with the last words of the device.
   */
  async take<T>(
    test: (output: string) => { readonly found: T; readonly length: number } | null,
    limitMs: number,
    signal?: AbortSignal,
  ): Promise<T> {
    let timedOut = false;
    const timer = setTimeout(() => {
      timedOut = true;
      this.#waiter?.();
    }, limitMs);
    const abort = (): void => this.#waiter?.();
    signal?.addEventListener('abort', abort);
    try {
      for (;;) {
        const hit = test(this.#output);
        if (hit) {
          this.#output = this.#output.slice(hit.length);
          return hit.found;
        }
        const tail = (): string => JSON.stringify(this.#output.slice(-200));
        if (signal?.aborted) throw new WireError('cancelled', 'stopped');
        if (this.#output.length > longestOutput) throw new WireError('malformed', `the device sends without end; last: ${tail()}`);
        if (this.#closed) throw new WireError('lost', `the device ended the session; last: ${tail()}`);
        if (timedOut) throw new WireError('timeout', `nothing expected came within ${Math.round(limitMs / 100) / 10} s; last: ${tail()}`);
        await new Promise<void>((resolve) => {
          this.#waiter = resolve;
        });
        this.#waiter = null;
      }
    } finally {
      clearTimeout(timer);
      signal?.removeEventListener('abort', abort);
    }
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
    if (this.#concealed || this.#entryBytes > longestOutput) return;
    this.#entryBytes += text.length;
    const last = this.#entries[this.#entries.length - 1];
    if (last?.from === from && from === 'device') this.#entries[this.#entries.length - 1] = { ...last, text: last.text + text };
    else this.#entries.push({ at: Date.now(), from, text });
  }
}
