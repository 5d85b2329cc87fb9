import { recordFromSnmp, systemObjects, type RunningTime, type SnmpRecord } from '@barrow/core';
import { WireError } from '@barrow/wire';
import type { Context } from '../context.js';
import { snmpAccess } from './access.js';
import { CredentialEntity, DeviceEntity, NetworkEntity, type DeviceRow } from '../data/entities.js';

/** Reads the system objects of a device by SNMP; null when it does not answer within the time. */
export async function readSystem(context: Context, device: DeviceRow, timeoutMs: number, retries: number): Promise<SnmpRecord | null> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  const credential = device.snmpCredential === null ? null : await context.db.keptOne(CredentialEntity, 'id', device.snmpCredential);
  if (!network || !credential) return null;
  try {
    const values = await context.snmp.get(
      { address: device.address, port: network.snmpPort, access: snmpAccess(context, credential), timeoutMs, retries },
      Object.values(systemObjects),
    );
    return recordFromSnmp(new Map([...values].map(([oid, v]) => [oid, v.value])));
  } catch (error) {
    if (error instanceof WireError) return null;
    throw error;
  }
}

/** How long the device has been running, by all that can tell it. */
export function runningTime(system: SnmpRecord | null, bootCount: string | undefined, readAt: number): RunningTime {
  return {
    readAt,
    agentUptime: system?.agentUptime ?? null,
    engineBoots: system?.engineBoots ?? null,
    bootCount: bootCount === undefined ? null : Number(bootCount),
  };
}

/** Looks by which SNMP credential of its network a device answers now, and keeps it; where none answers, what is kept stays. */
export async function snmpAnew(context: Context, device: DeviceRow): Promise<void> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  const all = (await context.db.kept(CredentialEntity)).filter((c) => c.kind.startsWith('snmp-') && network?.credentials.includes(c.id));
  for (const { id } of all)
    if ((await readSystem(context, { ...device, snmpCredential: id }, 1000, 1)) !== null) {
      if (device.snmpCredential === id) return;
      const credentials = { ...device.credentials, ...('snmp' in device.credentials ? { snmp: id } : {}) };
      await context.db.writeSurely(async (em) => em.nativeUpdate(DeviceEntity, { id: device.id }, { snmpCredential: id, credentials }));
      device.snmpCredential = id;
      return;
    }
}
