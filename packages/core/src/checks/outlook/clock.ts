import type { Ms } from '../../units.js';
import { duration } from '../restart.js';
import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** A clock that is within this of ours is right: certificates and logins bear no more. */
const tolerance: Ms = 2 * 60_000;

/** By how much our own clock was set between two looks: what the time of day moved more than the machine's own time. */
function setMeanwhile(before: Outlook['ours'], after: Outlook['ours']): Ms {
  // A machine that was restarted has no time of its own that reaches over both.
  if (before === null || after === null || after.up < before.up) return 0;
  const moved = after.wall - before.wall - (after.up - before.up);
  return Math.abs(moved) <= tolerance ? 0 : moved;
}

/** Its clock is right, or no further off than it was: by our clock as it is now, if that was set meanwhile. */
export function checkClock(before: Outlook, after: Outlook): Check | null {
  if (before.clockOffMs === null || after.clockOffMs === null) return null;
  const moved = setMeanwhile(before.ours, after.ours);
  const wasOff = before.clockOffMs - moved;
  const off = (ms: Ms): string => (Math.abs(ms) <= tolerance ? 'right' : `${duration(Math.abs(ms))} ${ms > 0 ? 'ahead' : 'behind'}`);
  const passed = Math.abs(after.clockOffMs) <= Math.max(tolerance, Math.abs(wasOff) + tolerance);
  return {
    name: 'clock',
    result: passed ? 'passed' : 'failed',
    before: off(wasOff),
    after: off(after.clockOffMs),
    evidence: moved === 0 ? [] : [`our own clock was set ${duration(Math.abs(moved))} ${moved > 0 ? 'ahead' : 'back'} meanwhile`],
    cause: passed ? null : 'clock-lost',
  };
}
