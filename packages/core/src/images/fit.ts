import { ImageHeaderError } from './header.js';
import type { FileHeader } from './uboot.js';

const magic = 0xd00dfeed;
/** No structure block may be larger than what is read of a file's start. */
export const longestTree = 65_536;

export const isFit = (start: Uint8Array): boolean =>
  start.length >= 4 && new DataView(start.buffer, start.byteOffset, start.byteLength).getUint32(0) === magic;

const wrong = (message: string): ImageHeaderError => new ImageHeaderError('image-malformed', message);

/**
 * Reads the `description` at the root of a flattened image tree and checks that its structure can be walked.
 * Source: Devicetree Specification 0.4 §5 (flattened format), and the flattened image tree binding of the boot loader:
 * the root holds `description` and `/images`. A tree whose strings or structure lie beyond the first 64 KiB is told as
 * malformed: data belongs behind the tree ("external data"). @throws ImageHeaderError
 */
export function readFit(start: Uint8Array): FileHeader {
  if (start.length < 40) throw new ImageHeaderError('image-truncated', 'the file ends inside its header');
  const view = new DataView(start.buffer, start.byteOffset, start.byteLength);
  const word = (at: number): number => {
    if (at < 0 || at + 4 > start.length) throw wrong('the tree points outside of itself');
    return view.getUint32(at);
  };
  const [totalSize, structAt, stringsAt] = [word(4), word(8), word(12)];
  const [stringsSize, structSize] = [word(32), word(36)];
  if (structAt + structSize > totalSize || stringsAt + stringsSize > totalSize) throw wrong('its blocks lie outside of the tree');
  if (structAt + structSize > start.length || stringsAt + stringsSize > start.length)
    throw wrong(`its tree is larger than the ${longestTree} octets that Barrow reads`);
  const textAt = (at: number, most: number): string => {
    const end = start.indexOf(0, at);
    if (end < 0 || end > most) throw wrong('a name in the tree has no end');
    return new TextDecoder().decode(start.subarray(at, end));
  };
  const path: string[] = [];
  let description: string | null = null;
  let hasImages = false;
  // Devicetree Specification §5.4: tokens are aligned to four octets.
  for (let at = structAt; at < structAt + structSize;) {
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
      if (path.length === 1 && name === 'description')
        description = new TextDecoder().decode(start.subarray(at + 8, at + 8 + Math.max(0, length - 1)));
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
    totalBytes: totalSize,
  };
}
