import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** Every licence that it held it holds again, by name. */
export function checkLicences(before: Outlook, after: Outlook): Check | null {
  const was = before.particulars?.licences ?? null;
  if (was === null || was.length === 0) return null;
  const is = after.particulars?.licences ?? null;
  const held = new Set(is);
  const missing = was.filter((licence) => !held.has(licence));
  return {
    name: 'licences',
    result: missing.length > 0 ? 'failed' : 'passed',
    before: `${was.length}`,
    after: is === null ? 'not told' : `${is.length}`,
    evidence: missing.map((licence) => `${licence} was there and is not`),
    cause: missing.length > 0 ? 'licence-missing' : null,
  };
}
