import type { Check } from '../check.js';
import type { RemovedService } from '../../images/note.js';
import type { Excused } from './excused.js';
import type { Outlook } from './outlook.js';

/** By what a service is reached, as an outlook names it. */
const doorOf: Readonly<Record<RemovedService, string>> = {
  'snmp-v2c': 'SNMP',
  snmp: 'SNMP',
  ssh: 'SSH',
  http: 'HTTP',
  https: 'HTTPS',
  sip: 'SIP',
  onvif: 'ONVIF',
};
const ofSnmp = { ports: [], neighbours: [], fed: [], learned: null, routes: null, root: null, tree: [] } as const;

/**
 * What a device showed before, without what its new image is known to take away: nobody compares ports that can no longer be asked for.
 */
export function withoutRemoved(before: Outlook, after: Outlook, removes: readonly RemovedService[]): Outlook {
  const gone = new Set(removes.map((r) => doorOf[r]));
  return gone.has('SNMP') && !after.doors.includes('SNMP') ? { ...before, ...ofSnmp, clockOffMs: after.clockOffMs } : before;
}

/**
 * By what it could be asked before, it can be asked again: a protocol that an upgrade shuts is one that somebody else needs. What the
 * note of the image says is gone is expected to be gone.
 */
export function checkDoors(before: Outlook, after: Outlook, { removes = [] }: Pick<Excused, 'removes'>): Check | null {
  if (before.doors.length === 0) return null;
  const open = new Set(after.doors);
  const gone = before.doors.filter((door) => !open.has(door));
  const expected = new Set(removes.map((r) => doorOf[r]));
  const shut = gone.filter((door) => !expected.has(door));
  return {
    name: 'doors',
    result: shut.length > 0 ? 'failed' : 'passed',
    before: before.doors.join(', '),
    after: after.doors.join(', ') || 'none',
    evidence: gone.map((door) =>
      expected.has(door) ? `${door} no longer answers, as the note of the image says` : `${door} answered before and no longer does`,
    ),
    cause: shut.length > 0 ? 'door-shut' : null,
  };
}
