import { imageMagic, longestHeader, readImageHeader } from './header.js';
import { isFit, longestTree, readFit, type ReadAt } from './fit.js';
import { isUboot, readUboot, type FileHeader } from './uboot.js';

/** As many octets of a file's start as tell what it is. */
export const startLength = Math.max(longestHeader + 10, longestTree);

/** Reads what a file says of itself, in whichever of the known formats; null when it is in none. `readOn` reads beyond the start. @throws ImageHeaderError */
export function readFileHeader(start: Uint8Array, readOn: ReadAt | null = null): FileHeader | null {
  if (new TextDecoder('latin1').decode(start.subarray(0, imageMagic.length)) === imageMagic) {
    const { header, payloadOffset } = readImageHeader(start);
    const { maker, models, hardwareRevisions, variant, version, payloadBytes, payloadSha256 } = header;
    return {
      format: 'simg',
      title: null,
      maker,
      models,
      hardwareRevisions,
      variant,
      version,
      component: header.component ?? null,
      content: { offset: payloadOffset, bytes: payloadBytes, sha256: payloadSha256, crc32: null },
      totalBytes: payloadOffset + payloadBytes,
    };
  }
  if (isUboot(start)) return readUboot(start);
  if (isFit(start)) return readFit(start, readOn);
  return null;
}

/** What a file that is no image rather is, by its first octets, so that a refusal can say it. */
export function whatItRatherIs(start: Uint8Array): string | null {
  const begins = (...octets: number[]): boolean => octets.every((o, i) => start[i] === o);
  const text = new TextDecoder('latin1').decode(start.subarray(0, 300)).trimStart().toLowerCase();
  if (begins(0x50, 0x4b, 3, 4)) return 'a zip archive';
  if (begins(0x1f, 0x8b)) return 'a gzip file';
  if (begins(0x37, 0x7a, 0xbc, 0xaf)) return 'a 7z archive';
  if (begins(0xfd, 0x37, 0x7a, 0x58)) return 'an xz file';
  if (new TextDecoder('latin1').decode(start.subarray(257, 262)) === 'ustar') return 'a tar archive';
  if (text.startsWith('<!doctype html') || text.startsWith('<html')) return 'a web page';
  if (begins(0x25, 0x50, 0x44, 0x46)) return 'a PDF document';
  if (begins(0x7f, 0x45, 0x4c, 0x46)) return 'a program';
  return null;
}
