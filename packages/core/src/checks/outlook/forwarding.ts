import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** It has learned addresses again (RFC 4188, RFC 4363): one that has learned none forwards nothing. Fewer than before are no fault at night. */
export function checkForwarding(before: Outlook, after: Outlook): Check | null {
  if (before.learned === null) return null;
  const passed = after.learned !== null;
  return {
    name: 'forwarding',
    result: passed ? 'passed' : 'failed',
    before: `${before.learned} addresses learned`,
    after: `${after.learned ?? 'no'} addresses learned`,
    evidence: [],
    cause: passed ? null : 'forwards-nothing',
  };
}
