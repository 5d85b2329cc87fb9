import { ImageHeaderError } from './header.js';
import type { FileHeader, HeaderPart } from './uboot.js';

const magic = 0xd00dfeed;
/** As much as is read of a file's start; trees that hold their data themselves are larger, and are read on. */
export const longestTree = 65_536;
/** Nodes and properties that a tree may have; an image has a few dozen. */
const mostTokens = 50_000;
/** Of a property that is read, and of a name. */
const longestValue = 4096;

/** Reads some octets of a file; fewer where it ends. */
export type ReadAt = (at: number, length: number) => Uint8Array;

export const isFit = (start: Uint8Array): boolean =>
  start.length >= 4 && new DataView(start.buffer, start.byteOffset, start.byteLength).getUint32(0) === magic;

const wrong = (message: string): ImageHeaderError => new ImageHeaderError('image-malformed', message);

/**
 * Reads the `description` at the root of a flattened image tree and checks that its structure can be walked.
 * Source: Devicetree Specification 0.4 §5 (flattened format), and the flattened image tree binding of the boot loader:
 * the root holds `description` and `/images`. Of data that lies inside of the tree only the place is kept: `readOn` reads what
 * is beyond the start. @throws ImageHeaderError
 */
export function readFit(start: Uint8Array, readOn: ReadAt | null = null): FileHeader {
  if (start.length < 40) throw new ImageHeaderError('image-truncated', 'the file ends inside its header');
  const octetsAt = (at: number, length: number): Uint8Array =>
    at + length <= start.length || readOn === null ? start.subarray(at, at + length) : readOn(at, length);
  const word = (at: number): number => {
    const octets = at < 0 ? start.subarray(0, 0) : octetsAt(at, 4);
    if (octets.length < 4) throw wrong('the tree points outside of itself');
    return new DataView(octets.buffer, octets.byteOffset, 4).getUint32(0);
  };
  const [totalSize, structAt, stringsAt] = [word(4), word(8), word(12)];
  const [stringsSize, structSize] = [word(32), word(36)];
  if (structAt + structSize > totalSize || stringsAt + stringsSize > totalSize) throw wrong('its blocks lie outside of the tree');
  if (readOn === null && (structAt + structSize > start.length || stringsAt + stringsSize > start.length))
    throw wrong(`its tree is larger than the ${start.length} octets that were read`);
  const textAt = (at: number, most: number): string => {
    const octets = octetsAt(at, Math.max(0, Math.min(longestValue, most - at)));
    const end = octets.indexOf(0);
    if (end < 0) throw wrong('a name in the tree has no end');
    return new TextDecoder().decode(octets.subarray(0, end));
  };
  const path: string[] = [];
  const parts = new Map<string, Part>();
  /** The part that the present node is of, and the hash node in it. */
  const partAt = (): Part | null => {
    if (path[1] !== 'images' || path.length < 3) return null;
    const name = path[2]!;
    const known = parts.get(name) ?? { inline: null, offset: null, position: null, size: null, hashes: new Map() };
    parts.set(name, known);
    return known;
  };
  let description: string | null = null;
  let hasImages = false;
  // Devicetree Specification §5.4: tokens are aligned to four octets.
  let tokens = 0;
  for (let at = structAt; at < structAt + structSize;) {
    if (++tokens > mostTokens) throw wrong(`its tree has more than ${mostTokens} nodes and properties`);
    const token = word(at);
    at += 4;
    if (token === 1) {
      const name = textAt(at, structAt + structSize);
      at += (name.length + 4) & ~3;
      path.push(name);
      if (path.length > 32) throw wrong('its nodes are nested too deep');
      if (path.length === 2 && name === 'images') hasImages = true;
    } else if (token === 2) {
      if (path.pop() === undefined) throw wrong('a node ends that never began');
    } else if (token === 3) {
      const length = word(at);
      const name = textAt(stringsAt + word(at + 4), stringsAt + stringsSize);
      if (at + 8 + length > structAt + structSize) throw wrong('a property is longer than the tree');
      const bytes = length > longestValue ? start.subarray(0, 0) : octetsAt(at + 8, length);
      if (path.length === 1 && name === 'description') description = new TextDecoder().decode(bytes.subarray(0, Math.max(0, length - 1)));
      takeProperty(partAt(), path, name, { at: at + 8, length, bytes });
      at += 8 + ((length + 3) & ~3);
    } else if (token === 9) break;
    else if (token !== 4) throw wrong(`the tree holds the unknown token ${token}`);
  }
  if (!hasImages) throw wrong('the tree has no node "images"; it is no image');
  return {
    format: 'fit',
    title: description,
    maker: null,
    models: null,
    hardwareRevisions: null,
    variant: null,
    version: null,
    component: null,
    content: null,
    parts: [...parts].flatMap(([name, part]) => placed(name, part, totalSize)),
    totalBytes: Math.max(totalSize, ...[...parts].flatMap(([name, part]) => placed(name, part, totalSize).map((p) => p.offset + p.bytes))),
  };
}

interface Part {
  /** Data inside of the tree. */
  inline: { readonly at: number; readonly length: number } | null;
  /** From the end of the tree, or from the beginning of the file. */
  offset: number | null;
  position: number | null;
  size: number | null;
  readonly hashes: Map<string, { algorithm: string | null; value: string | null }>;
}

/** Takes what a property of a part, or of a hash node in it, says. Source: flattened image tree binding, nodes `image-1` and `hash-1`. */
function takeProperty(
  part: Part | null,
  path: readonly string[],
  name: string,
  value: { readonly at: number; readonly length: number; readonly bytes: Uint8Array },
): void {
  if (part === null) return;
  const { at, length, bytes } = value;
  const number = (): number | null =>
    length === 4 && bytes.length === 4 ? new DataView(bytes.buffer, bytes.byteOffset, 4).getUint32(0) : null;
  if (path.length === 3) {
    if (name === 'data') part.inline = { at, length };
    else if (name === 'data-offset') part.offset = number();
    else if (name === 'data-position') part.position = number();
    else if (name === 'data-size') part.size = number();
  } else if (path.length === 4 && /^(hash|checksum)\b/.test(path[3]!)) {
    const hash = part.hashes.get(path[3]!) ?? { algorithm: null, value: null };
    part.hashes.set(path[3]!, hash);
    if (name === 'algo') hash.algorithm = new TextDecoder().decode(bytes.subarray(0, Math.max(0, length - 1)));
    if (name === 'value') hash.value = [...bytes].map((b) => b.toString(16).padStart(2, '0')).join('');
  }
}

/** Where a part lies in the file; nothing for one that says no place, and so can be compared with nothing. */
function placed(name: string, part: Part, totalSize: number): HeaderPart[] {
  const hashes = [...part.hashes.values()].flatMap(({ algorithm, value }) =>
    algorithm === null || value === null ? [] : [{ algorithm, value }],
  );
  if (part.inline) return [{ name, offset: part.inline.at, bytes: part.inline.length, hashes }];
  if (part.size === null) return [];
  if (part.position !== null) return [{ name, offset: part.position, bytes: part.size, hashes }];
  // External data begins at the next four octets after the tree.
  return part.offset === null ? [] : [{ name, offset: ((totalSize + 3) & ~3) + part.offset, bytes: part.size, hashes }];
}
