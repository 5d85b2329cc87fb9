/** Digests that a source may have published; the last two only compare, they prove nothing against intent. */
export const digestNames = ['sha256', 'sha512', 'sha1', 'md5'] as const;
export type DigestName = (typeof digestNames)[number];

const byLength: Record<number, DigestName> = { 64: 'sha256', 128: 'sha512', 40: 'sha1', 32: 'md5' };

/** Which kind a digest is, told by its length; null when it is none. */
export function digestKind(text: string): DigestName | null {
  return /^[0-9a-fA-F]+$/.test(text) ? (byLength[text.length] ?? null) : null;
}

export const isWeakDigest = (kind: DigestName): boolean => kind === 'sha1' || kind === 'md5';

export interface Checksum {
  readonly file: string;
  readonly kind: DigestName;
  readonly digest: string;
}

/** Lines of a checksum file that are neither empty, a remark, nor `digest  name`. */
export class ChecksumsUnreadable extends Error {
  readonly code = 'checksums-unreadable';
  constructor(readonly line: number) {
    super(`line ${line} is not "digest  name"`);
  }
}

/**
 * Reads a checksum file: lines of a digest, two spaces or a space and an asterisk, and a file name; a folder before the
 * name is left out. @throws ChecksumsUnreadable
 */
export function readChecksums(text: string): Checksum[] {
  const found: Checksum[] = [];
  for (const [index, raw] of text.split(/\r?\n/).entries()) {
    const line = raw.trim();
    if (line === '' || line.startsWith('#')) continue;
    const match = /^([0-9a-fA-F]{32,128})\s+\*?(\S.*)$/.exec(line);
    const kind = match ? digestKind(match[1]!) : null;
    if (!match || kind === null) throw new ChecksumsUnreadable(index + 1);
    found.push({ file: match[2]!.replace(/^.*[/\\]/, ''), kind, digest: match[1]!.toLowerCase() });
  }
  return found;
}

/** Whether a file's name says that it holds checksums. */
export const isChecksumName = (file: string): boolean => /(^|[._-])(sha(1|256|512)?(sums?)?|md5(sums?)?|checksums?)(\.txt)?$/i.test(file);
