import type { CauseCode } from '../causes/catalogue.js';
import { digestKind, type DigestName } from '../images/checksums.js';
import type { Bytes } from '../units.js';

/** What a device says that it holds; null: it does not tell. */
export interface ToldOfHeld {
  readonly digest: string | null;
  readonly bytes: string | null;
}

/** By what it was compared; `nothing`: the device cannot tell. */
export type ComparedBy = 'digest' | 'size' | 'nothing';

export type HeldVerdict =
  { readonly same: true; readonly by: ComparedBy } | { readonly same: false; readonly cause: CauseCode; readonly detail: string };

/** The algorithm of a digest that a device told; null when it is none that is known. */
export const algorithmOf = (digest: string): DigestName | null => digestKind(plain(digest));

/** Devices write digests in capitals, in pairs with colons, in groups with spaces. */
const plain = (digest: string): string => digest.replace(/[\s:-]/g, '').toLowerCase();

/**
 * Compares what a device says that it holds with the image: its digest, its size, or neither when it tells neither.
 * @param ours the digest of the image by the algorithm of the one that the device told
 */
export function compareHeld(told: ToldOfHeld, bytes: Bytes, ours: string | null): HeldVerdict {
  const no = (cause: CauseCode, detail: string): HeldVerdict => ({ same: false, cause, detail });
  const has = (text: string | null): text is string => text !== null && text.trim() !== '';
  if (has(told.bytes)) {
    if (!/^\d+$/.test(told.bytes.trim())) return no('unexpected-answer', `the device tells "${told.bytes}" octets, which is no number`);
    if (Number(told.bytes) !== bytes) return no('wrong-size-taken', `the device holds ${told.bytes.trim()} octets, the image has ${bytes}`);
  }
  if (has(told.digest)) {
    if (ours === null)
      return no('unexpected-answer', `the device tells the digest "${told.digest}", which is none that Barrow can compute`);
    if (plain(told.digest) !== plain(ours))
      return no('image-damaged', `the device holds the digest ${plain(told.digest)}, the image has ${ours}`);
    return { same: true, by: 'digest' };
  }
  return { same: true, by: has(told.bytes) ? 'size' : 'nothing' };
}
