import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** Who was heard is heard again, on whichever port. */
export function checkNeighbours(before: Outlook, after: Outlook, excused: Excused): Check | null {
  if (before.neighbours.length === 0) return null;
  const heard = new Set(after.neighbours.flatMap((n) => [n.name, ...(n.mac === null ? [] : [n.mac])]));
  const missing = before.neighbours.filter((n) => !heard.has(n.name) && (n.mac === null || !heard.has(n.mac)));
  const { counted, evidence } = sorted(
    missing,
    (n) => excused.names.get(n.name) ?? (n.mac === null ? undefined : excused.names.get(n.mac)) ?? excused.ports.get(n.port ?? ''),
    (n) => `${n.name} was heard${n.port === null ? '' : ` on ${n.port}`} and is not`,
  );
  return {
    name: 'neighbours',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${before.neighbours.length} heard`,
    after: `${after.neighbours.length} heard`,
    evidence,
    cause: counted.length > 0 ? 'neighbours-missing' : null,
  };
}
