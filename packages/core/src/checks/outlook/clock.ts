import type { Ms } from '../../units.js';
import { duration } from '../restart.js';
import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** A clock that is within this of ours is right: certificates and logins bear no more. */
const tolerance: Ms = 2 * 60_000;

/** Its clock is right, or no further off than it was. */
export function checkClock(before: Outlook, after: Outlook): Check | null {
  if (before.clockOffMs === null || after.clockOffMs === null) return null;
  const off = (ms: Ms): string => (Math.abs(ms) <= tolerance ? 'right' : `${duration(Math.abs(ms))} ${ms > 0 ? 'ahead' : 'behind'}`);
  const passed = Math.abs(after.clockOffMs) <= Math.max(tolerance, Math.abs(before.clockOffMs) + tolerance);
  return {
    name: 'clock',
    result: passed ? 'passed' : 'failed',
    before: off(before.clockOffMs),
    after: off(after.clockOffMs),
    evidence: [],
    cause: passed ? null : 'clock-lost',
  };
}
