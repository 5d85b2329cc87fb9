import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** By what it could be asked before, it can be asked again: a door that an upgrade shuts is one that somebody else needs. */
export function checkDoors(before: Outlook, after: Outlook): Check | null {
  if (before.doors.length === 0) return null;
  const open = new Set(after.doors);
  const shut = before.doors.filter((door) => !open.has(door));
  return {
    name: 'doors',
    result: shut.length > 0 ? 'failed' : 'passed',
    before: before.doors.join(', '),
    after: after.doors.join(', ') || 'none',
    evidence: shut.map((door) => `${door} answered and does not`),
    cause: shut.length > 0 ? 'door-shut' : null,
  };
}
