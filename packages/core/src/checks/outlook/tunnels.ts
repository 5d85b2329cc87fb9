import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/**
 * Tunnels that were up are up again, by name (RFC 2863 ifOperStatus of an interface of IANAifType tunnel): each counts, since it is up only while
 * its other end answers.
 */
export function checkTunnels(before: Outlook, after: Outlook, excused: Excused): Check | null {
  const tunnels = before.ports.filter((p) => p.tunnel);
  if (tunnels.length === 0) return null;
  const up = new Set(after.ports.map((p) => p.name));
  const { counted, evidence } = sorted(
    tunnels.filter((p) => !up.has(p.name)),
    (p) => excused.ports.get(p.name),
    (p) => `${p.name} was up and is down`,
  );
  return {
    name: 'tunnels',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${tunnels.length} up`,
    after: `${after.ports.filter((p) => p.tunnel).length} up`,
    evidence,
    cause: counted.length > 0 ? 'tunnel-down' : null,
  };
}
