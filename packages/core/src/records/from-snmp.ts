import { safeText } from '../text/safe.js';
import type { Ms } from '../units.js';

/** The objects asked of every address, RFC 3418 and RFC 3411. */
export const systemObjects = {
  description: '1.3.6.1.2.1.1.1.0',
  objectId: '1.3.6.1.2.1.1.2.0',
  upTime: '1.3.6.1.2.1.1.3.0',
  name: '1.3.6.1.2.1.1.5.0',
  location: '1.3.6.1.2.1.1.6.0',
  engineId: '1.3.6.1.6.3.10.2.1.1.0',
  engineBoots: '1.3.6.1.6.3.10.2.1.2.0',
} as const;

/** RFC 6933 entPhysicalTable and the first physical address of RFC 2863 ifTable. */
export const entityTable = '1.3.6.1.2.1.47.1.1.1.1';
export const physicalAddresses = '1.3.6.1.2.1.2.2.1.6';

/** RFC 6933 entPhysicalClass. */
const chassis = 3;

/** What SNMP alone tells of a device; null is "not told". */
export interface SnmpRecord {
  readonly name: string | null;
  readonly description: string | null;
  readonly objectId: string | null;
  readonly location: string | null;
  readonly agentUptime: Ms | null;
  readonly engineId: string | null;
  readonly engineBoots: number | null;
  readonly maker: string | null;
  readonly model: string | null;
  readonly hardwareRevision: string | null;
  readonly bootLoader: string | null;
  readonly firmware: string | null;
  readonly serial: string | null;
  readonly mac: string | null;
}

type Answers = ReadonlyMap<string, string | number>;

function text(answers: Answers, oid: string): string | null {
  const value = answers.get(oid);
  if (value === undefined) return null;
  const shown = safeText(String(value), 400).trim();
  return shown === '' ? null : shown;
}

function whole(answers: Answers, oid: string): number | null {
  const value = answers.get(oid);
  return typeof value === 'number' ? value : null;
}

/** A MAC address (IEEE 802) as `06:17:4b:00:01:00`, from octets written as `0x…` or as text of six characters. */
function macOf(value: string | number | undefined): string | null {
  if (typeof value !== 'string') return null;
  const hex = value.startsWith('0x') ? value.slice(2) : [...value].map((c) => c.charCodeAt(0).toString(16).padStart(2, '0')).join('');
  return /^[0-9a-f]{12}$/.test(hex) && hex !== '000000000000' ? hex.replace(/(..)(?!$)/g, '$1:') : null;
}

/** Derives a record from the raw answers: the chassis row of ENTITY-MIB is the device. */
export function recordFromSnmp(answers: Answers): SnmpRecord {
  const rows: number[] = [];
  for (const oid of answers.keys()) if (oid.startsWith(`${entityTable}.5.`)) rows.push(Number(oid.slice(entityTable.length + 3)));
  const row = rows.sort((a, b) => a - b).find((r) => answers.get(`${entityTable}.5.${r}`) === chassis) ?? rows[0];
  const entity = (column: number): string | null => (row === undefined ? null : text(answers, `${entityTable}.${column}.${row}`));
  let mac: string | null = null;
  for (const [oid, value] of answers) {
    if (!oid.startsWith(`${physicalAddresses}.`)) continue;
    mac = macOf(value);
    if (mac !== null) break;
  }
  const ticks = whole(answers, systemObjects.upTime);
  return {
    name: text(answers, systemObjects.name),
    description: text(answers, systemObjects.description),
    objectId: text(answers, systemObjects.objectId),
    location: text(answers, systemObjects.location),
    agentUptime: ticks === null ? null : ticks * 10,
    engineId: text(answers, systemObjects.engineId),
    engineBoots: whole(answers, systemObjects.engineBoots),
    maker: entity(12),
    model: entity(13),
    hardwareRevision: entity(8),
    bootLoader: entity(9),
    firmware: entity(10),
    serial: entity(11),
    mac,
  };
}
