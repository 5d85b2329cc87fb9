import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** What was powered is powered again, port by port (RFC 3621 pethPsePortDetectionStatus). */
export function checkPower(before: Outlook, after: Outlook, excused: Excused): Check | null {
  if (before.fed.length === 0) return null;
  const fed = new Set(after.fed);
  const { counted, evidence } = sorted(
    before.fed.filter((port) => !fed.has(port)),
    (port) => excused.ports.get(port),
    (port) => `${port} delivered power and does not`,
  );
  return {
    name: 'power',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${before.fed.length} ports deliver`,
    after: `${after.fed.length} ports deliver`,
    evidence,
    cause: counted.length > 0 ? 'power-not-delivered' : null,
  };
}
