import type { Kind } from '../units.js';
import type { Capability } from './around.js';

/** What one probe says of a device; what it does not say is absent or null. */
export interface Finding {
  /** The probe, in words: `SNMP`, `ONVIF`, `LLDP-MED, heard by quay-sw-1`. */
  readonly probe: string;
  readonly values: Partial<Record<BelievedField, string | null>>;
}

export const believedFields = [
  'name',
  'maker',
  'model',
  'hardwareRevision',
  'variant',
  'serial',
  'mac',
  'engineId',
  'firmware',
  'bootLoader',
] as const;
export type BelievedField = (typeof believedFields)[number];

export interface Belief {
  readonly values: Readonly<Record<BelievedField, string | null>>;
  /** By which probe each value is believed. */
  readonly by: Readonly<Partial<Record<BelievedField, string>>>;
}

/** Takes each field from the first finding that tells it: findings come in the order of how much they are believed. */
export function believe(findings: readonly Finding[]): Belief {
  const values = Object.fromEntries(believedFields.map((f) => [f, null])) as Record<BelievedField, string | null>;
  const by: Partial<Record<BelievedField, string>> = {};
  for (const field of believedFields)
    for (const finding of findings) {
      const value = finding.values[field];
      // An empty variant is the plain one, told as such; any other empty text tells nothing.
      if (value === undefined || value === null || (value === '' && field !== 'variant')) continue;
      values[field] = value;
      by[field] = finding.probe;
      break;
    }
  return { values, by };
}

/** What the standards alone tell of a device's kind. */
export interface KindEvidence {
  /** IEEE 802.1AB capabilities, its own or those that a neighbour heard. */
  readonly capabilities: readonly Capability[];
  readonly isOnvif: boolean;
  /** SIP: `agent` sends User-Agent, `server` sends Server (RFC 3261 §20.35, §20.41). */
  readonly sip: 'agent' | 'server' | null;
  /** RFC 3418 sysServices. */
  readonly services: number | null;
  readonly forwards: boolean;
}

/** Says what a device is when no family fits, and by what; null when nothing tells it. */
export function kindByStandards(evidence: KindEvidence): { kind: Kind; because: string } | null {
  const has = (c: Capability): boolean => evidence.capabilities.includes(c);
  if (evidence.isOnvif) return { kind: 'camera', because: 'it answers ONVIF' };
  if (has('phone')) return { kind: 'phone', because: 'LLDP says telephone' };
  if (has('access-point')) return { kind: 'access-point', because: 'LLDP says WLAN access point' };
  if (has('router')) return { kind: 'router', because: 'LLDP says router' };
  if (has('bridge')) return { kind: 'switch', because: 'LLDP says bridge' };
  if (evidence.sip === 'agent') return { kind: 'phone', because: 'it answers SIP as a user agent' };
  if (evidence.forwards) return { kind: 'switch', because: 'it has a bridge table' };
  // RFC 3418: 4 is set for layer 3. A host that says so too says layer 7 besides.
  if (evidence.services !== null && (evidence.services & 4) !== 0 && (evidence.services & 64) === 0)
    return { kind: 'router', because: 'sysServices says internet layer' };
  return null;
}
