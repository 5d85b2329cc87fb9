import { stringify } from 'yaml';
import { targetInput, targetSetFile, type TargetRule, type TargetSet } from '@barrow/core';
import { faultLines, readWritten, type FileFault } from './schema/written.js';

/** The file of a set that cannot be taken, with every fault and its line. */
export class TargetSetError extends Error {
  constructor(readonly faults: readonly FileFault[]) {
    super(faultLines(faults));
  }
}

/**
 * Reads the file of a set of versions.
 * @throws TargetSetError naming the line of each fault
 */
export function readTargetSet(text: string, file = 'set'): TargetSet {
  const { value, faults } = readWritten(text, file, targetSetFile, true);
  if (faults) throw new TargetSetError(faults);
  const targets = Object.entries(value.versions).flatMap(([family, says]) => says.map((entry) => targetInput.parse({ family, ...entry })));
  return { name: value.set, note: value.note ?? null, targets };
}

/** Rules as the file of a set; @param deviceName how a device is called that a rule is for */
export function writeTargetSet(name: string, rules: readonly TargetRule[], deviceName: (id: string) => string): string {
  const versions: Record<string, unknown> = {};
  for (const family of [...new Set(rules.map((r) => r.family))].sort()) {
    const entries = rules
      .filter((r) => r.family === family)
      .map(({ version, model, hardwareRevision, site, tag, device, fromFamilies, acceptUnreleased }) => ({
        version,
        ...(model === null ? {} : { model }),
        ...(hardwareRevision === null ? {} : { hardwareRevision }),
        ...(site === null ? {} : { site }),
        ...(tag === null ? {} : { tag }),
        ...(device === null ? {} : { device: deviceName(device) }),
        ...(fromFamilies.length === 0 ? {} : { fromFamilies }),
        ...(acceptUnreleased ? { acceptUnreleased: 'yes' } : {}),
      }));
    const [first] = entries;
    versions[family] = entries.length === 1 && Object.keys(first!).length === 1 ? first!.version : entries;
  }
  return stringify({ set: name, versions });
}
