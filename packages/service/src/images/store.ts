import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream, existsSync, mkdirSync } from 'node:fs';
import { open, rename, rm, stat } from 'node:fs/promises';
import { basename, join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import {
  compareVersions,
  ImageHeaderError,
  longestHeader,
  mismatches,
  readImageHeader,
  readVersion,
  VersionUnreadable,
  type Image,
  type ImageHeader,
  type ImageScope,
} from '@barrow/core';
import type { Family } from '@barrow/families';
import { rfc3339, type Context } from '../context.js';
import { DeviceEntity, ImageEntity, OfferEntity, type DeviceRow, type ImageRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';

/** What the person who adds a file says of it; a contradiction with the file itself is refused. */
export interface ImageClaim {
  readonly file: string;
  readonly family: string | null;
  readonly model: string | null;
  readonly hardwareRevision: string | null;
  readonly version: string | null;
  readonly sha256: string | null;
}

/** Keeps image files by their SHA-256, each content once. */
export class ImageStore {
  readonly #folder: string;

  constructor(private readonly context: Context) {
    this.#folder = join(context.options.dataFolder, 'images');
    mkdirSync(this.#folder, { recursive: true });
  }

  pathOf(sha256: string): string {
    return join(this.#folder, sha256);
  }

  /**
   * Takes a file in: whole or not at all.
   * @throws Refusal with what differed between the file, its header, and what was said of it.
   */
  async add(body: Readable, claim: ImageClaim, by: string): Promise<{ image: ImageRow; isNew: boolean }> {
    const incoming = join(this.#folder, `incoming-${newId('i')}`);
    try {
      const received = await receive(body, incoming);
      const { header, family } = await this.#examine(incoming, received.bytes, claim);
      if (claim.sha256 !== null && claim.sha256.toLowerCase() !== received.sha256)
        throw new Refusal(
          422,
          'image-digest-differs',
          'The image is refused',
          `Its SHA-256 is ${received.sha256}, said was ${claim.sha256}.`,
          'The file was damaged or replaced on its way. Fetch it again from its source.',
        );
      const found = await this.context.db.findOne(ImageEntity, { sha256: received.sha256 });
      if (found) return { image: found, isNew: false };
      await this.#refuseTwin(header, family, received.sha256);
      await rename(incoming, this.pathOf(received.sha256));
      const image: ImageRow = {
        sha256: received.sha256,
        file: basename(claim.file),
        family: family.family,
        maker: header.maker,
        models: header.models,
        hardwareRevisions: header.hardwareRevisions,
        variant: header.variant,
        version: readVersion(family.versions, header.version).canonical,
        bytes: received.bytes,
        addedAt: Date.now(),
        addedBy: by,
      } as ImageRow;
      await this.context.db.write(async (em) => em.insert(ImageEntity, image));
      this.context.live.changed('images');
      return { image, isNew: true };
    } finally {
      await rm(incoming, { force: true });
    }
  }

  async #examine(path: string, bytes: number, claim: ImageClaim): Promise<{ header: ImageHeader; family: Family }> {
    const refuse = (code: string, detail: string, next: string): never => {
      throw new Refusal(422, code, 'The image is refused', detail, next);
    };
    if (bytes === 0) refuse('image-empty', 'The file is empty.', 'Fetch it again from its source.');
    let header: ImageHeader;
    let payloadOffset: number;
    try {
      const file = await open(path);
      try {
        const start = Buffer.alloc(Math.min(bytes, longestHeader + 10));
        await file.read(start, 0, start.length, 0);
        ({ header, payloadOffset } = readImageHeader(start));
      } finally {
        await file.close();
      }
    } catch (error) {
      if (!(error instanceof ImageHeaderError)) throw error;
      return refuse(
        error.code,
        `${claim.file}: ${error.message}.`,
        'Check that this is the image itself and not an archive or a page that holds it.',
      );
    }
    const again = 'The file was damaged on its way. Fetch it again from its source.';
    if (bytes - payloadOffset !== header.payloadBytes)
      refuse(
        'image-truncated',
        `${claim.file}: its header tells of ${header.payloadBytes} octets, it has ${bytes - payloadOffset}.`,
        again,
      );
    const digest = await digestOfFile(path, payloadOffset);
    if (digest !== header.payloadSha256)
      refuse('image-damaged', `${claim.file}: its header tells SHA-256 ${header.payloadSha256}, the content has ${digest}.`, again);
    const family = [...this.context.families.values()].find(
      (f) => f.maker === header.maker && header.models.some((m) => f.models.some((known) => known.model === m)),
    );
    if (!family)
      return refuse(
        'image-for-unknown-model',
        `${claim.file} is for ${header.maker} ${header.models.join(', ')}; no family here has such a model.`,
        'Check that it is the right file; `barrow family list` shows the models that Barrow can upgrade.',
      );
    const said: [string, string | null, readonly string[]][] = [
      ['family', claim.family, [family.family]],
      ['model', claim.model, header.models],
      ['hardware revision', claim.hardwareRevision, header.hardwareRevisions],
    ];
    for (const [what, wanted, has] of said)
      if (wanted !== null && !has.includes(wanted))
        refuse(
          'image-contradiction',
          `You said ${what} ${wanted}; the file says ${has.join(', ')}.`,
          'Take the file for the hardware you have, or leave the option away to believe the file.',
        );
    try {
      readVersion(family.versions, header.version);
      if (claim.version !== null && compareVersions(family.versions, claim.version, header.version) !== 0)
        refuse(
          'image-contradiction',
          `You said version ${claim.version}; the file says ${header.version}.`,
          'Check which release the file is.',
        );
    } catch (error) {
      if (error instanceof VersionUnreadable)
        refuse('version-unreadable', `${claim.file}: ${error.message}.`, 'Check the version that you gave, or the family file.');
      throw error;
    }
    return { header, family };
  }

  /** Two contents that claim one version for the same hardware cannot both be it. */
  async #refuseTwin(header: ImageHeader, family: Family, sha256: string): Promise<void> {
    const version = readVersion(family.versions, header.version).canonical;
    const others = await this.context.db.find(ImageEntity, { family: family.family, version });
    const twin = others.find(
      (o) =>
        o.variant === header.variant &&
        o.models.some((m) => header.models.includes(m)) &&
        o.hardwareRevisions.some((r) => header.hardwareRevisions.includes(r)),
    );
    if (twin)
      throw new Refusal(
        409,
        'image-claims-taken-version',
        'The image is refused',
        `${twin.file} (${twin.sha256.slice(0, 12)}…) is already version ${version} for this hardware, with other content than ${sha256.slice(0, 12)}….`,
        'One of the two is not what it claims. Find out which, and remove the wrong one with `barrow image remove`.',
      );
  }

  async list(): Promise<ImageRow[]> {
    return this.context.db.find(ImageEntity, {}, { orderBy: { family: 'asc', version: 'desc', file: 'asc' } });
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

  /** Re-reads the content; false when it is gone or no longer has its digest. */
  async isSound(sha256: string): Promise<boolean> {
    return existsSync(this.pathOf(sha256)) && (await digestOfFile(this.pathOf(sha256), 0)) === sha256;
  }

  async verify(): Promise<{ sha256: string; file: string; sound: boolean; detail: string }[]> {
    const results = [];
    for (const image of await this.list()) {
      const there = existsSync(this.pathOf(image.sha256));
      const sound = there && (await this.isSound(image.sha256));
      results.push({
        sha256: image.sha256,
        file: image.file,
        sound,
        detail: sound
          ? 'as it was added'
          : there
            ? `${(await stat(this.pathOf(image.sha256))).size} octets that no longer have the digest`
            : 'its file is gone',
      });
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
    await rm(this.pathOf(image.sha256), { force: true });
    this.context.live.changed('images');
    return image;
  }

  async views(images: readonly ImageRow[]): Promise<Image[]> {
    const devices = await this.context.db.find(DeviceEntity, { family: { $in: [...new Set(images.map((i) => i.family))] } });
    // Devices of one hardware count together, so that this stays linear in both.
    const groups = new Map<string, { device: DeviceRow; count: number }>();
    for (const device of devices) {
      const key = [device.family, device.model, device.hardwareRevision, device.variant].join('|');
      const group = groups.get(key);
      if (group) group.count++;
      else groups.set(key, { device, count: 1 });
    }
    return images.map((image) => {
      let fits = 0;
      for (const { device, count } of groups.values()) if (mismatches(image as ImageScope, device).length === 0) fits += count;
      const { sha256, file, family, maker, models, hardwareRevisions, variant, version, bytes, addedBy } = image;
      return {
        sha256,
        file,
        family,
        maker,
        models,
        hardwareRevisions,
        variant,
        version,
        bytes,
        addedBy,
        addedAt: rfc3339(image.addedAt),
        fits,
      };
    });
  }
}

async function receive(body: Readable, path: string): Promise<{ sha256: string; bytes: number }> {
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
    await pipeline(body, measure, createWriteStream(path, { flags: 'wx', mode: 0o600, flush: true }));
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOSPC')
      throw new Refusal(
        413,
        'store-full',
        'The image is refused',
        'The disk of the store is full.',
        'Make room in the data folder and add it again. Nothing of it was kept.',
      );
    throw new Refusal(
      400,
      'upload-broken',
      'The upload did not come to its end',
      (error as Error).message,
      'Add the file again. Nothing of it was kept.',
    );
  }
  return { sha256: hash.digest('hex'), bytes };
}

async function digestOfFile(path: string, from: number): Promise<string> {
  const hash = createHash('sha256');
  for await (const chunk of createReadStream(path, { start: from, highWaterMark: 1 << 20 })) hash.update(chunk as Buffer);
  return hash.digest('hex');
}
