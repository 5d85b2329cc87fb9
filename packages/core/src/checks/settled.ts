import type { Check } from './check.js';
import { verdict } from './verdict.js';

/** It has not restarted since it was checked: a device that does so by itself has not settled. Counts of boots, as it tells them. */
export function checkSettled(before: string, after: string | null): Check {
  return verdict('settled', after === before, `${before} boots`, after === null ? 'not told' : `${after} boots`, 'restarted-in-soak');
}
