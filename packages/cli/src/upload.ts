import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { open, readdir, readFile, stat } from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { ProblemError, UnreachableError, type BarrowClient } from '@barrow/client';
import {
  checksumsFor,
  ImageHeaderError,
  isChecksumName,
  readFileHeader,
  startLength,
  whatItRatherIs,
  groupFiles,
  isNoteName,
  noteNameOf,
  NoteUnreadable,
  readChecksums,
  readNote,
  type Checksum,
  type ImageNote,
  type TakeInput,
  type Taken,
} from '@barrow/core';
import { CommandError, exit } from './errors.js';

export type Wishes = Omit<TakeInput, 'uploads'>;
export type OnProgress = (file: string, sent: number, of: number) => void;

const mostTries = 5;
/** Between two looks at what somebody else sends, and how many of them may find nothing new. */
const [idleMs, mostIdle] = [500, 120];

async function digestOfStart(path: string, bytes: number): Promise<string> {
  const hash = createHash('sha256');
  if (bytes > 0) for await (const piece of createReadStream(path, { end: bytes - 1, highWaterMark: 1 << 20 })) hash.update(piece as Buffer);
  return hash.digest('hex');
}

/** Sends a file; an upload that broke, now or in an earlier run of the command, goes on where it ended. */
export async function uploadFile(client: BarrowClient, path: string, onProgress: OnProgress = () => undefined): Promise<string> {
  const { size, mtimeMs } = await stat(path);
  const file = basename(path);
  const key = createHash('sha256')
    .update(`${resolve(path)}|${size}|${mtimeMs}`)
    .digest('hex');
  let upload = await client.beginUpload({ file, bytes: size, key });
  if (upload.received > 0 && upload.receivedSha256 !== (await digestOfStart(path, upload.received))) {
    // Another content under the same name and time; who else sends it has had it dropped already.
    await client.dropUpload(upload.id).catch((error: unknown) => {
      if (!(error instanceof ProblemError && error.problem.code === 'upload-unknown')) throw error;
    });
    upload = await client.beginUpload({ file, bytes: size, key });
  }
  let tries = 0;
  let idle = 0;
  while (upload.received < size) {
    // A generator hands each piece on when the one before is away; a listener beside the stream would let both wait for each other.
    const pieces = async function* (from: number): AsyncGenerator<Buffer> {
      let sent = from;
      for await (const piece of createReadStream(path, { start: from, highWaterMark: 1 << 20 })) {
        yield piece as Buffer;
        onProgress(file, (sent += (piece as Buffer).length), size);
      }
    };
    try {
      upload = await client.sendUpload(upload.id, upload.received, pieces(upload.received) as never);
    } catch (error) {
      const broken =
        error instanceof UnreachableError ||
        (error instanceof ProblemError && /^upload-(broken|busy|offset|unknown)$/.test(error.problem.code));
      // Somebody else sends it: that is waited for as long as it goes on, however slow.
      const isBusy = error instanceof ProblemError && error.problem.code === 'upload-busy';
      if (!broken || (isBusy ? idle : ++tries) >= (isBusy ? mostIdle : mostTries)) throw error;
      await new Promise((done) => setTimeout(done, isBusy ? idleMs : 250 * tries));
      const before = upload.received;
      // Begun anew, it is the same upload; or a fresh one, when somebody else has had this one taken meanwhile.
      upload = await client.beginUpload({ file, bytes: size, key });
      idle = isBusy && upload.received <= before ? idle + 1 : 0;
    }
  }
  return upload.id;
}

/** One release as it is to be taken in: its files, what its checksum files say, and its note. */
export interface Batch {
  readonly paths: readonly string[];
  readonly checksums: string | null;
}

async function kindOf(path: string): Promise<'file' | 'folder'> {
  const found = await stat(path).catch((error: NodeJS.ErrnoException) => {
    throw new CommandError(
      exit.wrongUse,
      'file-missing',
      'The file cannot be read',
      `${path}: ${error.code === 'ENOENT' ? 'there is no such file' : (error.code ?? error.message)}.`,
      'Check the path.',
    );
  });
  if (found.isDirectory()) return 'folder';
  if (found.isFile()) return 'file';
  throw new CommandError(
    exit.wrongUse,
    'file-missing',
    'The file cannot be read',
    `${path} is neither a file nor a folder.`,
    'Name image files, or a folder with some.',
  );
}

async function readNoteFile(path: string): Promise<ImageNote | null> {
  try {
    return readNote(await readFile(path, 'utf8'));
  } catch (error) {
    if (!(error instanceof NoteUnreadable)) throw error;
    // The service says what is wrong with it.
    return null;
  }
}

/** Whether a file of a folder is an image, an archive, a note or a checksum file; the rest of a folder is nobody's business. */
async function mayBeTaken(path: string): Promise<boolean> {
  const name = basename(path);
  if (name.startsWith('.')) return false;
  if (isNoteName(name) || isChecksumName(name)) return true;
  const handle = await open(path).catch(() => null);
  if (!handle) return false;
  try {
    const { bytesRead, buffer } = await handle.read(Buffer.alloc(startLength), 0, startLength, 0);
    const start = buffer.subarray(0, bytesRead);
    return readFileHeader(start) !== null || /^a (zip|tar) archive$|^a gzip file$/.test(whatItRatherIs(start) ?? '');
  } catch (error) {
    // It begins like an image; the service says what is wrong with it.
    if (error instanceof ImageHeaderError) return true;
    throw error;
  } finally {
    await handle.close();
  }
}

/** The files that are meant: those of folders, and the note that lies beside a file with the files that it names. */
async function meantFiles(paths: readonly string[]): Promise<string[]> {
  const found = new Set<string>();
  const beside = async (path: string): Promise<void> => {
    found.add(path);
    if (isNoteName(path)) {
      for (const { file } of (await readNoteFile(path))?.files ?? []) {
        const other = join(dirname(path), file);
        if ((await stat(other).catch(() => null))?.isFile()) found.add(other);
      }
      return;
    }
    const note = noteNameOf(path);
    if (!found.has(note) && (await stat(note).catch(() => null))?.isFile()) await beside(note);
  };
  for (const path of paths) {
    if ((await kindOf(path)) === 'file') await beside(path);
    else
      for (const entry of await readdir(path, { withFileTypes: true }))
        if (entry.isFile() && (await mayBeTaken(join(path, entry.name)))) found.add(join(path, entry.name));
  }
  return [...found];
}

/** Parts what is meant into releases. */
export async function batchesOf(paths: readonly string[], oneRelease: boolean): Promise<Batch[]> {
  const files = await meantFiles(paths);
  if (files.length === 0)
    throw new CommandError(
      exit.wrongUse,
      'file-missing',
      'There is nothing to add',
      `${paths.join(', ')} holds no images.`,
      'Name image files, or a folder with some.',
    );
  const names = new Set<string>();
  const doubled = files.find((f) => names.size === names.add(basename(f)).size);
  if (doubled !== undefined)
    throw new CommandError(
      exit.wrongUse,
      'file-doubled',
      'Two files have one name',
      `${basename(doubled)} is named twice, from different folders.`,
      'Add them one after the other.',
    );
  if (oneRelease) return [{ paths: files, checksums: null }];
  const byName = new Map(files.map((f) => [basename(f), f]));
  const notes = new Map<string, ImageNote | null>();
  for (const [name, path] of byName) if (isNoteName(name)) notes.set(name, await readNoteFile(path));
  const { groups, checksumFiles } = groupFiles([...byName.keys()], (name) => notes.get(name) ?? null);
  if (groups.length === 0) return [{ paths: files, checksums: null }];
  const sums: Checksum[] = [];
  for (const name of checksumFiles) sums.push(...readChecksumFile(await readFile(byName.get(name)!, 'utf8'), name));
  return groups.map((names) => ({
    paths: names.map((n) => byName.get(n)!),
    checksums: checksumsFor(sums, new Set(names)) || null,
  }));
}

export function readChecksumFile(text: string, name: string): Checksum[] {
  try {
    return readChecksums(text);
  } catch (error) {
    throw new CommandError(
      exit.refused,
      'checksums-unreadable',
      'The checksum file cannot be read',
      `${name}: ${(error as Error).message}.`,
      'Lines are a digest in hexadecimal digits, two spaces, and a file name.',
    );
  }
}

/** Uploads one release and has it taken in. */
export async function takeBatch(client: BarrowClient, batch: Batch, wishes: Wishes, onProgress?: OnProgress): Promise<Taken> {
  const { checksums } = batch;
  const more = checksums === null ? {} : { checksums: `${wishes.checksums ?? ''}${checksums}` };
  for (let tries = 1; ; tries++) {
    const uploads: string[] = [];
    for (const path of batch.paths) uploads.push(await uploadFile(client, path, onProgress));
    try {
      return await client.take({ ...wishes, ...more, uploads });
    } catch (error) {
      // The same file, sent twice at once, is one upload; who takes it first leaves the other to look again.
      const gone = error instanceof ProblemError && /^upload-(unknown|incomplete)$/.test(error.problem.code);
      if (!gone || tries === mostTries) throw error;
    }
  }
}
