import CRC32 from 'crc-32';
import { ImageHeaderError } from './header.js';

/** One part of a file, and what the file itself says that it is. */
export interface HeaderPart {
  readonly name: string;
  readonly offset: number;
  readonly bytes: number;
  /** Lower-case hexadecimal; `algorithm` as the file names it. */
  readonly hashes: readonly { readonly algorithm: string; readonly value: string }[];
}

/** What a file tells of itself, whatever its format. */
export interface FileHeader {
  readonly format: 'simg' | 'uboot' | 'fit';
  /** The name that its maker gave it, for the family's patterns to read; null where the format has fields of its own. */
  readonly title: string | null;
  readonly maker: string | null;
  readonly models: readonly string[] | null;
  readonly hardwareRevisions: readonly string[] | null;
  readonly variant: string | null;
  readonly version: string | null;
  readonly component: string | null;
  /** Where the content begins, how long it is, and the check value that the header tells of it. */
  readonly content: {
    readonly offset: number;
    readonly bytes: number;
    readonly sha256: string | null;
    readonly crc32: number | null;
  } | null;
  /** Parts of the content with the check values that the file tells of each; absent where the format has none. */
  readonly parts?: readonly HeaderPart[];
  /** The least length of the whole file. */
  readonly totalBytes: number;
}

const magic = 0x27051956;
const headerLength = 64;

export const isUboot = (start: Uint8Array): boolean =>
  start.length >= 4 && new DataView(start.buffer, start.byteOffset, start.byteLength).getUint32(0) === magic;

/**
 * Reads the 64 octets of a legacy U-Boot image header: big-endian magic, CRC of the header with its own field as zero, time,
 * size, load address, entry point, CRC of the data, system, architecture, type, compression, and 32 octets of name.
 * Source: the open format that `mkimage` writes, `include/image.h` of the boot loader. @throws ImageHeaderError
 */
export function readUboot(start: Uint8Array): FileHeader {
  if (start.length < headerLength) throw new ImageHeaderError('image-truncated', 'the file ends inside its header');
  const view = new DataView(start.buffer, start.byteOffset, start.byteLength);
  const header = Uint8Array.from(start.subarray(0, headerLength));
  header.fill(0, 4, 8);
  const told = view.getUint32(4);
  const crc = CRC32.buf(header) >>> 0;
  if (crc !== told)
    throw new ImageHeaderError('image-malformed', `the header's own CRC is ${crc.toString(16)}, it tells ${told.toString(16)}`);
  const bytes = view.getUint32(12);
  const name = start.subarray(32, headerLength);
  const end = name.indexOf(0);
  return {
    format: 'uboot',
    title: new TextDecoder('latin1').decode(end < 0 ? name : name.subarray(0, end)).trim(),
    maker: null,
    models: null,
    hardwareRevisions: null,
    variant: null,
    version: null,
    component: null,
    content: { offset: headerLength, bytes, sha256: null, crc32: view.getUint32(24) },
    totalBytes: headerLength + bytes,
  };
}
