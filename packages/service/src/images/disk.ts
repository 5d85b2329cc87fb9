import { open, statfs } from 'node:fs/promises';
import { Writable } from 'node:stream';
import { Refusal } from '../errors.js';

/** Runs what writes to the disk; a full one is told as such. @throws Refusal */
export async function guarded<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    const code = (error as NodeJS.ErrnoException).code;
    if (code === 'ENOSPC' || code === 'EDQUOT' || code === 'EFBIG')
      throw new Refusal(
        413,
        'store-full',
        'The image is refused',
        'The disk of the store is full.',
        'Make room in the data folder and add it again. Nothing of it was kept.',
      );
    throw error;
  }
}

/** At the most this much of a disk is kept free, or a twentieth of a small one. */
const mostReserve = 256 << 20;

/** Octets that are free on the disk of a folder, and those of them that nobody may take. */
export async function roomAt(folder: string): Promise<{ free: number; reserve: number }> {
  const { bavail, blocks, bsize } = await statfs(folder);
  return { free: bavail * bsize, reserve: Math.min(mostReserve, Math.floor((blocks * bsize) / 20)) };
}

/** Bytes after which the disk is asked to write, while more still arrives. */
const syncEvery = 32 << 20;

/**
 * Gives `fill` a stream that writes to a file from byte `start` on. The disk writes while more arrives.
 * Resolves when everything is on the disk. @throws the error of the system when the disk cannot write
 */
export async function writeThrough(path: string, start: number, fill: (file: Writable) => Promise<void>): Promise<void> {
  const handle = await open(path, 'r+');
  let at = start;
  let unsynced = 0;
  let syncing: Promise<void> | null = null;
  let fault: Error | null = null;
  const write = async (pieces: readonly Buffer[]): Promise<void> => {
    if (fault) throw fault;
    const bytes = pieces.reduce((sum, piece) => sum + piece.length, 0);
    const { bytesWritten } = await handle.writev(pieces, at);
    at += bytesWritten;
    if (bytesWritten < bytes) return write(rest(pieces, bytesWritten));
    unsynced += bytes;
    if (unsynced < syncEvery || syncing) return;
    unsynced = 0;
    syncing = handle
      .datasync()
      .catch((error: Error) => void (fault = error))
      .finally(() => (syncing = null));
  };
  const file = new Writable({
    highWaterMark: 1 << 20,
    writev: (chunks, done) => void write(chunks.map(({ chunk }) => chunk as Buffer)).then(() => done(), done),
  });
  try {
    await fill(file);
    await syncing;
    // The system reports a failed write once: a second sync would succeed.
    if (fault) throw fault as Error;
    await handle.sync();
  } finally {
    await syncing;
    await handle.close();
  }
}

/** Drops the first `written` bytes of the pieces. */
function rest(pieces: readonly Buffer[], written: number): Buffer[] {
  let skip = written;
  return pieces.flatMap((piece) => {
    const left = piece.subarray(Math.min(skip, piece.length));
    skip = Math.max(0, skip - piece.length);
    return left.length > 0 ? [left] : [];
  });
}
