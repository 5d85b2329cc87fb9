import { readFile, rename, rm } from 'node:fs/promises';
import { existsSync } from 'node:fs';
import type { Readable } from 'node:stream';
import {
  digestKind,
  digestNames,
  isChecksumName,
  isNoteName,
  isWeakDigest,
  noteNameOf,
  NoteUnreadable,
  readChecksums,
  ChecksumsUnreadable,
  readNote,
  sayingsOfName,
  type Checksum,
  type ImageNote,
} from '@barrow/core';
import type { Context } from '../context.js';
import { ImageEntity, type ImageRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import { digestOfFile } from './digest.js';
import { checkVersionsOf, examine, noClaims, readStart, refuseImage, type Claims, type Release } from './examine.js';
import { releaseDigest } from './rows.js';
import type { ImageStore } from './store.js';
import { archiveKind, unpack, type Member } from './unpack.js';
import { guarded } from './disk.js';
import type { Received, Uploads } from './uploads.js';

export interface TakeWishes extends Claims {
  readonly oneRelease: boolean;
  /** A digest that the source published of the one file (or archive). */
  readonly digest: string | null;
  /** The text of a checksum file. */
  readonly checksums: string | null;
  /** An archive is what the device takes, and is not unpacked. */
  readonly asIs: boolean;
}
export const noWishes: TakeWishes = { ...noClaims, oneRelease: false, digest: null, checksums: null, asIs: false };

export interface TakenImages {
  readonly images: readonly { readonly row: ImageRow; readonly isNew: boolean }[];
  readonly remarks: readonly string[];
}

const fileNameFits = /^[A-Za-z0-9][A-Za-z0-9._+-]{0,127}$/;
const longestText = 1_000_000;

/** Takes files in: whole or not at all, whatever they came as. */
export class Intake {
  /** Two that claim the same are settled one after the other. */
  #turn: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly context: Context,
    private readonly store: ImageStore,
    readonly uploads: Uploads,
  ) {}

  /** Takes what was uploaded. Uploads that are refused for what they are go; those that are incomplete stay. @throws Refusal */
  async take(ids: readonly string[], wishes: TakeWishes, by: string): Promise<TakenImages> {
    const received: Received[] = [];
    for (const id of new Set(ids)) received.push(await this.uploads.whole(id));
    try {
      return await this.#takeMembers(received, wishes, by);
    } finally {
      for (const { id } of received) await this.uploads.drop(id);
    }
  }

  /** Takes one body that comes at once. @throws Refusal */
  async receive(body: Readable, file: string, wishes: TakeWishes, by: string): Promise<TakenImages> {
    const folder = this.uploads.scratch();
    try {
      return await this.#takeMembers([await this.store.receive(body, file, folder)], wishes, by);
    } finally {
      await rm(folder, { recursive: true, force: true });
    }
  }

  async #takeMembers(sources: readonly Member[], wishes: TakeWishes, by: string): Promise<TakenImages> {
    const folder = this.uploads.scratch();
    try {
      const remarks: string[] = [];
      const { images, notes, checksums, loose, unpacked } = await this.#sort(sources, folder, remarks, wishes.asIs);
      const compared = await this.#compareDigests(sources, [...sources, ...unpacked], wishes, checksums, remarks);
      // A note that tells the digest of its files was compared with them as well.
      const told = notes.flatMap((n) => n.note.files.map((f) => f.sha256));
      const releases = await this.#releases(images, notes, wishes, remarks);
      if (releases.length === 0)
        throw refuseImage(
          'image-foreign',
          `${sources.map((s) => s.file).join(', ')}: there is no image in it${loose.length > 0 ? `; it holds ${loose.slice(0, 5).join(', ')}` : ''}.`,
          'Check that it is the right file.',
        );
      for (const file of loose) remarks.push(`${file} is no image, and was left out`);
      return { images: await this.commit(releases, by, { ...compared, strong: new Set([...compared.strong, ...told]) }), remarks };
    } finally {
      await rm(folder, { recursive: true, force: true });
    }
  }

  /** Unpacks archives and parts images, notes, checksum files and the rest. */
  async #sort(sources: readonly Member[], folder: string, remarks: string[], asIs: boolean) {
    const images: Member[] = [];
    const notes: { member: Member; note: ImageNote }[] = [];
    const checksums: Checksum[] = [];
    const loose: string[] = [];
    const all: Member[] = [];
    const text = async (member: Member): Promise<string> => {
      if (member.bytes > longestText)
        throw refuseImage('note-unreadable', `${member.file} is longer than a megabyte.`, 'Check what it is.');
      return readFile(member.path, 'utf8');
    };
    const sortOne = async (member: Member, unpacked: boolean): Promise<void> => {
      if (isNoteName(member.file)) {
        try {
          notes.push({ member, note: readNote(await text(member)) });
        } catch (error) {
          if (!(error instanceof NoteUnreadable)) throw error;
          throw refuseImage(
            'note-unreadable',
            `${member.file}: ${error.message}.`,
            'Mend the note; docs/images.md tells what stands in it.',
          );
        }
      } else if (isChecksumName(member.file) && member.bytes < longestText) {
        checksums.push(...checksumsOf(await text(member), member.file));
      } else if (!unpacked || (await this.#isImage(member))) {
        if (!fileNameFits.test(member.file))
          throw refuseImage(
            'file-name-unfit',
            `"${member.file}" is no name that a device could ask for.`,
            'Use letters, digits, dots, hyphens, underscores and plus signs, at most 128.',
          );
        images.push(member);
      } else loose.push(member.file);
    };
    for (const source of sources) {
      const kind = source.bytes === 0 ? null : await archiveKind(source.path);
      // Some devices take an archive whole: their family knows its name, or a person says so.
      const isRelease = kind !== null && (asIs || sayingsOfName(this.context.families.values(), source.file).length > 0);
      if (isRelease) remarks.push(`${source.file} was taken as it is, and not unpacked`);
      if (!kind || isRelease) {
        await sortOne(isRelease ? { ...source, asIs: true } : source, false);
        continue;
      }
      const members = await unpack(kind, source, folder);
      remarks.push(`${source.file} was unpacked: ${members.length} ${members.length === 1 ? 'file' : 'files'}`);
      all.push(...members);
      for (const member of members) await sortOne(member, true);
    }
    return { images, notes, checksums, loose, unpacked: all };
  }

  async #isImage(member: Member): Promise<boolean> {
    if (sayingsOfName(this.context.families.values(), member.file).length > 0) return true;
    return member.bytes > 0 && (await readStart(member)).header !== null;
  }

  /** Compares what came with what its source published. @throws Refusal where it differs */
  async #compareDigests(
    sources: readonly Member[],
    all: readonly Member[],
    wishes: TakeWishes,
    found: readonly Checksum[],
    remarks: string[],
  ): Promise<Compared> {
    const wanted = [...found, ...(wishes.checksums === null ? [] : checksumsOf(wishes.checksums, 'the checksum file'))];
    if (wishes.digest !== null) {
      const kind = digestKind(wishes.digest);
      if (kind === null)
        throw refuseImage(
          'digest-malformed',
          `"${wishes.digest}" is no digest.`,
          `Give one of ${digestNames.join(', ')} in hexadecimal digits.`,
        );
      const files = sources.filter((s) => !isNoteName(s.file) && !isChecksumName(s.file));
      if (files.length !== 1)
        throw refuseImage('digest-malformed', `One digest was given for ${files.length} files.`, 'Give a checksum file that names them.');
      wanted.push({ file: files[0]!.file, kind, digest: wishes.digest.toLowerCase() });
    }
    const byName = new Map(all.map((m) => [m.file, m]));
    const strong = new Set<string>();
    const weak = new Map<string, string>();
    for (const { file, kind, digest } of wanted) {
      const member = byName.get(file);
      if (!member) {
        remarks.push(`a checksum names ${file}, which did not come`);
        continue;
      }
      const is = kind === 'sha256' ? member.sha256 : await digestOfFile(member.path, { kind });
      if (is !== digest)
        throw refuseImage(
          'image-digest-differs',
          `${file}: its ${kindWord[kind]} is ${is}, published was ${digest}.`,
          'The file was damaged or replaced on its way. Fetch it again from its source.',
        );
      if (isWeakDigest(kind)) weak.set(file, kindWord[kind]);
      else strong.add(file);
    }
    for (const [file, kind] of weak)
      if (!strong.has(file)) remarks.push(`${file} was compared by ${kind} only, which shows damage and no forgery`);
    const digests = (files: Iterable<string>): Set<string> => new Set([...files].map((file) => byName.get(file)!.sha256));
    return { strong: digests(strong), weak: digests(weak.keys()) };
  }

  async #releases(
    images: readonly Member[],
    notes: readonly { member: Member; note: ImageNote }[],
    wishes: TakeWishes,
    remarks: string[],
  ): Promise<Release[]> {
    const left = new Map(images.map((m) => [m.file, m]));
    const groups: { files: Member[]; note: ImageNote | null }[] = [];
    for (const { member, note } of notes) {
      const names = note.files.length > 0 ? note.files.map((f) => f.file) : [member.file.replace(/\.note\.json$/, '')];
      const files = names.map((name) => left.get(name));
      const missing = names.filter((_, i) => !files[i]);
      if (missing.length > 0) {
        if (missing.length === names.length && images.length > 0 && !names.includes(member.file.replace(/\.note\.json$/, ''))) {
          remarks.push(`${member.file} is about ${names.join(', ')}, which did not come`);
          continue;
        }
        throw refuseImage(
          'release-incomplete',
          `${member.file} tells of ${names.length} ${names.length === 1 ? 'file' : 'files'}; ${missing.join(', ')} did not come.`,
          'Add all files of the release together.',
        );
      }
      for (const told of note.files) {
        const file = left.get(told.file)!;
        if (file.sha256 !== told.sha256 || file.bytes !== told.bytes)
          throw refuseImage(
            'image-contradiction',
            `${told.file}: its note tells of SHA-256 ${told.sha256} and ${told.bytes} octets, the file has ${file.sha256} and ${file.bytes}.`,
            'The note is of another file, or the file was damaged. Fetch both again from their source.',
          );
      }
      for (const name of names) left.delete(name);
      groups.push({ files: files as Member[], note });
    }
    if (wishes.oneRelease && (groups.length > 0 ? left.size > 0 || groups.length > 1 : false))
      throw refuseImage(
        'release-incomplete',
        `All files were to make one release; the notes tell of ${groups.length}, and of ${left.size} files nothing.`,
        'Add them one release at a time, or give one note that names all files.',
      );
    if (wishes.oneRelease && left.size > 0) groups.push({ files: [...left.values()], note: null });
    else for (const file of left.values()) groups.push({ files: [file], note: null });
    const releases: Release[] = [];
    for (const { files, note } of groups) {
      // A person's word about one release says nothing of another that came along.
      const claims = groups.length === 1 ? wishes : { ...noClaims, family: wishes.family, channel: wishes.channel };
      const release = await examine(this.context.families, files, note, claims);
      checkVersionsOf(this.context.families, release.note, note ? noteNameOf(files[0]!.file) : files[0]!.file);
      releases.push(release);
    }
    return releases;
  }

  #inTurn<T>(work: () => Promise<T>): Promise<T> {
    const done = this.#turn.then(work, work);
    this.#turn = done.catch(() => undefined);
    return done;
  }

  /** Keeps releases that were examined, all or none. @throws Refusal when one claims what another is */
  commit(releases: readonly Release[], by: string, compared: Compared): Promise<{ row: ImageRow; isNew: boolean }[]> {
    return this.#inTurn(() => this.#commit(releases, by, compared));
  }

  /** Moves the contents to their place and writes the rows, all or nothing. */
  async #commit(releases: readonly Release[], by: string, compared: Compared): Promise<{ row: ImageRow; isNew: boolean }[]> {
    const { db } = this.context;
    const here = await db.find(ImageEntity, { family: { $in: [...new Set(releases.map((r) => r.family.family))] } });
    const result: { row: ImageRow; isNew: boolean }[] = [];
    const fresh: ImageRow[] = [];
    const better: Pick<ImageRow, 'sha256' | 'compared'>[] = [];
    const known = new Map(here.map((h) => [h.sha256, h]));
    const twins = new Twins(here);
    for (const release of releases) {
      const row = rowOf(release, by, comparedBy(release, compared));
      const same = known.get(row.sha256);
      if (same) {
        result.push({ row: same, isNew: false });
        // Added once more with what was published, it is compared from then on.
        if (row.compared !== null && same.compared !== 'strong' && row.compared !== same.compared)
          better.push({ sha256: row.sha256, compared: row.compared });
        continue;
      }
      twins.refuse(row);
      twins.add(row);
      known.set(row.sha256, row);
      fresh.push(row);
      result.push({ row, isNew: true });
    }
    const placed: string[] = [];
    try {
      for (const release of releases)
        for (const file of release.files) {
          if (!existsSync(file.path)) continue;
          const place = this.store.pathOf(file.sha256);
          if (!existsSync(place)) placed.push(place);
          // What is there under this digest may have rotted; what has just come has the digest.
          await guarded(() => rename(file.path, place));
        }
      if (fresh.length > 0) await db.write(async (em) => em.insertMany(ImageEntity, fresh));
      for (const { sha256, compared: by } of better)
        await db.write(async (em) => em.nativeUpdate(ImageEntity, { sha256 }, { compared: by }));
    } catch (error) {
      for (const place of placed) await rm(place, { force: true });
      throw error;
    }
    if (fresh.length + better.length > 0) this.context.live.changed('images');
    return result;
  }
}

/** Two contents that claim one version for the same hardware cannot both be it. */
class Twins {
  readonly #byVersion = new Map<string, ImageRow[]>();

  constructor(rows: readonly ImageRow[]) {
    for (const row of rows) this.add(row);
  }

  #key = (row: ImageRow): string => JSON.stringify([row.family, row.component, row.version, row.variant]);

  add(row: ImageRow): void {
    const key = this.#key(row);
    this.#byVersion.set(key, [...(this.#byVersion.get(key) ?? []), row]);
  }

  /** @throws Refusal */
  refuse(row: ImageRow): void {
    const twin = this.#byVersion
      .get(this.#key(row))
      ?.find((o) => o.models.some((m) => row.models.includes(m)) && o.hardwareRevisions.some((r) => row.hardwareRevisions.includes(r)));
    if (twin)
      throw new Refusal(
        409,
        'image-claims-taken-version',
        'The image is refused',
        `${twin.file} (${twin.sha256.slice(0, 12)}…) is already version ${row.version} for this hardware, with other content than ${row.file} (${row.sha256.slice(0, 12)}…).`,
        'One of the two is not what it claims. Find out which, and remove the wrong one with `barrow image remove`.',
      );
  }
}

/** Files, by their SHA-256, that were compared with a digest that their source published: one that nobody can forge, or one that shows damage only. */
interface Compared {
  readonly strong: ReadonlySet<string>;
  readonly weak: ReadonlySet<string>;
}

/** A release is compared as well as the least of its files. */
function comparedBy({ files }: Release, { strong, weak }: Compared): ImageRow['compared'] {
  if (files.every((f) => strong.has(f.sha256))) return 'strong';
  return files.every((f) => strong.has(f.sha256) || weak.has(f.sha256)) ? 'weak' : null;
}

function rowOf({ files, family, note }: Release, by: string, compared: ImageRow['compared']): ImageRow {
  return {
    sha256: releaseDigest(files),
    file: files.length === 1 ? files[0]!.file : packageName(files, note),
    family: family.family,
    maker: family.maker,
    models: note.models,
    hardwareRevisions: note.hardwareRevisions,
    variant: note.variant,
    version: note.version,
    bytes: files.reduce((sum, f) => sum + f.bytes, 0),
    addedAt: Date.now(),
    addedBy: by,
    component: note.component,
    channel: note.channel,
    files: note.files,
    note,
    compared,
    read: [],
  };
}

/** What the names of all files begin with; the family and version where they share nothing. */
function packageName(files: readonly Member[], note: ImageNote): string {
  let common = files[0]!.file;
  for (const { file } of files) while (!file.startsWith(common)) common = common.slice(0, -1);
  const trimmed = common.replace(/[-._+]+$/, '');
  return trimmed.length >= 4 ? trimmed : `${note.family}-${note.version}`;
}

const kindWord = { sha256: 'SHA-256', sha512: 'SHA-512', sha1: 'SHA-1', md5: 'MD5' } as const;

function checksumsOf(text: string, file: string): Checksum[] {
  try {
    return readChecksums(text);
  } catch (error) {
    if (!(error instanceof ChecksumsUnreadable)) throw error;
    throw refuseImage(
      'checksums-unreadable',
      `${file}: ${error.message}.`,
      'Lines are a digest in hexadecimal digits, two spaces, and a file name.',
    );
  }
}
