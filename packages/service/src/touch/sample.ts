import type { Sample } from '@barrow/core';
import { ownMissed, WireError, type SnmpTarget, type SnmpValue } from '@barrow/wire';
import { steadyNow } from '../steady.js';
import type { Context } from '../context.js';
import { CredentialEntity, NetworkEntity, type DeviceRow } from '../data/entities.js';
import { snmpAccess } from './access.js';

const upTime = '1.3.6.1.2.1.1.3.0';
/** RFC 2790 hrStorageTable and hrProcessorLoad, RFC 2863 ifTable, IEEE 802.1AB lldpRemTable, RFC 3621 pethPsePortTable. */
const columns = {
  storageType: '1.3.6.1.2.1.25.2.3.1.2',
  storageUnits: '1.3.6.1.2.1.25.2.3.1.4',
  storageSize: '1.3.6.1.2.1.25.2.3.1.5',
  storageUsed: '1.3.6.1.2.1.25.2.3.1.6',
  load: '1.3.6.1.2.1.25.3.3.1.2',
  lastChange: '1.3.6.1.2.1.2.2.1.9',
  inDiscards: '1.3.6.1.2.1.2.2.1.13',
  inErrors: '1.3.6.1.2.1.2.2.1.14',
  outDiscards: '1.3.6.1.2.1.2.2.1.19',
  outErrors: '1.3.6.1.2.1.2.2.1.20',
  neighbours: '1.0.8802.1.1.2.1.4.1.1.9',
  fed: '1.3.6.1.2.1.105.1.1.1.6',
} as const;
type Column = keyof typeof columns;
/** RFC 2790 hrStorageRam. */
const ram = '1.3.6.1.2.1.25.2.1.2';
const delivering = 3;
const mostRows = 1000;
const longestMs = 20_000;
/** So much of our own lateness makes a round trip ours, and not the device's. */
const ourLateness = 50;

/** When ports last came up or went down, by ifIndex, as a sample found it. */
export type LastChange = ReadonlyMap<string, number>;

/** One look at how a device fares. null: nobody knows how to ask it, or we were too late ourselves to say that it did not answer. */
export async function takeSample(
  context: Context,
  device: DeviceRow,
  before: LastChange | null,
  signal: AbortSignal,
): Promise<{ readonly sample: Sample; readonly lastChange: LastChange | null } | null> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  const credential = device.snmpCredential === null ? null : await context.db.keptOne(CredentialEntity, 'id', device.snmpCredential);
  if (!network || !credential) return null;
  const target: SnmpTarget = { address: device.address, port: network.snmpPort, access: snmpAccess(context, credential), timeoutMs: 1500 };
  const limit = AbortSignal.any([signal, AbortSignal.timeout(longestMs)]);
  const at = steadyNow();
  const missed = ownMissed();
  try {
    const asked = performance.now();
    const up = (await context.snmp.get(target, [upTime])).get(upTime)?.value;
    const roundTripMs = performance.now() - asked;
    const late = ownMissed() - missed > ourLateness;
    const rows = new Map<Column, readonly SnmpValue[]>();
    for (const [name, oid] of Object.entries(columns) as [Column, string][])
      rows.set(name, await context.snmp.walk(target, oid, mostRows, limit));
    const numbers = (name: Column): number[] => rows.get(name)!.flatMap(({ value }) => (typeof value === 'number' ? [value] : []));
    const sum = (...names: Column[]): number | null => {
      const all = names.flatMap(numbers);
      return all.length === 0 ? null : all.reduce((a, b) => a + b, 0);
    };
    const lastChange = new Map(
      rows
        .get('lastChange')!
        .flatMap(({ oid, value }) => (typeof value === 'number' ? [[indexOf(oid, columns.lastChange), value] as const] : [])),
    );
    const load = numbers('load');
    const sample: Sample = {
      at,
      answered: true,
      roundTripMs: late ? null : roundTripMs,
      // TimeTicks (RFC 2578 §7.1.8): hundredths of a second.
      upMs: typeof up === 'number' ? up * 10 : null,
      ...memoryOf(rows),
      load: load.length === 0 ? null : Math.max(...load),
      errors: sum('inErrors', 'outErrors'),
      discards: sum('inDiscards', 'outDiscards'),
      flaps:
        before === null || lastChange.size === 0 ? null : [...lastChange].filter(([port, ticks]) => ticks > (before.get(port) ?? 0)).length,
      neighbours: rows.get('neighbours')!.length || null,
      fed: numbers('fed').filter((state) => state === delivering).length || null,
    };
    return { sample, lastChange: lastChange.size === 0 ? null : lastChange };
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    if (signal.aborted || ownMissed() - missed > ourLateness) return null;
    return { sample: { ...silent, at }, lastChange: before };
  }
}

const silent = {
  answered: false,
  roundTripMs: null,
  upMs: null,
  freeKb: null,
  memoryKb: null,
  load: null,
  errors: null,
  discards: null,
  flaps: null,
  neighbours: null,
  fed: null,
} as const;

const indexOf = (oid: string, column: string): string => oid.slice(column.length + 1);

/** Of the storage that is its memory: what is free of it, and all of it. */
function memoryOf(rows: ReadonlyMap<Column, readonly SnmpValue[]>): Pick<Sample, 'freeKb' | 'memoryKb'> {
  const cell = (name: Column, index: string): number => {
    const found = rows.get(name)!.find(({ oid }) => indexOf(oid, columns[name]) === index)?.value;
    return typeof found === 'number' ? found : NaN;
  };
  const row = rows.get('storageType')!.find(({ value }) => value === ram);
  if (!row) return { freeKb: null, memoryKb: null };
  const index = indexOf(row.oid, columns.storageType);
  const unit = cell('storageUnits', index) / 1024;
  const [size, used] = [cell('storageSize', index) * unit, cell('storageUsed', index) * unit];
  return Number.isFinite(size) && Number.isFinite(used) ? { freeKb: size - used, memoryKb: size } : { freeKb: null, memoryKb: null };
}
