import { createHash } from 'node:crypto';

/** What an entry of a journal is known by, and the entries before it with it. */
export interface Chained {
  readonly seq: number;
  /** What it says, as it was written. */
  readonly event: string;
  /** null: it was written before entries told of each other. */
  readonly chain: string | null;
}

/** The digest of an entry (SHA-256, FIPS 180-4) over that of the one before it in its rollout; the first follows an empty one. */
export const chainOf = (before: string, seq: number, event: string): string =>
  createHash('sha256').update(`${before}\n${seq}\n${event}`).digest('hex');

/**
 * The first of some entries of a rollout that is not as it was written, or that another was taken away before.
 *
 * @param before the digest of the entry before them; empty when there is none, or none that has one
 * @returns its number; null when all are as they were written
 */
export function firstChanged(entries: readonly Chained[], before: string): number | null {
  let last = before;
  for (const { seq, event, chain } of entries) {
    // Once entries tell of each other, none is without.
    if (chain === null ? last !== '' : chain !== chainOf(last, seq, event)) return seq;
    last = chain ?? '';
  }
  return null;
}
