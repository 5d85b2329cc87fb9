import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import CRC32 from 'crc-32';
import type { DigestName } from '@barrow/core';

const pieceLength = 1 << 20;

/** The digest of a file, or of a stretch of it. */
export async function digestOfFile(path: string, of: { from?: number; bytes?: number; kind?: DigestName } = {}): Promise<string> {
  const { from = 0, bytes = Infinity, kind = 'sha256' } = of;
  const hash = createHash(kind);
  if (bytes === 0) return hash.digest('hex');
  for await (const piece of createReadStream(path, { start: from, end: from + bytes - 1, highWaterMark: pieceLength }))
    hash.update(piece as Buffer);
  return hash.digest('hex');
}

/** CRC-32 (ISO 3309) of a stretch of a file. */
export async function crcOfFile(path: string, from: number, length: number): Promise<number> {
  if (length === 0) return 0;
  let crc = 0;
  for await (const piece of createReadStream(path, { start: from, end: from + length - 1, highWaterMark: pieceLength }))
    crc = CRC32.buf(piece as Buffer, crc);
  return crc >>> 0;
}
