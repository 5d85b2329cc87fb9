import { duration } from '@barrow/core';

export { localTime as when, totalsOf } from '@barrow/client';
export { duration };

/** How long ago a moment was, at `now` in milliseconds. */
export function since(moment: string | null, now: number): string {
  return moment === null ? '–' : duration(Math.max(0, now - Date.parse(moment)));
}

/** A number with its word: `1 device`, `14 devices`. */
export const count = (n: number, word: string): string => `${n} ${word}${n === 1 ? '' : 's'}`;
