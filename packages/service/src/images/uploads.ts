import { mkdirSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs';
import { rename, rm, stat, truncate, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { z } from 'zod';
import { imageMagic, type Upload } from '@barrow/core';
import type { Context } from '../context.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import { digestOfFile } from './digest.js';
import { guarded, roomAt, writeThrough } from './disk.js';
import { knownSum, sumFor, type Sum } from './sum.js';
import type { Member } from './unpack.js';

const sessionSchema = z.object({ id: z.string(), file: z.string(), bytes: z.number(), key: z.string(), by: z.string() });
type Session = z.infer<typeof sessionSchema>;

/** What was received of one upload. */
export interface Received extends Member {
  readonly id: string;
}

/** The digests of what has come so far. */
interface Digesting {
  readonly whole: Sum;
  /** Of what follows a header that tells where its content begins, so that a large file need not be read a second time. */
  readonly content: { readonly offset: number; readonly sum: Sum } | null;
  at: number;
}

function beginDigest(first: Buffer, bytes: number): Digesting {
  const hasHeader = first.length >= 10 && first.toString('latin1', 0, imageMagic.length) === imageMagic;
  return {
    whole: sumFor(bytes),
    content: hasHeader ? { offset: 10 + first.readUInt32BE(imageMagic.length), sum: sumFor(bytes) } : null,
    at: 0,
  };
}

/** Takes the next piece into the digests, and waits while they are behind. */
async function digestPiece(digesting: Digesting, piece: Buffer): Promise<void> {
  const { content, at, whole } = digesting;
  digesting.at = at + piece.length;
  const ofWhole = whole.add(piece);
  if (content && at + piece.length > content.offset) await content.sum.add(piece.subarray(Math.max(0, content.offset - at)));
  await ofWhole;
}

/** The digests of a file that is whole: told once, and nothing is held for them any longer. */
async function settled(digesting: Digesting): Promise<Digesting> {
  const { whole, content, at } = digesting;
  const known: Digesting = {
    whole: knownSum(await whole.digest()),
    content: content && { offset: content.offset, sum: knownSum(await content.sum.digest()) },
    at,
  };
  endDigest(digesting);
  return known;
}

function endDigest(digesting: Digesting | undefined): void {
  digesting?.whole.end();
  digesting?.content?.sum.end();
}

/** Days after which an upload that nobody went on with is forgotten. */
const forgottenAfterMs = 7 * 86_400_000;

/** Files on their way in. What was received stays over a broken connection and a restart, until it is taken or dropped. */
export class Uploads {
  readonly #folder: string;
  readonly #sessions = new Map<string, Session>();
  readonly #busy = new Set<string>();
  /** The digest of what came so far, while the service that began it still runs. */
  readonly #hashes = new Map<string, Digesting>();

  constructor(private readonly context: Context) {
    this.#folder = join(context.options.dataFolder, 'incoming');
    mkdirSync(this.#folder, { recursive: true, mode: 0o700 });
    const known = new Set<string>();
    for (const name of readdirSync(this.#folder))
      if (name.endsWith('.json')) {
        const path = join(this.#folder, name);
        const read = sessionSchema.safeParse(readJson(path));
        if (!read.success || Date.now() - statSync(path).mtimeMs > forgottenAfterMs) continue;
        this.#sessions.set(read.data.id, read.data);
        known.add(read.data.id);
      }
    for (const name of readdirSync(this.#folder))
      if (!known.has(name.replace(/\.(json|part)$/, ''))) rmSync(join(this.#folder, name), { force: true, recursive: true });
  }

  #path(id: string): string {
    return join(this.#folder, `${id}.part`);
  }

  /** A folder of its own beside the uploads, for what is unpacked. */
  scratch(): string {
    const folder = join(this.#folder, newId('x'));
    mkdirSync(folder, { mode: 0o700 });
    return folder;
  }

  /** Begins an upload, or finds the one that the same person began of the same file. */
  async begin(file: string, bytes: number, key: string, by: string): Promise<Upload> {
    const found = [...this.#sessions.values()].find((s) => s.key === key && s.by === by && s.file === file && s.bytes === bytes);
    if (found) {
      // Somebody may be taking it just now: then this one begins afresh.
      const seen = await this.view(found.id).catch((error: unknown) => {
        if (error instanceof Refusal && error.status === 404) return null;
        throw error;
      });
      if (seen) return seen;
    }
    await this.#needRoom(file, bytes);
    const session: Session = { id: newId('u'), file, bytes, key, by };
    const note = join(this.#folder, `${session.id}.json`);
    await guarded(async () => {
      await writeFile(`${note}.new`, JSON.stringify(session), { mode: 0o600 });
      await rename(`${note}.new`, note);
      await writeFile(this.#path(session.id), '', { mode: 0o600 });
    });
    this.#sessions.set(session.id, session);
    return this.view(session.id);
  }

  /** What is promised to everybody together must have room, and the service needs some itself. @throws Refusal */
  async #needRoom(file: string, bytes: number): Promise<void> {
    let promised = 0;
    for (const session of this.#sessions.values()) promised += Math.max(0, session.bytes - (await this.#size(session.id).catch(() => 0)));
    const { free, reserve } = await roomAt(this.#folder);
    if (bytes + promised + reserve <= free) return;
    throw new Refusal(
      413,
      'store-full',
      'There is no room for it',
      `${file} has ${bytes} octets, ${promised} more are on their way, and ${reserve} are kept free for the service; the disk has ${free} left.`,
      'Make room on the disk of the data folder: `barrow image remove` takes away what nothing needs.',
    );
  }

  #gone(id: string): Refusal {
    return notFound('upload', id, 'Begin it anew: it was taken, dropped or forgotten after a week.');
  }

  /** @throws Refusal */
  #session(id: string): Session {
    const found = this.#sessions.get(id);
    if (!found) throw this.#gone(id);
    return found;
  }

  /** How much has come. @throws Refusal when it was dropped meanwhile */
  async #size(id: string): Promise<number> {
    try {
      return (await stat(this.#path(id))).size;
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error;
      throw this.#gone(id);
    }
  }

  async view(id: string): Promise<Upload> {
    const { file, bytes, key } = this.#session(id);
    const size = await this.#size(id);
    const receivedSha256 = size === 0 ? null : await this.#digestSoFar(id, size);
    return { id, file, bytes, key, received: size, receivedSha256 };
  }

  async #digestSoFar(id: string, size: number): Promise<string> {
    const kept = this.#hashes.get(id);
    if (kept?.at === size) return kept.whole.digest();
    // More may come, or all of it be taken, while it is read.
    return digestOfFile(this.#path(id), { bytes: size }).catch((error: unknown) => {
      throw (error as NodeJS.ErrnoException).code === 'ENOENT' ? this.#gone(id) : error;
    });
  }

  /**
   * Appends what the body brings at `offset`, which must be what was received. What arrived before a break stays.
   * @throws Refusal
   */
  async append(id: string, offset: number, body: Readable): Promise<Upload> {
    const session = this.#session(id);
    if (this.#busy.has(id))
      throw new Refusal(
        409,
        'upload-busy',
        'The upload was not taken up',
        `${session.file} is being received on another connection.`,
        'Wait for the other one to end, or give the upload a key of its own.',
      );
    this.#busy.add(id);
    try {
      const path = this.#path(id);
      const size = await this.#size(id);
      if (offset !== size)
        throw new Refusal(
          409,
          'upload-offset',
          'The upload was not taken up',
          `It goes on at octet ${size}, not at ${offset}.`,
          'Ask how much was received, and go on from there.',
        );
      const kept = this.#hashes.get(id);
      // After a restart the digest so far is not known; it is read again when the whole is there.
      let digesting = size > 0 && kept?.at === size ? kept : null;
      let at = size;
      const measure = async function* (source: AsyncIterable<Buffer>): AsyncGenerator<Buffer> {
        for await (const piece of source) {
          if (at + piece.length > session.bytes)
            throw new Refusal(
              422,
              'upload-too-long',
              'The upload is refused',
              `${session.file} has more than the ${session.bytes} octets that were announced.`,
              'Begin it anew; the file may have changed while it was read.',
            );
          if (at === 0) digesting = beginDigest(piece, session.bytes);
          if (digesting) await digestPiece(digesting, piece);
          at += piece.length;
          yield piece;
        }
      };
      try {
        await guarded(() => writeThrough(path, size, (file) => pipeline(body, measure, file)));
      } catch (error) {
        const written = await this.#size(id);
        endDigest(digesting ?? undefined);
        this.#hashes.delete(id);
        if (error instanceof Refusal) {
          if (error.code === 'store-full') await this.drop(id);
          else if (written > session.bytes) await truncate(path, size);
          throw error;
        }
        throw new Refusal(
          400,
          'upload-broken',
          'The upload did not come to its end',
          `${session.file}: ${(error as Error).message}; ${written} of ${session.bytes} octets are here.`,
          'Send it again: it goes on where it ended.',
        );
      }
      // What a lost thread would have told is read from the file when it is needed.
      const known = digesting && at === session.bytes ? await settled(digesting).catch(() => null) : digesting;
      if (known) this.#hashes.set(id, known);
      else this.#hashes.delete(id);
      return await this.view(id);
    } finally {
      this.#busy.delete(id);
    }
  }

  /** The whole of an upload. @throws Refusal while something of it is missing */
  async whole(id: string): Promise<Received> {
    const { file, bytes } = this.#session(id);
    const path = this.#path(id);
    const size = await this.#size(id);
    if (size !== bytes || this.#busy.has(id))
      throw new Refusal(
        422,
        'upload-incomplete',
        'The image is refused',
        `${file}: ${size} of ${bytes} octets have come.`,
        'Send the rest; the upload goes on where it ended.',
      );
    const content = this.#hashes.get(id)?.content ?? null;
    return {
      id,
      file,
      path,
      bytes,
      sha256: await this.#digestSoFar(id, size),
      content: content && { offset: content.offset, sha256: await content.sum.digest() },
    };
  }

  /** Forgets an upload and what came of it. */
  async drop(id: string): Promise<void> {
    this.#sessions.delete(id);
    endDigest(this.#hashes.get(id));
    this.#hashes.delete(id);
    await rm(this.#path(id), { force: true });
    await rm(join(this.#folder, `${id}.json`), { force: true });
  }
}

function readJson(path: string): unknown {
  try {
    return JSON.parse(readFileSync(path, 'utf8'));
  } catch {
    return null;
  }
}
