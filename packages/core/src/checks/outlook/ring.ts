import type { Check } from '../check.js';
import { sorted, type Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/**
 * A ring that was closed is closed again, once the tree is quiet (RFC 4188 dot1dStpPortState): a port that blocked kept a second way in
 * reserve. Where none of its ports blocks any more, the other way round is gone. Under another root other bridges block: nothing is said then.
 */
export function checkRing(before: Outlook, after: Outlook, excused: Excused): Check | null {
  const blocked = before.tree.filter((p) => p.state === 'blocking');
  if (blocked.length === 0 || before.root === null || before.root.mac !== after.root?.mac) return null;
  const now = new Map(after.tree.map((p) => [p.port, p.state]));
  const blocking = after.tree.filter((p) => p.state === 'blocking');
  const moving = after.tree.filter((p) => p.state === 'moving');
  const open = blocking.length >= blocked.length ? [] : blocked.filter((p) => now.get(p.port) !== 'blocking');
  // Who is missing in a ring need not hang on the port that blocked; who is excused and there explains nothing.
  const up = new Set(after.ports.map((p) => p.name));
  const away = [...excused.ports].find(([port]) => !up.has(port))?.[1];
  const { counted, evidence } = sorted(
    open,
    () => away,
    (p) => `${p.port} blocked, and ${now.get(p.port) === 'forwarding' ? 'forwards' : 'is in no tree'}`,
  );
  const failed = counted.length > 0 || moving.length > 0;
  return {
    name: 'ring',
    result: failed ? 'failed' : 'passed',
    before: `${blocked.length} blocking`,
    after: `${blocking.length} blocking`,
    evidence: [...evidence, ...moving.map((p) => `${p.port} is not yet at rest`)],
    cause: failed ? 'ring-open' : null,
  };
}
