import { pattern } from '@barrow/core';
import type { Family } from './schema/family.js';

export interface Recognised {
  readonly family: Family;
  /** By which evidence, in words. */
  readonly evidence: string;
}

/** Finds the family whose rule says most about an SNMP answer; null when none fits. */
export function recogniseSnmp(
  families: Iterable<Family>,
  answer: { objectId: string | null; description: string | null },
): Recognised | null {
  let best: (Recognised & { weight: number }) | null = null;
  for (const family of families) {
    for (const { snmp } of family.recognise) {
      const tests: [string, string | undefined, string | null][] = [
        ['SNMP object ID', snmp.objectId, answer.objectId],
        ['SNMP description', snmp.description, answer.description],
      ];
      const asked = tests.filter(([, source]) => source !== undefined);
      if (asked.length === 0 || !asked.every(([, source, text]) => text !== null && pattern(source!).matcher(text).find())) continue;
      // More evidence wins; of equal evidence, the longer object ID pattern is the narrower one.
      const weight = asked.length * 1000 + (snmp.objectId?.length ?? 0);
      if (best === null || weight > best.weight)
        best = { family, weight, evidence: asked.map(([what, source]) => `${what} matches ${source}`).join(' and ') };
    }
  }
  return best;
}
