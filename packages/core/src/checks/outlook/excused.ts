import type { RemovedService } from '../../images/note.js';

/**
 * Who is missing for a reason of their own: they are being changed too, or came to no good end. By the port that leads to them and by
 * their name and address, in words.
 */
export interface Excused {
  readonly ports: ReadonlyMap<string, string>;
  readonly names: ReadonlyMap<string, string>;
  /** Complaints in a log that a person has accepted for this version step. */
  readonly complaints: ReadonlySet<string>;
  /** What the note of the image says no longer answers. */
  readonly removes?: readonly RemovedService[];
}
export const nobodyExcused: Excused = { ports: new Map(), names: new Map(), complaints: new Set() };

/** Splits what is missing into what counts and what is excused, each with a line of evidence. */
export function sorted<T>(
  missing: readonly T[],
  excuse: (one: T) => string | undefined,
  words: (one: T) => string,
): { readonly counted: readonly T[]; readonly evidence: readonly string[] } {
  const counted = missing.filter((one) => excuse(one) === undefined);
  return {
    counted,
    evidence: [
      ...counted.map(words),
      ...missing.flatMap((one) => {
        const why = excuse(one);
        return why === undefined ? [] : [`${words(one)}, and ${why}: not held against it`];
      }),
    ],
  };
}
