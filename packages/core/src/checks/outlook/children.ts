import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** Those that are managed through it are with it again, by number and name. */
export function checkChildren(before: Outlook, after: Outlook, excused: Excused): Check | null {
  if (before.children === null || before.children.length === 0) return null;
  const back = new Set(after.children?.map((c) => c.serial));
  const { counted, evidence } = sorted(
    before.children.filter((c) => !back.has(c.serial)),
    (c) => excused.names.get(c.name) ?? excused.names.get(c.serial),
    (c) => `${c.name} (${c.serial}) was with it and is not`,
  );
  return {
    name: 'children',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${before.children.length}`,
    after: after.children === null ? 'not told' : `${after.children.length}`,
    evidence,
    cause: counted.length > 0 ? 'children-missing' : null,
  };
}
