import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { open as openFile } from 'node:fs/promises';
import { basename, join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { createGunzip } from 'node:zlib';
import tar from 'tar-stream';
import yauzl from 'yauzl';
import { Refusal } from '../errors.js';
import { guarded } from './disk.js';

/** One file that came out of an archive, or came by itself. */
export interface Member {
  /** Without any folder. */
  readonly file: string;
  readonly path: string;
  readonly bytes: number;
  readonly sha256: string;
  /** The digest of what follows its header, where that was taken on the way in. */
  /** An archive that the device takes whole. */
  readonly asIs?: boolean;
  readonly content?: { readonly offset: number; readonly sha256: string } | null;
}

export type ArchiveKind = 'zip' | 'tar' | 'tar.gz';

/** More is no set of images. */
const mostMembers = 2000;
/** What is unpacked may not be both larger than this and so many times the archive: a bomb is, an image is not. */
const freeBytes = 64 * 1024 * 1024;
const mostRatio = 100;

const refuse = (code: string, detail: string, next: string): Refusal => new Refusal(422, code, 'The archive is refused', detail, next);
const unsafe = (archive: string, member: string, what: string): Refusal =>
  refuse(
    'archive-unsafe',
    `${archive} holds ${JSON.stringify(member.slice(0, 200))}, ${what}.`,
    'No honest archive of images holds that. Fetch it again from its source, or unpack it yourself and look.',
  );

/** What kind of archive a file is, by its first octets. */
export async function archiveKind(path: string): Promise<ArchiveKind | null> {
  const file = await openFile(path);
  try {
    const start = Buffer.alloc(512);
    const { bytesRead } = await file.read(start, 0, 512, 0);
    if (start.readUInt32LE(0) === 0x04034b50 || start.readUInt32LE(0) === 0x06054b50) return 'zip';
    if (start[0] === 0x1f && start[1] === 0x8b) return 'tar.gz';
    if (bytesRead === 512 && start.toString('latin1', 257, 262) === 'ustar') return 'tar';
    return null;
  } finally {
    await file.close();
  }
}

/** A name that stays inside the folder it is unpacked to. @throws Refusal */
function safeName(archive: string, name: string): string {
  if (name.includes('\0') || name.startsWith('/') || /^[A-Za-z]:/.test(name) || name.includes('\\'))
    throw unsafe(archive, name, 'a name that leads out of the archive');
  if (name.split('/').includes('..')) throw unsafe(archive, name, 'a name that leads out of the archive');
  return basename(name);
}

/** Takes the members of an archive to files of a folder, one by one. */
class Taker {
  readonly members: Member[] = [];
  readonly #names = new Set<string>();
  #unpacked = 0;

  constructor(
    private readonly archive: string,
    private readonly archiveBytes: number,
    private readonly folder: string,
  ) {}

  /** Adds one member. @throws Refusal for a bomb */
  async take(name: string, content: Readable): Promise<void> {
    const file = safeName(this.archive, name);
    if (this.members.length >= mostMembers)
      throw refuse('archive-bomb', `${this.archive} holds more than ${mostMembers} files.`, 'Unpack it yourself and add what is an image.');
    if (this.#names.has(file))
      throw refuse('archive-doubled', `${this.archive} holds ${file} more than once.`, 'Unpack it yourself and add the right one.');
    this.#names.add(file);
    const path = join(this.folder, String(this.members.length));
    const hash = createHash('sha256');
    let bytes = 0;
    const weigh = (more: number): void => {
      bytes += more;
      this.#unpacked += more;
      if (this.#unpacked > freeBytes && this.#unpacked > this.archiveBytes * mostRatio)
        throw refuse(
          'archive-bomb',
          `${this.archive} has ${this.archiveBytes} octets and unpacks to more than ${this.#unpacked - more}.`,
          'No image packs that well. Fetch it again from its source.',
        );
    };
    const measure = async function* (source: AsyncIterable<Buffer>): AsyncGenerator<Buffer> {
      for await (const piece of source) {
        weigh(piece.length);
        hash.update(piece);
        yield piece;
      }
    };
    await guarded(() => pipeline(content, measure, createWriteStream(path, { flags: 'wx', mode: 0o600 })));
    this.members.push({ file, path, bytes, sha256: hash.digest('hex') });
  }
}

/**
 * Unpacks an archive into a folder of its own. Links, devices, names that lead outside and bombs refuse the whole.
 * Sources: PKWARE APPNOTE for zip (by yauzl), POSIX.1-2001 ustar and pax for tar, RFC 1952 for gzip. @throws Refusal
 */
export async function unpack(kind: ArchiveKind, source: Member, folder: string): Promise<Member[]> {
  const taker = new Taker(source.file, source.bytes, folder);
  try {
    if (kind === 'zip') await unzip(source, taker);
    else await untar(source, kind === 'tar.gz', taker);
  } catch (error) {
    if (error instanceof Refusal) throw error;
    throw refuse(
      'archive-damaged',
      `${source.file}: ${(error as Error).message}.`,
      'It was damaged on its way. Fetch it again from its source.',
    );
  }
  if (taker.members.length === 0) throw refuse('archive-empty', `${source.file} holds no files.`, 'Check that it is the right one.');
  return taker.members;
}

async function unzip(source: Member, taker: Taker): Promise<void> {
  // Names are judged by the same rule as those in a tar, so that both are told alike.
  const zip = await yauzl.openPromise(source.path, {
    autoClose: false,
    lazyEntries: true,
    decodeStrings: true,
    validateEntrySizes: true,
    strictFileNames: true,
  });
  try {
    for await (const entry of zip.eachEntry()) {
      const unixMode = (entry.externalFileAttributes >>> 16) & 0o170000;
      if (unixMode !== 0 && unixMode !== 0o100000 && unixMode !== 0o040000)
        throw unsafe(source.file, entry.fileName, unixMode === 0o120000 ? 'a link' : 'neither a file nor a folder');
      if (entry.fileName.endsWith('/')) continue;
      if (entry.isEncrypted())
        throw refuse('archive-locked', `${source.file} is locked with a password.`, 'Unpack it yourself and add what is in it.');
      await taker.take(entry.fileName, await zip.openReadStreamPromise(entry));
    }
  } catch (error) {
    const name = /^(?:invalid relative path|absolute path|invalid characters in fileName): (.*)$/.exec((error as Error).message);
    throw name ? unsafe(source.file, name[1]!, 'a name that leads out of the archive') : error;
  } finally {
    zip.close();
  }
}

async function untar(source: Member, packed: boolean, taker: Taker): Promise<void> {
  const extract = tar.extract();
  const feed = pipeline(packed ? [createReadStream(source.path), createGunzip(), extract] : [createReadStream(source.path), extract]);
  // The reader below ends first when a member is refused; what the pipe then says is of no interest.
  feed.catch(() => undefined);
  try {
    for await (const entry of extract) {
      const { name, type } = entry.header;
      if (type === 'directory') {
        entry.resume();
        continue;
      }
      if (type === 'symlink' || type === 'link') throw unsafe(source.file, name, 'a link');
      if (type !== 'file' && type !== 'contiguous-file') throw unsafe(source.file, name, 'neither a file nor a folder');
      await taker.take(name, entry as unknown as Readable);
    }
    await feed;
  } finally {
    extract.destroy();
    await feed.catch(() => undefined);
  }
}
