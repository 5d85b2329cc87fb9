import type { Check } from '../check.js';
import type { Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** Of complaints so many are told. */
const most = 40;

/**
 * Its log complains of nothing grave that it did not complain of before; what is grave its family says (RFC 5424 §6.2.1: severities 0 to 3).
 * What a person has accepted for this version step is not told again. Each line of evidence is a complaint as it stands there.
 */
export function checkLog(before: Outlook, after: Outlook, excused: Excused): Check | null {
  const was = before.particulars?.complaints ?? null;
  if (was === null) return null;
  const is = after.particulars?.complaints ?? null;
  const known = new Set(was);
  const added = [...new Set(is)].filter((line) => !known.has(line));
  const counted = added.filter((line) => !excused.complaints.has(line));
  const failed = is === null || counted.length > 0;
  const expected = added.length - counted.length;
  return {
    name: 'log',
    result: failed ? 'failed' : 'passed',
    before: `${was.length} grave`,
    after: is === null ? 'not told' : `${is.length} grave${expected > 0 ? `, ${expected} of them expected` : ''}`,
    evidence: counted.slice(0, most),
    cause: failed ? 'log-complains' : null,
  };
}
