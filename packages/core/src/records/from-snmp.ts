import { safeText } from '../text/safe.js';
import type { Ms } from '../units.js';
import { macOf, type Answers } from './around.js';

/** The objects asked of every address, RFC 3418 and RFC 3411. */
export const systemObjects = {
  description: '1.3.6.1.2.1.1.1.0',
  objectId: '1.3.6.1.2.1.1.2.0',
  upTime: '1.3.6.1.2.1.1.3.0',
  name: '1.3.6.1.2.1.1.5.0',
  location: '1.3.6.1.2.1.1.6.0',
  services: '1.3.6.1.2.1.1.7.0',
  engineId: '1.3.6.1.6.3.10.2.1.1.0',
  engineBoots: '1.3.6.1.6.3.10.2.1.2.0',
} as const;

/** RFC 6933 entPhysicalTable and the first physical address of RFC 2863 ifTable. */
export const entityTable = '1.3.6.1.2.1.47.1.1.1.1';
export const physicalAddresses = '1.3.6.1.2.1.2.2.1.6';

/** RFC 6933 entPhysicalClass. */
const chassis = 3;
const stack = 11;

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
  /** The members of a stack, each a chassis with a serial of its own; empty for a single device. */
  readonly members: readonly StackMember[];
  /** How many kinds of thing it forwards for, RFC 3418 sysServices; null when not told. */
  readonly services: number | null;
}

export interface StackMember {
  readonly name: string | null;
  readonly serial: string | null;
  readonly model: string | null;
  readonly firmware: string | null;
  readonly hardwareRevision: string | null;
}

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

/** Derives a record from the raw answers: the chassis row of ENTITY-MIB is the device. */
export function recordFromSnmp(answers: Answers): SnmpRecord {
  const rows: number[] = [];
  for (const oid of answers.keys()) if (oid.startsWith(`${entityTable}.5.`)) rows.push(Number(oid.slice(entityTable.length + 3)));
  const row = rows.sort((a, b) => a - b).find((r) => answers.get(`${entityTable}.5.${r}`) === chassis) ?? rows[0];
  const of = (from: number | undefined, column: number): string | null =>
    from === undefined ? null : text(answers, `${entityTable}.${column}.${from}`);
  const entity = (column: number): string | null => of(row, column);
  const isStack = rows.some((r) => answers.get(`${entityTable}.5.${r}`) === stack);
  const chassisRows = rows.filter((r) => answers.get(`${entityTable}.5.${r}`) === chassis);
  const members = isStack
    ? chassisRows.map((r) => ({
        name: of(r, 7) ?? of(r, 2),
        serial: of(r, 11),
        model: of(r, 13),
        firmware: of(r, 10),
        hardwareRevision: of(r, 8),
      }))
    : [];
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
    members,
    services: whole(answers, systemObjects.services),
  };
}
