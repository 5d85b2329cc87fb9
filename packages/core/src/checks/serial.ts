import type { Check } from './check.js';
import { verdict } from './verdict.js';

/** The same device answers: a serial is its identity, its address is not. */
export function checkSerial(planned: string, found: string | null): Check {
  return verdict('serial', found === planned, planned, found ?? 'not told', 'another-device');
}
