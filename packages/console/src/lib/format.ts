import { duration } from '@barrow/core';

export { localTime as when, totalsOf } from '@barrow/client';
export { duration };

/** How long ago a moment was, at `now` in milliseconds. */
export function since(moment: string | null, now: number): string {
  return moment === null ? '–' : duration(Math.max(0, now - Date.parse(moment)));
}
