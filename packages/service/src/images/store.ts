import { createHash } from 'node:crypto';
import { createWriteStream, existsSync, mkdirSync, readdirSync } from 'node:fs';
import { rm, stat } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { ImageNote } from '@barrow/core';
import type { Context } from '../context.js';
import { ImageEntity, OfferEntity, type ImageRow } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import { digestOfFile } from './digest.js';
import { checkVersionsOf, examine, noClaims } from './examine.js';
import type { Member } from './unpack.js';
import { guarded } from './disk.js';

/** Keeps image files by their SHA-256, each content once. */
export class ImageStore {
  readonly #folder: string;

  constructor(private readonly context: Context) {
    this.#folder = join(context.options.dataFolder, 'images');
    mkdirSync(this.#folder, { recursive: true });
  }

  /** Contents that no image has, after the service died while it took one in, or with a database of before: they harm nobody and stay. */
  async unclaimed(): Promise<string[]> {
    const kept = new Set((await this.list()).flatMap((i) => i.files.map((f) => f.sha256)));
    return readdirSync(this.#folder).filter((name) => !kept.has(name));
  }

  pathOf(sha256: string): string {
    return join(this.#folder, sha256);
  }

  /** Receives one body into a folder. @throws Refusal; nothing of it is kept then */
  async receive(body: Readable, file: string, folder: string): Promise<Member> {
    const path = join(folder, 'body');
    const hash = createHash('sha256');
    let bytes = 0;
    const measure = async function* (source: AsyncIterable<Buffer>): AsyncGenerator<Buffer> {
      for await (const piece of source) {
        hash.update(piece);
        bytes += piece.length;
        yield piece;
      }
    };
    try {
      await guarded(() =>
        pipeline(body, measure, createWriteStream(path, { flags: 'wx', mode: 0o600, flush: true, highWaterMark: 1 << 20 })),
      );
    } catch (error) {
      if (error instanceof Refusal) throw error;
      throw new Refusal(
        400,
        'upload-broken',
        'The upload did not come to its end',
        (error as Error).message,
        'Add the file again. Nothing of it was kept.',
      );
    }
    return { file, path, bytes, sha256: hash.digest('hex') };
  }

  async list(): Promise<ImageRow[]> {
    const order = (a: string, b: string): number => (a < b ? -1 : a > b ? 1 : 0);
    return [...(await this.context.db.kept(ImageEntity))].sort(
      (a, b) => order(a.family, b.family) || order(b.version, a.version) || order(a.file, b.file),
    );
  }

  /** @throws Refusal */
  async get(nameOrDigest: string): Promise<ImageRow> {
    const all = await this.list();
    const found = all.filter(
      (i) => i.sha256 === nameOrDigest || i.file === nameOrDigest || (nameOrDigest.length >= 6 && i.sha256.startsWith(nameOrDigest)),
    );
    if (found.length === 1) return found[0]!;
    if (found.length > 1)
      throw new Refusal(
        409,
        'image-ambiguous',
        'More than one image is meant',
        `"${nameOrDigest}" fits ${found.length} images.`,
        'Give more of the digest; `barrow image list` shows them.',
      );
    throw notFound('image', nameOrDigest, '`barrow image list` shows what the store has.');
  }

  /** Re-reads the content of an image; false when any of its files is gone or no longer has its digest. */
  async isSound(image: Pick<ImageRow, 'files'>): Promise<boolean> {
    for (const file of image.files) if ((await this.#rot(file)) !== null) return false;
    return true;
  }

  /** What has happened to one file; null when it is as it was added. */
  async #rot({ sha256 }: { sha256: string }): Promise<string | null> {
    const path = this.pathOf(sha256);
    if (!existsSync(path)) return 'its file is gone';
    return (await digestOfFile(path)) === sha256 ? null : `${(await stat(path)).size} octets that no longer have the digest`;
  }

  /** Reads the whole store again, one file at a time. */
  async verify(): Promise<{ sha256: string; file: string; sound: boolean; detail: string }[]> {
    const results = [];
    for (const image of await this.list()) {
      const faults: string[] = [];
      for (const file of image.files) {
        const rot = await this.#rot(file);
        if (rot !== null) faults.push(image.files.length > 1 ? `${file.file}: ${rot}` : rot);
      }
      results.push({ sha256: image.sha256, file: image.file, sound: faults.length === 0, detail: faults.join('; ') || 'as it was added' });
    }
    return results;
  }

  /** @throws Refusal while something staged or running needs it. */
  async remove(nameOrDigest: string, neededBy: (sha256: string) => string | null): Promise<ImageRow> {
    const image = await this.get(nameOrDigest);
    const offered = await this.context.db.count(OfferEntity, { image: image.sha256 });
    const why = neededBy(image.sha256) ?? (offered > 0 ? `it is staged for ${offered} devices` : null);
    if (why !== null)
      throw new Refusal(409, 'image-needed', 'The image stays', `${image.file}: ${why}.`, 'Drop the offer or end the rollout first.');
    await this.context.db.write(async (em) => em.nativeDelete(ImageEntity, { sha256: image.sha256 }));
    // A file that another release has as well stays.
    const kept = new Set((await this.list()).flatMap((i) => i.files.map((f) => f.sha256)));
    for (const { sha256 } of image.files) if (!kept.has(sha256)) await rm(this.pathOf(sha256), { force: true });
    this.context.live.changed('images');
    return image;
  }

  /** Puts another note to an image; what its files say of themselves cannot be talked away. @throws Refusal */
  async setNote(nameOrDigest: string, given: ImageNote): Promise<ImageRow> {
    const image = await this.get(nameOrDigest);
    const members = image.files.map((f) => ({ ...f, path: this.pathOf(f.sha256) }));
    if (!(await this.isSound(image)))
      throw new Refusal(
        422,
        'image-missing',
        'The note was not taken',
        `The content of ${image.file} no longer has its digest.`,
        'Add it again from its source; that mends it.',
      );
    const differs = given.files.length > 0 && JSON.stringify(given.files) !== JSON.stringify(image.files);
    if (differs || given.version !== image.version || given.family !== image.family || given.component !== image.component)
      throw new Refusal(
        422,
        'image-contradiction',
        'The note was not taken',
        `It is of other files, another family or another version than ${image.file} (${image.family} ${image.version}).`,
        'Begin with `barrow image note IMAGE` and change what it says.',
      );
    const { note } = await examine(this.context.families, members, given, noClaims);
    checkVersionsOf(this.context.families, note, image.file);
    const { models, hardwareRevisions, variant, channel } = note;
    // What reads otherwise was read by nobody yet.
    const read = note.notes === image.note.notes ? image.read : [];
    const changed = { note, models, hardwareRevisions, variant, channel, read };
    await this.context.db.write(async (em) => em.nativeUpdate(ImageEntity, { sha256: image.sha256 }, changed));
    this.context.live.changed('images');
    return { ...image, ...changed };
  }

  /** Keeps that somebody has read the notes of an image. @throws Refusal */
  async read(nameOrDigest: string, by: string): Promise<ImageRow> {
    const image = await this.get(nameOrDigest);
    const read = [...image.read.filter((r) => r.by !== by), { by, at: Date.now() }];
    await this.context.db.write(async (em) => em.nativeUpdate(ImageEntity, { sha256: image.sha256 }, { read }));
    this.context.live.changed('images');
    return { ...image, read };
  }
}
