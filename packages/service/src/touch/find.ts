import { addressesOf, aroundSubtrees, macOf } from '@barrow/core';
import { engineQuestion, sweep, WireError } from '@barrow/wire';
import type { Context } from '../context.js';
import { CredentialEntity, DeviceEntity, NetworkEntity, type DeviceRow } from '../data/entities.js';
import { snmpAccess } from './access.js';

/** Where a device may be now, and by what that is known. */
export interface Whereabouts {
  readonly address: string;
  readonly how: string;
}

/** So many addresses of its network are asked. */
const mostAsked = 4096;
/** So many tables of addresses are read, and so long. */
const mostTables = 8;
const longestMs = 20_000;

/**
 * Where else in the ranges of its network a device may be that does not answer at its address any more: by its SNMP engine ID
 * (RFC 3411), which needs no credential, and by its hardware address in the address tables of its site (RFC 4293). Nobody who only
 * looks alike is asked: a login goes to no host that has not shown what is known of the device, and that one has to tell its serial.
 */
export async function findAgain(context: Context, device: DeviceRow, signal: AbortSignal): Promise<Whereabouts[]> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  if (!network) return [];
  const addresses = addressesOf(network.ranges, network.exclude).filter((a) => a !== device.address);
  const allowed = new Set(addresses);
  const found = new Map<string, string>();
  if (device.mac !== null)
    for (const address of await tabled(context, device, signal))
      if (allowed.has(address)) found.set(address, `its hardware address ${device.mac}`);
  if (device.engineId !== null)
    await sweep({
      addresses: addresses.slice(0, mostAsked),
      questions: [engineQuestion(network.snmpPort)],
      packetsPerSecond: network.packetsPerSecond,
      tries: 2,
      waitMs: 400,
      signal,
      onAnswer: ({ address, answer }) => {
        if ((answer as { engineId: string }).engineId === device.engineId) found.set(address, `its SNMP engine ID ${device.engineId}`);
      },
    });
  return [...found].map(([address, how]) => ({ address, how }));
}

/** At which addresses the tables of its site have its hardware address. */
async function tabled(context: Context, device: DeviceRow, signal: AbortSignal): Promise<string[]> {
  const { db } = context;
  const asked = await db.find(
    DeviceEntity,
    { site: device.site, kind: { $in: ['router', 'switch'] }, snmpCredential: { $ne: null }, id: { $ne: device.id } },
    { orderBy: { kind: 'asc' }, limit: mostTables },
  );
  const found = new Set<string>();
  const limit = AbortSignal.any([signal, AbortSignal.timeout(longestMs)]);
  for (const row of asked) {
    const network = await db.keptOne(NetworkEntity, 'name', row.network);
    const credential = await db.keptOne(CredentialEntity, 'id', row.snmpCredential!);
    if (!network || !credential) continue;
    const [oid, most] = aroundSubtrees.ipNetToMedia;
    try {
      const target = { address: row.address, port: network.snmpPort, access: snmpAccess(context, credential), timeoutMs: 1000 };
      for (const { oid: at, value } of await context.snmp.walk(target, oid, most, limit))
        // RFC 4293 ipNetToMediaTable: ifIndex, then the address.
        if (macOf(value) === device.mac)
          found.add(
            at
              .slice(oid.length + 1)
              .split('.')
              .slice(1)
              .join('.'),
          );
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
    }
  }
  return [...found];
}
