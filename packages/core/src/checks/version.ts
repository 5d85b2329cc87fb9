import { sameVersion, type VersionScheme } from '../versions/version.js';
import type { Check } from './check.js';
import { verdict } from './verdict.js';

/** The device reports the target, in whatever spelling. */
export function checkVersion(scheme: VersionScheme, from: string, target: string, found: string | null): Check {
  const passed = found !== null && sameVersion(scheme, found, target);
  return verdict('version', passed, from, found ?? 'not told', 'old-version', passed ? [] : [`the target is ${target}`]);
}
