import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** What was recorded is recorded again: all that a recorder keeps, or the one that is handled through it. */
export function checkRecording(before: Outlook, after: Outlook, excused: Excused): Check | null {
  if (before.recorded === null || before.recorded.length === 0) return null;
  const still = new Set(after.recorded?.map((c) => c.serial));
  const { counted, evidence } = sorted(
    before.recorded.filter((c) => !still.has(c.serial)),
    (c) => excused.names.get(c.name) ?? excused.names.get(c.serial),
    (c) => `${c.name} (${c.serial}) was recorded${after.recorded === null ? ', and nobody tells now whether it is' : ' and is not'}`,
  );
  return {
    name: 'recording',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${before.recorded.length} recorded`,
    after: after.recorded === null ? 'not told' : `${after.recorded.length} recorded`,
    evidence,
    cause: counted.length > 0 ? 'recording-stopped' : null,
  };
}
