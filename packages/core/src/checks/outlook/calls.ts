import type { Check } from '../check.js';
import type { Calls, Outlook } from './outlook.js';

/** RFC 3261 §21.4.22, §21.6.1: it would take a call if it were not in one. */
const inCall: ReadonlySet<number> = new Set([486, 600]);

const takesCalls = ({ status }: Calls): boolean => (status >= 200 && status < 300) || inCall.has(status);

const answer = (calls: Calls | null): string => (calls === null ? 'no answer' : `${calls.status} ${calls.reason}`.trimEnd());

/** It takes calls again: OPTIONS is answered as a call would be (RFC 3261 §11.2), and who has lost its account answers otherwise. */
export function checkCalls(before: Outlook, after: Outlook): Check | null {
  if (before.calls === null || !takesCalls(before.calls)) return null;
  const passed = after.calls !== null && takesCalls(after.calls);
  return {
    name: 'calls',
    result: passed ? 'passed' : 'failed',
    before: answer(before.calls),
    after: answer(after.calls),
    evidence: [],
    cause: passed ? null : 'calls-refused',
  };
}
