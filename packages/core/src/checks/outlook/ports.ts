import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/**
 * Ports that were up are up again, by name. A port behind which nobody was heard and which powers nobody may be that of a machine that
 * somebody switched off: it counts only where there were several of the kind, and none has come up again.
 */
export function checkPorts(before: Outlook, after: Outlook, excused: Excused): Check | null {
  const ports = before.ports.filter((p) => !p.tunnel);
  if (ports.length === 0) return null;
  const up = new Set(after.ports.map((p) => p.name));
  const matter = new Set([...before.neighbours.flatMap((n) => n.port ?? []), ...before.fed]);
  const plain = ports.filter((p) => !matter.has(p.name) && p.bundle === null);
  const mayBeOff = plain.length < 2 || plain.some((p) => up.has(p.name));
  const missing = ports.filter((p) => !up.has(p.name));
  const { counted, evidence } = sorted(
    missing,
    (p) =>
      excused.ports.get(p.name) ??
      (mayBeOff && plain.includes(p) ? 'nobody that is known was behind it: a machine may have been switched off there' : undefined),
    (p) => `${p.name} was up and is down`,
  );
  return {
    name: 'ports',
    result: counted.length > 0 ? 'failed' : 'passed',
    before: `${ports.length} up`,
    after: `${after.ports.filter((p) => !p.tunnel).length} up`,
    evidence,
    cause: counted.length > 0 ? 'ports-down' : null,
  };
}
