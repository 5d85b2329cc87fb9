import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** Ports that were bundled are in the same aggregate again (IEEE8023-LAG-MIB). */
export function checkBundles(before: Outlook, after: Outlook, excused: Excused): Check | null {
  const members = before.ports.filter((p) => p.bundle !== null);
  if (members.length === 0) return null;
  const now = new Map(after.ports.map((p) => [p.name, p.bundle]));
  const { counted, evidence } = sorted(
    members.filter((p) => now.get(p.name) !== p.bundle),
    (p) => excused.ports.get(p.name),
    (p) => `${p.name} was in ${p.bundle} and is ${now.get(p.name) ? `in ${now.get(p.name)}` : 'in none'}`,
  );
  return {
    name: 'aggregates',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${members.length} ports bundled`,
    after: `${after.ports.filter((p) => p.bundle !== null).length} ports bundled`,
    evidence,
    cause: counted.length > 0 ? 'bundle-apart' : null,
  };
}
