import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { afterAll, describe, expect, it } from 'vitest';
import { writeThrough } from '../src/images/disk.js';

const piece = Buffer.alloc(1 << 20, 7);
const pieces = (count: number): Readable => Readable.from(Array.from({ length: count }, () => piece));

describe('a file that is written while it arrives', () => {
  const folder = mkdtempSync(join(tmpdir(), 'barrow-test-'));
  afterAll(() => rmSync(folder, { recursive: true }));

  it('keeps what was there, and holds all pieces after it', async () => {
    const path = join(folder, 'file');
    writeFileSync(path, 'kept, and more');
    await writeThrough(path, 4, (file) => pipeline(pieces(34), file));
    const written = readFileSync(path);
    expect(written.subarray(0, 4).toString()).toBe('kept');
    expect(written.subarray(4).equals(Buffer.concat(Array.from({ length: 34 }, () => piece)))).toBe(true);
  });

  it('reports a full disk', async () => {
    await expect(writeThrough('/dev/full', 0, (file) => pipeline(pieces(1), file))).rejects.toMatchObject({ code: 'ENOSPC' });
  });

  it('stops when the disk cannot write what has arrived', async () => {
    // A device that takes bytes and cannot sync them.
    const filled = new Promise((resolve) => {
      void writeThrough('/dev/null', 0, (file) => {
        const filling = pipeline(pieces(4096), file);
        resolve(filling);
        return filling;
      }).catch(() => undefined);
    });
    await expect(filled).rejects.toMatchObject({ code: 'EINVAL', syscall: 'fdatasync' });
  });
});
