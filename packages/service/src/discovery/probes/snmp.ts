import {
  aroundFromSnmp,
  aroundSubtrees,
  entityTable,
  physicalAddresses,
  recordFromSnmp,
  showsOf,
  systemObjects,
  type Around,
  type Shows,
  type SnmpRecord,
} from '@barrow/core';
import { engineQuestion, sweep, WireError, type SnmpTarget } from '@barrow/wire';
import type { CredentialRow } from '../../data/entities.js';
import type { Context } from '../../context.js';
import { snmpAccess } from '../../touch/access.js';
import type { Access } from '../access.js';
import type { Reading, Swept } from '../reading.js';

/** Subtrees that are walked at the same time on one device: its agent is small. */
const walksAtOnce = 4;
/** No device is walked for longer, or for more: some tables have no end. */
const longestWalkMs = 30_000;
const mostObjects = 60_000;

export interface SnmpReading {
  readonly raw: Map<string, string | number>;
  readonly aroundRaw: Map<string, string | number>;
  readonly record: SnmpRecord;
  readonly shows: Shows;
  readonly around: Around;
  /** Why not all of its tables were read; null when they were. */
  readonly cut: string | null;
}

/** Reads the standard objects that say what a device is, and the tables that say what is around it. @throws WireError */
export async function readSnmp(context: Pick<Context, 'snmp'>, target: SnmpTarget, signal?: AbortSignal): Promise<SnmpReading> {
  const system = await context.snmp.get(target, Object.values(systemObjects));
  // Its clock is compared with ours of now, and not of when all its tables were walked.
  const at = Date.now();
  const limit = AbortSignal.any([AbortSignal.timeout(longestWalkMs), ...(signal ? [signal] : [])]);
  const raw = new Map<string, string | number>();
  const aroundRaw = new Map<string, string | number>();
  for (const { oid, value } of system.values()) raw.set(oid, value);
  const walks: [string, number, Map<string, string | number>][] = [
    [entityTable, 2000, raw],
    [physicalAddresses, 2000, raw],
    ...Object.values(aroundSubtrees).map(([oid, most]): [string, number, Map<string, string | number>] => [oid, most, aroundRaw]),
  ];
  const queue = [...walks];
  let objects = 0;
  let cut: string | null = null;
  const walker = async (): Promise<void> => {
    for (let next = queue.shift(); next !== undefined && cut === null; next = queue.shift())
      try {
        const [oid, most, into] = next;
        const values = await context.snmp.walk(target, oid, Math.min(most, mostObjects - objects), limit);
        objects += values.length;
        if (objects >= mostObjects) cut = `its tables go on after ${mostObjects} objects`;
        for (const value of values) into.set(value.oid, value.value);
      } catch (error) {
        // What was read until then is kept: the device is known, if not all that is around it.
        if (!(error instanceof WireError) || signal?.aborted) throw error;
        cut ??= error.fault === 'cancelled' ? `its tables were not read to their end in ${longestWalkMs / 1000} s` : error.detail;
      }
  };
  await Promise.all(Array.from({ length: walksAtOnce }, walker));
  const all = new Map([...raw, ...aroundRaw]);
  const record = recordFromSnmp(raw);
  return { raw, aroundRaw, record, shows: showsOf(record, at), around: aroundFromSnmp(all), cut };
}

/** Asks by SNMP with the credentials that fit, and says when none does. */
export async function probeSnmp(context: Context, access: Access, reading: Reading, swept: Swept, signal: AbortSignal): Promise<void> {
  const { address, network } = reading;
  reading.engineId = swept.engineId;
  // A community that was answered in the sweep is known to work; v3 users are tried where the engine answered.
  const users = access.candidates('snmp', network, address).filter((c) => c.kind === 'snmp-v3');
  const candidates = swept.community !== null ? [swept.community] : swept.engineId === null ? [] : users;
  for (const credential of candidates) {
    const target: SnmpTarget = { address, port: network.snmpPort, access: snmpAccess(context, credential) };
    const probe = credential.kind === 'snmp-v3' ? 'SNMP v3' : 'SNMP v2c';
    let read: SnmpReading;
    try {
      read = await readSnmp(context, target, signal);
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      if (error.fault === 'login-refused') await access.refused(credential, 'snmp', address);
      if (error.fault !== 'cancelled') reading.troubles.push({ probe, ...(await whyNotRead(error, credential, reading, signal)) });
      continue;
    }
    const { record, around } = read;
    reading.credentials['snmp'] = credential.id;
    reading.engineId = record.engineId ?? reading.engineId;
    reading.heard.snmp = { objectId: record.objectId, description: record.description };
    reading.around = around;
    reading.agentUptime = record.agentUptime;
    reading.members = record.members;
    reading.shows = read.shows;
    reading.services = record.services;
    reading.capabilities = around.capabilities;
    reading.findings.push({ probe, values: { ...record, mac: around.chassisMac ?? record.mac } });
    reading.seen.push({ probe, raw: Object.fromEntries(read.raw), parsed: { ...record, agentUptime: undefined, clock: undefined } });
    if (read.aroundRaw.size > 0)
      reading.seen.push({
        probe: 'SNMP, what is around it',
        raw: Object.fromEntries(read.aroundRaw),
        parsed: {
          ports: around.ports.length,
          neighbours: around.neighbours.map((n) => n.name ?? n.chassisMac ?? n.addresses[0] ?? 'unnamed'),
          powerPorts: around.power.filter((p) => p.delivering).length,
          bridgeTable: around.forwarding.length,
          addressTable: around.arp.length,
        },
      });
    reading.troubles.splice(0);
    reading.isPartial = read.cut !== null;
    if (read.cut !== null)
      reading.troubles.push({
        probe,
        cause: 'unexpected-answer',
        detail: `${read.cut}; the rest was left`,
      });
    return;
  }
  if (swept.engineId !== null) {
    const none = 'it tells its engine ID to anybody, and answers none of the communities and users of its network';
    if (reading.troubles.length === 0) reading.troubles.push({ probe: 'SNMP', ...access.whyNone('snmp', reading, none) });
    reading.seen.push({ probe: 'SNMP v3 engine', raw: { engineId: swept.engineId }, parsed: { engineId: swept.engineId } });
  }
}

/** RFC 3414 lets an agent drop what it cannot authenticate, so that silence may be a refusal: only an engine that answers tells it from silence. */
async function whyNotRead(
  error: WireError,
  credential: CredentialRow,
  { address, network }: Reading,
  signal: AbortSignal,
): Promise<{ cause: string; detail: string }> {
  if (error.fault !== 'timeout') return { cause: causeOf(error), detail: error.detail };
  if (credential.kind === 'snmp-v3') {
    let answers = false;
    const questions = [engineQuestion(network.snmpPort)];
    await sweep({
      addresses: [address],
      questions,
      packetsPerSecond: 100,
      tries: 3,
      waitMs: 1000,
      signal,
      onAnswer: () => (answers = true),
    });
    if (answers)
      return {
        cause: 'login-refused',
        detail: `user ${credential.user} gets no answer, though the engine answers: its keys or its rights are probably others`,
      };
  }
  return { cause: 'unreachable', detail: `${error.detail}, though it answered when it was first asked` };
}

export function causeOf(error: WireError): string {
  const causes: Partial<Record<WireError['fault'], string>> = {
    refused: 'unreachable',
    unreachable: 'unreachable',
    lost: 'session-lost',
    timeout: 'no-answer-in-time',
    malformed: 'unexpected-answer',
    cancelled: 'session-lost',
  };
  return causes[error.fault] ?? error.fault;
}
