import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import type { Readable, Writable } from 'node:stream';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { Client, ClientChannel, SFTPWrapper } from 'ssh2';
import { WireError } from '../errors.js';
import type { PushedFile } from '../http/upload.js';
import { throttle } from '../http/file-server.js';
import type { ContentDigest } from '../http/content-digest.js';
import type { SharedLink } from '../pacer.js';
import { connectSsh, type ShellTarget } from './connect.js';

/** A place on another machine that is filled over SSH. */
export class SshPlace {
  private constructor(
    private readonly client: Client,
    readonly hostKey: string,
    private readonly where: string,
  ) {}

  /** @throws WireError as a shell session does. */
  static async open(target: ShellTarget): Promise<SshPlace> {
    const { client, hostKey } = await connectSsh(target);
    return new SshPlace(client, hostKey, `${target.host}:${target.port}`);
  }

  close(): void {
    this.client.end();
  }

  /**
   * Writes a file by SFTP, beside its name first and then into its place, so that nobody fetches half of it. What of an
   * earlier try is there is gone on from.
   * @throws WireError `refused` with the server's words, `lost`.
   */
  async put(file: PushedFile, to: string, use: { link?: SharedLink | null; onSent?: (octets: number) => void } = {}): Promise<void> {
    const sftp = await this.#sftp();
    const half = `${to}.part`;
    try {
      const there = await stat(sftp, half);
      const start = there !== null && there < file.bytes ? there : 0;
      const into = sftp.createWriteStream(half, start > 0 ? { flags: 'r+', start } : { flags: 'w' });
      await this.#pour(file, into as unknown as Writable, { ...use, start });
      await this.#ask<void>((done) => sftp.unlink(to, () => done(undefined)));
      await this.#ask<void>((done) => sftp.rename(half, to, done));
    } catch (error) {
      throw this.#fault(error, to);
    } finally {
      sftp.end();
    }
  }

  /** Writes a file as `scp` does: the sink of the remote copy protocol, each record acknowledged with a zero octet. */
  async copy(file: PushedFile, to: string, use: { link?: SharedLink | null; onSent?: (octets: number) => void } = {}): Promise<void> {
    try {
      const channel = await this.#ask<ClientChannel>((done) => this.client.exec(`scp -t ${quote(to)}`, done));
      const answers = answersOf(channel);
      await answers.good();
      channel.write(`C0644 ${file.bytes} ${file.name.replace(/[\r\n/]/g, '_')}\n`);
      await answers.good();
      await this.#pour(file, channel, { ...use, start: 0, keepOpen: true });
      channel.write(Buffer.of(0));
      await answers.good();
      channel.end();
    } catch (error) {
      throw this.#fault(error, to);
    }
  }

  /** The SHA-256 of a file there: by the other side's own `sha256sum` where it has one, or else by reading it back. null: no such file. */
  async digest(path: string): Promise<ContentDigest | null> {
    const sftp = await this.#sftp();
    try {
      const bytes = await stat(sftp, path);
      if (bytes === null) return null;
      const told = await this.#run(`sha256sum -- ${quote(path)}`).catch(() => '');
      const [, sum] = /^\\?([0-9a-f]{64})\s/.exec(told) ?? [];
      if (sum) return { sha256: sum, bytes, how: 'told' };
      const hash = createHash('sha256');
      for await (const part of sftp.createReadStream(path) as unknown as Readable) hash.update(part as Buffer);
      return { sha256: hash.digest('hex'), bytes, how: 'read' };
    } catch (error) {
      throw this.#fault(error, path);
    } finally {
      sftp.end();
    }
  }

  async remove(path: string): Promise<void> {
    const sftp = await this.#sftp();
    try {
      await this.#ask<void>((done) => sftp.unlink(path, done));
    } catch (error) {
      throw this.#fault(error, path);
    } finally {
      sftp.end();
    }
  }

  async #run(command: string): Promise<string> {
    const channel = await this.#ask<ClientChannel>((done) => this.client.exec(command, done));
    let out = '';
    channel.on('data', (d: Buffer) => {
      if (out.length < 4096) out += d.toString('utf8');
    });
    await new Promise<void>((resolve) => channel.once('close', () => resolve()));
    return out;
  }

  #sftp(): Promise<SFTPWrapper> {
    return this.#ask<SFTPWrapper>((done) => this.client.sftp(done)).catch((error: unknown) => {
      throw new WireError('refused', `${this.where} gives no SFTP: ${(error as Error).message}`);
    });
  }

  #ask<T>(call: (done: (error: Error | null | undefined, value?: T) => void) => unknown): Promise<T> {
    return new Promise((resolve, reject) => {
      const closed = (): void => reject(new WireError('lost', `${this.where} closed the connection`));
      this.client.once('close', closed);
      call((error, value) => {
        this.client.off('close', closed);
        if (error) reject(error);
        else resolve(value as T);
      });
    });
  }

  async #pour(
    file: PushedFile,
    into: Writable,
    use: { link?: SharedLink | null; onSent?: (octets: number) => void; start: number; keepOpen?: boolean },
  ): Promise<void> {
    let sent = use.start;
    const counted = new Transform({
      transform(chunk: Buffer, _encoding, done) {
        sent += chunk.length;
        use.onSent?.(sent);
        done(null, chunk);
      },
    });
    const content = createReadStream(file.path, { start: use.start, highWaterMark: 64 * 1024 });
    const options = { end: use.keepOpen !== true };
    if (use.link) await pipeline(content, throttle(use.link), counted, into, options);
    else await pipeline(content, counted, into, options);
  }

  #fault(error: unknown, path: string): WireError {
    if (error instanceof WireError) return error;
    return new WireError('refused', `${this.where}, ${path}: ${(error as Error).message}`);
  }
}

const quote = (text: string): string => `'${text.replace(/'/g, `'\\''`)}'`;

/** The size of a file; null when there is none. */
function stat(sftp: SFTPWrapper, path: string): Promise<number | null> {
  return new Promise((resolve) => sftp.stat(path, (error, found) => resolve(error ? null : found.size)));
}

/** Reads the sink's answers one by one: 0 is well, 1 and 2 bring a line with what is wrong. */
function answersOf(channel: ClientChannel): { good: () => Promise<void> } {
  let seen = Buffer.alloc(0);
  let ended = false;
  let wake: (() => void) | null = null;
  channel.on('data', (d: Buffer) => {
    seen = Buffer.concat([seen, d]).subarray(-4096);
    wake?.();
  });
  channel.stderr.on('data', (d: Buffer) => {
    seen = Buffer.concat([seen, Buffer.of(1), d]).subarray(-4096);
    wake?.();
  });
  channel.once('close', () => {
    ended = true;
    wake?.();
  });
  return {
    async good() {
      for (;;) {
        if (seen.length > 0) {
          const code = seen[0]!;
          if (code === 0) {
            seen = seen.subarray(1);
            return;
          }
          const end = seen.indexOf(10);
          if (end > 0 || ended) throw new Error(seen.toString('utf8', 1, end > 0 ? end : undefined));
        } else if (ended) throw new Error('the other side ended the copy');
        await new Promise<void>((resolve) => (wake = resolve));
      }
    },
  };
}
