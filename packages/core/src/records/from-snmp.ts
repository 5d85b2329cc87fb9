import { safeText } from '../text/safe.js';
import type { Instant, Ms } from '../units.js';
import { macOf, octetsOf, type Answers } from './around.js';
import type { Shows } from './told.js';

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
  /** RFC 2790 hrSystemDate. */
  date: '1.3.6.1.2.1.25.1.2.0',
} as const;

/** RFC 6933 entPhysicalTable and the first physical address of RFC 2863 ifTable. */
export const entityTable = '1.3.6.1.2.1.47.1.1.1.1';
export const physicalAddresses = '1.3.6.1.2.1.2.2.1.6';

/** RFC 6933 entPhysicalClass. */
const chassis = 3;
const stack = 11;
const powerSupply = 6;

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
  /** How many power supplies it lists; null when it lists none. */
  readonly supplies: number | null;
  /** What its clock shows; null when it is not told, or without its time zone. */
  readonly clock: Instant | null;
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
    supplies: rows.filter((r) => answers.get(`${entityTable}.5.${r}`) === powerSupply).length || null,
    clock: dateOf(answers.get(systemObjects.date)),
  };
}

/** RFC 2579 DateAndTime: what is not a moment, or has no time zone, tells none. */
export function dateOf(value: string | number | undefined): Instant | null {
  const octets = octetsOf(value);
  if (octets.length !== 11) return null;
  const [high = 0, low = 0, month = 0, day = 0, hour = 0, minute = 0, second = 0, tenth = 0, sign, zoneHours = 0, zoneMinutes = 0] = octets;
  const direction = sign === 0x2b ? 1 : sign === 0x2d ? -1 : 0;
  if (direction === 0 || month < 1 || month > 12 || day < 1 || day > 31 || hour > 23 || minute > 59 || second > 60) return null;
  return (
    Date.UTC(high * 256 + low, month - 1, day, hour, minute, second, tenth * 100) - direction * (zoneHours * 60 + zoneMinutes) * 60_000
  );
}

/** What a record shows besides who the device is, as it was read at a moment of ours. */
export const showsOf = ({ supplies, clock }: Pick<SnmpRecord, 'supplies' | 'clock'>, at: Instant): Shows => ({
  ...(supplies === null ? {} : { supplies }),
  ...(clock === null ? {} : { clockAheadMs: clock - at }),
});
