import { statfs } from 'node:fs/promises';
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
