import type { CauseCode } from '../causes/catalogue.js';
import type { Check } from './check.js';

/** What one comparison came to. */
export function verdict(
  name: Check['name'],
  passed: boolean,
  before: string,
  after: string,
  cause: CauseCode,
  evidence: string[] = [],
): Check {
  return { name, result: passed ? 'passed' : 'failed', before, after, evidence, cause: passed ? null : cause };
}
