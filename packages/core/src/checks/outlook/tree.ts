import type { Check } from '../check.js';
import type { Excused } from './excused.js';
import type { Outlook } from './outlook.js';

type Root = NonNullable<Outlook['root']>;
const shown = ({ priority, mac }: Root): string => `root ${mac}${priority === 32_768 ? '' : `, priority ${priority}`}`;
/** IEEE 802.1D: the lower identifier is the better one. */
const isBetter = (a: Root, b: Root): boolean => a.priority < b.priority || (a.priority === b.priority && a.mac < b.mac);

/**
 * The spanning tree has no worse root (RFC 4188 dot1dStpDesignatedRoot): a worse one says that the one of before is cut off, or has lost
 * what made it the root. A better one was away when it was looked at before.
 */
export function checkTree(before: Outlook, after: Outlook, excused: Excused): Check | null {
  if (before.root === null) return null;
  const same = after.root !== null && after.root.mac === before.root.mac && after.root.priority === before.root.priority;
  const better = after.root !== null && !same && isBetter(after.root, before.root);
  const why = excused.names.get(before.root.mac);
  const passed = same || better || why !== undefined;
  return {
    name: 'spanning tree',
    result: passed ? 'passed' : 'failed',
    before: shown(before.root),
    after: after.root === null ? 'no root told' : shown(after.root),
    evidence: better
      ? ['a better bridge is the root now: it was away when it was looked at before']
      : !same && why !== undefined
        ? [`the root of before is missing, and ${why}: not held against it`]
        : [],
    cause: passed ? null : 'tree-changed',
  };
}
