import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** Its picture can be had again: a camera may answer everything and show nothing. */
export function checkPicture(before: Outlook, after: Outlook): Check | null {
  if (before.picture?.there !== true) return null;
  const passed = after.picture?.there === true;
  return {
    name: 'picture',
    result: passed ? 'passed' : 'failed',
    before: before.picture.detail,
    after: after.picture?.detail ?? 'not told',
    evidence: [],
    cause: passed ? null : 'picture-missing',
  };
}
