import { sameVersion, type VersionScheme } from '../versions/version.js';
import type { Check } from './check.js';
import { verdict } from './verdict.js';

/** The device would boot the target again: an upgrade that is not saved is lost at the next power cut. */
export function checkNextBoot(scheme: VersionScheme, from: string, target: string, nextBoot: string | null): Check {
  const passed = nextBoot !== null && sameVersion(scheme, nextBoot, target);
  return verdict('next boot', passed, from, nextBoot ?? 'not told', 'next-boot-not-saved');
}
