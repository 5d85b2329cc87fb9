import { compareVersions, VersionUnreadable, type VersionScheme } from '../versions/version.js';
import type { Check } from './check.js';

/**
 * Its boot loader is the one from before, or a newer one: releases bring one along. An older one, one that cannot be read, or none told any
 * more, is none that the release was tried with.
 *
 * @param scheme null: its family does not say how versions of boot loaders are ordered, and only the same one will do
 */
export function checkLoader(scheme: VersionScheme | null, before: string, after: string | null): Check {
  const order = ((): number | null => {
    if (after === before) return 0;
    if (after === null || scheme === null) return null;
    try {
      return compareVersions(scheme, after, before);
    } catch (error) {
      if (error instanceof VersionUnreadable) return null;
      throw error;
    }
  })();
  const passed = order !== null && order >= 0;
  return {
    name: 'boot loader',
    result: passed ? 'passed' : 'failed',
    before,
    after: after ?? 'not told',
    evidence: passed && order > 0 ? ['the release brought a newer one along'] : [],
    cause: passed ? null : 'loader-changed',
  };
}
