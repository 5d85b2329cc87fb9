import { createSocket, type Socket } from 'node:dgram';
import snmp, { type Agent } from 'net-snmp';
import type { Health } from '../ailments.js';
import { capabilityBits, type Capability, type Part, type Surroundings } from '../surroundings.js';

/** A user of SNMP v3 (RFC 3414) with SHA-1 or SHA-256 (RFC 7860) and AES-128 (RFC 3826). */
export interface AgentUser {
  readonly name: string;
  readonly auth: 'sha1' | 'sha256';
  readonly authKey: string;
  readonly privKey: string;
}

export interface AgentFacts {
  readonly address: string;
  readonly port: number;
  /** null: the agent speaks v3 only. */
  readonly community: string | null;
  readonly user?: AgentUser | undefined;
  readonly sysDescr: string;
  readonly sysObjectId: string;
  readonly sysName: () => string;
  readonly sysLocation: string;
  /** Hundredths of a second since the device started. */
  readonly upTicks: () => number;
  readonly engineId: Buffer;
  readonly engineBoots: number;
  /** RFC 3418: 2 for a bridge, 4 for a router, 72 for a host. */
  readonly services: number;
  /** What its clock shows, as a moment; absent: it does not tell. */
  readonly clock?: () => number;
  /** Milliseconds that an answer takes on its way, as over a slow link. */
  readonly delayMs?: number;
  readonly parts: () => readonly Part[];
  readonly around: () => Surroundings;
  /** Another number whenever what is around it may have changed. */
  readonly changes: () => number;
  /** How it fares; absent: it does not tell. */
  readonly health?: () => Health;
  /** Its ports can be told to give no power, by whoever has this community, or by its user. */
  readonly power?: PortPower | undefined;
}

/** Ports that feed others, and can be switched. */
export interface PortPower {
  readonly community: string | null;
  readonly isOn: (port: number) => boolean;
  readonly turn: (port: number, on: boolean) => void;
}

/** The decoder of the SNMP library ends the process on a malformed packet; a device would only drop it. */
const guarded = (delayMs: number, before: () => void) => ({
  createSocket(type: 'udp4' | 'udp6'): Socket {
    const socket = createSocket(type);
    if (delayMs > 0) {
      // A slow line: what is answered arrives later.
      const send = socket.send.bind(socket) as (...args: unknown[]) => void;
      socket.send = ((...args: unknown[]) => void setTimeout(() => sendIfOpen(send, args), delayMs)) as typeof socket.send;
    }
    const on = socket.on.bind(socket);
    socket.on = ((event: string, listener: (...args: unknown[]) => void) =>
      on(
        event as 'message',
        event === 'message'
          ? (((...args: unknown[]) => {
              before();
              try {
                listener(...args);
              } catch {
                // Dropped.
              }
            }) as never)
          : (listener as never),
      )) as typeof socket.on;
    return socket;
  },
});

function sendIfOpen(send: (...args: unknown[]) => void, args: unknown[]): void {
  try {
    send(...args);
  } catch {
    // It was closed meanwhile.
  }
}

interface SetRequest {
  readonly oid: string;
  /** The second of the two phases of a set, in which it is done. */
  readonly commitSet?: boolean;
  readonly setValue?: number;
  done(): void;
}
type Column = readonly [number, string, number];
type Index = readonly { columnName: string; length?: boolean | number }[];

const octets = (mac: string): Buffer => Buffer.from(mac.replaceAll(':', ''), 'hex');
const addressOctets = (address: string): Buffer => Buffer.from(address.split('.').map(Number));

/** IEEE 802.1AB: bits count from the most significant one. */
function capabilityOctets(capabilities: readonly Capability[]): Buffer {
  const bits = Buffer.alloc(2);
  for (const c of capabilities) bits[capabilityBits[c] >> 3]! |= 0x80 >> (capabilityBits[c] & 7);
  return bits;
}

/**
 * Starts a device's SNMP agent, v2c or v3: system (RFC 3418), IF-MIB (RFC 2863), ENTITY-MIB (RFC 6933), SNMP-FRAMEWORK-MIB (RFC 3411),
 * and of what is around it LLDP-MIB and LLDP-EXT-MED-MIB, POWER-ETHERNET-MIB (RFC 3621), Q-BRIDGE-MIB (RFC 4363), BRIDGE-MIB (RFC 4188),
 * IP-MIB (RFC 4293), IEEE8023-LAG-MIB.
 */
export function startAgent(facts: AgentFacts): Agent {
  const { power } = facts;
  let around = facts.around();
  let changes = facts.changes();
  /** Every table, told anew after something around has changed. */
  const tables: (() => void)[] = [];
  /** Those that are never long the same. */
  const livelyTables: (() => void)[] = [];
  let health = facts.health?.();
  const renew = (): void => {
    health = facts.health?.();
    const same = facts.changes() === changes;
    if (!same) around = facts.around();
    changes = facts.changes();
    for (const tell of same ? livelyTables : tables) tell();
  };
  const agent = snmp.createAgent(
    {
      port: facts.port,
      address: facts.address,
      disableAuthorization: false,
      // Without a model of access the library answers anonymous v3 requests.
      accessControlModelType: snmp.AccessControlModelType.Simple,
      engineID: facts.engineId,
      dgramModule: guarded(facts.delayMs ?? 0, () => renew()),
    },
    () => undefined,
  );
  const authorizer = agent.getAuthorizer();
  if (facts.community !== null) authorizer.addCommunity(facts.community);
  if (facts.user) {
    const { name, auth, authKey, privKey } = facts.user;
    authorizer.addUser({
      name,
      level: snmp.SecurityLevel['authPriv'],
      authProtocol: snmp.AuthProtocols[auth === 'sha1' ? 'sha' : 'sha256'],
      authKey,
      privProtocol: snmp.PrivProtocols['aes'],
      privKey,
    });
    if (power) authorizer.getAccessControlModel().setUserAccess(name, snmp.AccessLevel['ReadWrite']!);
  }
  if (power?.community != null) {
    authorizer.addCommunity(power.community);
    authorizer.getAccessControlModel().setCommunityAccess(power.community, snmp.AccessLevel['ReadWrite']!);
  }
  // RFC 3414 §2.2.2: boots and time of the engine, which the library leaves standing still.
  Object.defineProperty(agent.engine, 'engineBoots', { get: () => facts.engineBoots });
  Object.defineProperty(agent.engine, 'engineTime', { get: () => Math.floor(facts.upTicks() / 100) });

  const mib = agent.getMib();
  // The library gathers for every value the whole row that it stands in, for nobody here: a third of all its work.
  mib.getTableRowCells = () => null;
  const { ObjectType: types, MaxAccess: may } = snmp;
  const scalar = (name: string, oid: string, type: number, value: unknown, now?: () => unknown): void => {
    agent.registerProvider({
      name,
      type: snmp.MibProviderType.Scalar,
      oid,
      scalarType: type,
      maxAccess: may['read-only'],
      handler: now
        ? (request: { done(): void }) => {
            mib.setScalarValue(name, now());
            request.done();
          }
        : undefined,
    });
    mib.setScalarValue(name, now ? now() : value);
  };
  const text = types['OctetString']!;
  const whole = types['Integer']!;
  const gauge = types['Gauge']!;
  const ip = types['IpAddress']!;

  scalar('sysDescr', '1.3.6.1.2.1.1.1', text, facts.sysDescr);
  scalar('sysObjectID', '1.3.6.1.2.1.1.2', types['OID']!, facts.sysObjectId);
  scalar('sysUpTime', '1.3.6.1.2.1.1.3', types['TimeTicks']!, 0, facts.upTicks);
  scalar('sysContact', '1.3.6.1.2.1.1.4', text, 'network room, Quay House');
  scalar('sysName', '1.3.6.1.2.1.1.5', text, '', facts.sysName);
  const { clock } = facts;
  if (clock) scalar('hrSystemDate', '1.3.6.1.2.1.25.1.2', text, dateAndTime(clock()), () => dateAndTime(clock()));
  scalar('sysLocation', '1.3.6.1.2.1.1.6', text, facts.sysLocation);
  scalar('sysServices', '1.3.6.1.2.1.1.7', whole, facts.services);
  scalar('snmpEngineID', '1.3.6.1.6.3.10.2.1.1', text, facts.engineId);
  scalar('snmpEngineBoots', '1.3.6.1.6.3.10.2.1.2', whole, facts.engineBoots);

  /** A table; columns that are an index are given in rows too, and told to nobody unless `told`. */
  const table = (
    name: string,
    oid: string,
    columns: readonly Column[],
    index: Index,
    rowsNow: () => readonly (readonly unknown[])[],
    told: readonly string[] = [],
    writable: { readonly column: string; readonly set: (oid: string, value: number) => void } | null = null,
    lively = false,
  ): void => {
    let last = '[]';
    const tell = (): void => {
      const rows = rowsNow();
      const text = JSON.stringify(rows);
      if (text === last) return;
      if (last !== '[]') {
        // The library takes a table of one column for one that may not go.
        mib.providerNodes[name]!.children = {};
        agent.unregisterProvider(name);
      }
      last = text;
      if (rows.length > 0) put(rows);
    };
    const put = (rows: readonly (readonly unknown[])[]): void => {
      const hidden = new Set(index.map((i) => i.columnName));
      agent.registerProvider({
        name,
        type: snmp.MibProviderType.Table,
        oid,
        maxAccess: may['not-accessible'],
        tableColumns: columns.map(([number, column, type]) => ({
          number,
          name: column,
          type,
          maxAccess:
            may[hidden.has(column) && !told.includes(column) ? 'not-accessible' : column === writable?.column ? 'read-write' : 'read-only'],
        })),
        tableIndex: index,
        handler: writable
          ? (request: SetRequest) => {
              if (request.commitSet && request.setValue !== undefined) writable.set(request.oid, request.setValue);
              request.done();
            }
          : undefined,
      });
      for (const row of rows) mib.addTableRow(name, [...row]);
    };
    tables.push(tell);
    if (lively) livelyTables.push(tell);
    tell();
  };
  const by = (...columnNames: string[]): Index => columnNames.map((columnName) => ({ columnName }));

  table(
    'entPhysicalEntry',
    '1.3.6.1.2.1.47.1.1.1.1',
    [
      [1, 'entPhysicalIndex', whole],
      [2, 'entPhysicalDescr', text],
      [4, 'entPhysicalContainedIn', whole],
      [5, 'entPhysicalClass', whole],
      [7, 'entPhysicalName', text],
      [8, 'entPhysicalHardwareRev', text],
      [9, 'entPhysicalFirmwareRev', text],
      [10, 'entPhysicalSoftwareRev', text],
      [11, 'entPhysicalSerialNum', text],
      [12, 'entPhysicalMfgName', text],
      [13, 'entPhysicalModelName', text],
    ],
    by('entPhysicalIndex'),
    () =>
      facts
        .parts()
        .map((p) => [p.index, p.description, p.containedIn, p.class, p.name, p.hardware, p.loader, p.firmware, p.serial, p.maker, p.model]),
  );
  table(
    'ifEntry',
    '1.3.6.1.2.1.2.2.1',
    [
      [1, 'ifIndex', whole],
      [2, 'ifDescr', text],
      [3, 'ifType', whole],
      [5, 'ifSpeed', gauge],
      [6, 'ifPhysAddress', text],
      [7, 'ifAdminStatus', whole],
      [8, 'ifOperStatus', whole],
      [9, 'ifLastChange', types['TimeTicks']!],
      ...(health ? ([13, 14, 19, 20] as const).map((column): Column => [column, ifCounters[column], types['Counter']!]) : []),
    ],
    by('ifIndex'),
    () =>
      around.ports.map((p) => [
        p.index,
        p.name,
        p.type,
        Math.min(p.speedMbps * 1_000_000, 4_294_967_295),
        octets(p.mac),
        1,
        p.up ? 1 : 2,
        health?.lastChange.get(p.index) ?? 0,
        ...(health ? [0, 0, 0, 0] : []),
      ]),
    [],
    null,
    true,
  );
  table(
    'ifXEntry',
    '1.3.6.1.2.1.31.1.1.1',
    [
      [1, 'ifName', text],
      [15, 'ifHighSpeed', gauge],
      [18, 'ifAlias', text],
      [19, 'ifXIndex', whole],
    ],
    by('ifXIndex'),
    () => around.ports.map((p) => [p.name, p.speedMbps, p.alias, p.index]),
  );
  table(
    'ipAddrEntry',
    '1.3.6.1.2.1.4.20.1',
    [
      [1, 'ipAdEntAddr', ip],
      [2, 'ipAdEntIfIndex', whole],
    ],
    by('ipAdEntAddr'),
    () => around.addresses.map((a) => [a, 1]),
    ['ipAdEntAddr'],
  );
  table(
    'ipNetToMediaEntry',
    '1.3.6.1.2.1.4.22.1',
    [
      [1, 'ipNetToMediaIfIndex', whole],
      [2, 'ipNetToMediaPhysAddress', text],
      [3, 'ipNetToMediaNetAddress', ip],
      [4, 'ipNetToMediaType', whole],
    ],
    by('ipNetToMediaIfIndex', 'ipNetToMediaNetAddress'),
    () => around.arp.map((a) => [a.port, octets(a.mac), a.address, 3]),
    ['ipNetToMediaIfIndex', 'ipNetToMediaNetAddress'],
  );
  if (around.neighbours.length > 0 || around.capabilities.length > 0) {
    scalar('lldpLocChassisIdSubtype', '1.0.8802.1.1.2.1.3.1', whole, 4);
    scalar('lldpLocChassisId', '1.0.8802.1.1.2.1.3.2', text, around.ports[0] ? octets(around.ports[0].mac) : Buffer.alloc(6));
    scalar('lldpLocSysCapEnabled', '1.0.8802.1.1.2.1.3.6', text, capabilityOctets(around.capabilities));
  }
  table(
    'lldpLocPortEntry',
    '1.0.8802.1.1.2.1.3.7.1',
    [
      [1, 'lldpLocPortNum', whole],
      [2, 'lldpLocPortIdSubtype', whole],
      [3, 'lldpLocPortId', text],
      [4, 'lldpLocPortDesc', text],
    ],
    by('lldpLocPortNum'),
    () => (around.neighbours.length > 0 ? around.ports.map((p) => [p.index, 5, p.name, p.alias]) : []),
  );
  table(
    'lldpRemEntry',
    '1.0.8802.1.1.2.1.4.1.1',
    [
      [1, 'lldpRemTimeMark', types['TimeTicks']!],
      [2, 'lldpRemLocalPortNum', whole],
      [3, 'lldpRemIndex', whole],
      [4, 'lldpRemChassisIdSubtype', whole],
      [5, 'lldpRemChassisId', text],
      [6, 'lldpRemPortIdSubtype', whole],
      [7, 'lldpRemPortId', text],
      [8, 'lldpRemPortDesc', text],
      [9, 'lldpRemSysName', text],
      [10, 'lldpRemSysDesc', text],
      [11, 'lldpRemSysCapSupported', text],
      [12, 'lldpRemSysCapEnabled', text],
    ],
    by('lldpRemTimeMark', 'lldpRemLocalPortNum', 'lldpRemIndex'),
    () =>
      around.neighbours.map((n, i) => [
        0,
        n.port,
        i + 1,
        4,
        octets(n.chassisMac),
        5,
        n.portName,
        '',
        n.sysName,
        n.sysDescr,
        capabilityOctets(n.capabilities),
        capabilityOctets(n.capabilities),
      ]),
  );
  table(
    'lldpRemManAddrEntry',
    '1.0.8802.1.1.2.1.4.2.1',
    [
      [1, 'lldpRemManAddrSubtype', whole],
      [2, 'lldpRemManAddr', text],
      [3, 'lldpRemManAddrIfSubtype', whole],
      [4, 'lldpRemManAddrIfId', whole],
      [6, 'manTimeMark', types['TimeTicks']!],
      [7, 'manLocalPortNum', whole],
      [8, 'manIndex', whole],
    ],
    by('manTimeMark', 'manLocalPortNum', 'manIndex', 'lldpRemManAddrSubtype', 'lldpRemManAddr'),
    () => around.neighbours.flatMap((n, i) => (n.address === null ? [] : [[1, addressOctets(n.address), 2, 1, 0, n.port, i + 1]])),
  );
  const med = () => around.neighbours.map((n, i) => ({ n, i })).filter(({ n }) => n.inventory !== null);
  table(
    'lldpXMedRemInventoryEntry',
    '1.0.8802.1.1.2.1.5.4795.1.3.3.1',
    [
      [1, 'lldpXMedRemHardwareRev', text],
      [2, 'lldpXMedRemFirmwareRev', text],
      [3, 'lldpXMedRemSoftwareRev', text],
      [4, 'lldpXMedRemSerialNum', text],
      [5, 'lldpXMedRemMfgName', text],
      [6, 'lldpXMedRemModelName', text],
      [8, 'medTimeMark', types['TimeTicks']!],
      [9, 'medLocalPortNum', whole],
      [10, 'medIndex', whole],
    ],
    by('medTimeMark', 'medLocalPortNum', 'medIndex'),
    () =>
      med().map(({ n, i }) => [
        n.inventory!.hardware,
        '',
        n.inventory!.firmware,
        n.inventory!.serial,
        n.inventory!.maker,
        n.inventory!.model,
        0,
        n.port,
        i + 1,
      ]),
  );
  table(
    'lldpXMedRemXPoEPDEntry',
    '1.0.8802.1.1.2.1.5.4795.1.3.7.1',
    [
      [1, 'lldpXMedRemXPoEPDPowerReq', gauge],
      [4, 'pdTimeMark', types['TimeTicks']!],
      [5, 'pdLocalPortNum', whole],
      [6, 'pdIndex', whole],
    ],
    by('pdTimeMark', 'pdLocalPortNum', 'pdIndex'),
    () => around.neighbours.flatMap((n, i) => (n.powerTenths > 0 ? [[n.powerTenths, 0, n.port, i + 1]] : [])),
  );
  table(
    'pethPsePortEntry',
    '1.3.6.1.2.1.105.1.1.1',
    [
      [1, 'pethPsePortGroupIndex', whole],
      [2, 'pethPsePortIndex', whole],
      [3, 'pethPsePortAdminEnable', whole],
      [6, 'pethPsePortDetectionStatus', whole],
      [10, 'pethPsePortPowerClassifications', whole],
    ],
    by('pethPsePortGroupIndex', 'pethPsePortIndex'),
    // RFC 3621: detection status 3 is deliveringPower, 2 is searching, 1 is disabled; classes count from 1. TruthValue (RFC 2579): 1 and 2.
    () =>
      around.power.map((p) => {
        const on = power?.isOn(p.port) ?? true;
        return [1, p.port, on ? 1 : 2, on ? (p.delivering ? 3 : 2) : 1, p.class + 1];
      }),
    [],
    power
      ? {
          column: 'pethPsePortAdminEnable',
          set: (oid, value) => {
            const port = Number(oid.slice(oid.lastIndexOf('.') + 1));
            power.turn(port, value === 1);
            const fed = around.power.find((p) => p.port === port)?.delivering === true;
            mib.setTableSingleCell('pethPsePortEntry', 6, [1, port], power.isOn(port) ? (fed ? 3 : 2) : 1);
          },
        }
      : null,
  );
  table(
    'dot1dBasePortEntry',
    '1.3.6.1.2.1.17.1.4.1',
    [
      [1, 'dot1dBasePort', whole],
      [2, 'dot1dBasePortIfIndex', whole],
    ],
    by('dot1dBasePort'),
    () => (around.forwarding.length > 0 ? around.ports.map((p) => [p.index, p.index]) : []),
    ['dot1dBasePort'],
  );
  // RFC 4188: 2 is blocking, 5 is forwarding.
  table(
    'dot1dStpPortEntry',
    '1.3.6.1.2.1.17.2.15.1',
    [
      [1, 'dot1dStpPort', whole],
      [3, 'dot1dStpPortState', whole],
    ],
    by('dot1dStpPort'),
    () => around.tree.map((p) => [p.port, p.state === 'blocking' ? 2 : 5]),
    ['dot1dStpPort'],
  );
  table(
    'dot1qTpFdbEntry',
    '1.3.6.1.2.1.17.7.1.2.2.1',
    [
      [1, 'dot1qTpFdbAddress', text],
      [2, 'dot1qTpFdbPort', whole],
      [3, 'dot1qTpFdbStatus', whole],
      [4, 'dot1qFdbId', whole],
    ],
    [{ columnName: 'dot1qFdbId' }, { columnName: 'dot1qTpFdbAddress', length: 6 }],
    () => around.forwarding.map((f) => [octets(f.mac), f.port, 3, 10]),
  );
  table(
    'dot3adAggPortEntry',
    '1.2.840.10006.300.43.1.2.1.1',
    [
      [1, 'dot3adAggPortIndex', whole],
      [13, 'dot3adAggPortAttachedAggID', whole],
    ],
    by('dot3adAggPortIndex'),
    () => around.aggregates.map((a) => [a.port, a.into]),
  );
  // RFC 2790 §4.1: storage of the type hrStorageRam, and the load of each processor.
  table(
    'hrStorageEntry',
    '1.3.6.1.2.1.25.2.3.1',
    [
      [1, 'hrStorageIndex', whole],
      [2, 'hrStorageType', types['OID']!],
      [3, 'hrStorageDescr', text],
      [4, 'hrStorageAllocationUnits', whole],
      [5, 'hrStorageSize', whole],
      [6, 'hrStorageUsed', whole],
    ],
    by('hrStorageIndex'),
    () => (health ? [[1, '1.3.6.1.2.1.25.2.1.2', 'memory', 1024, health.memory.size, health.memory.used]] : []),
    ['hrStorageIndex'],
    null,
    true,
  );
  table(
    'hrProcessorEntry',
    '1.3.6.1.2.1.25.3.3.1',
    [
      [1, 'hrProcessorFrwID', types['OID']!],
      [2, 'hrProcessorLoad', whole],
      [3, 'hrDeviceIndex', whole],
    ],
    by('hrDeviceIndex'),
    () => (health ? [['0.0', health.load, 1]] : []),
    [],
    null,
    true,
  );
  // RFC 4292 §5: how many routes are known. RFC 4188: the root of the spanning tree, as priority and address.
  if (around.routes > 0) scalar('inetCidrRouteNumber', '1.3.6.1.2.1.4.24.6', gauge, around.routes, () => around.routes);
  if (around.root !== null)
    scalar('dot1dStpDesignatedRoot', '1.3.6.1.2.1.17.2.5', text, Buffer.alloc(8), () =>
      Buffer.concat([Buffer.from([0x80, 0]), octets(around.root ?? '000000000000')]),
    );
  return agent;
}

/** RFC 2863: what went wrong on a port, by column. */
const ifCounters = { 13: 'ifInDiscards', 14: 'ifInErrors', 19: 'ifOutDiscards', 20: 'ifOutErrors' } as const;

/** RFC 2579 DateAndTime, in UTC. */
function dateAndTime(moment: number): Buffer {
  const at = new Date(moment);
  const octets = Buffer.from([
    0,
    0,
    at.getUTCMonth() + 1,
    at.getUTCDate(),
    at.getUTCHours(),
    at.getUTCMinutes(),
    at.getUTCSeconds(),
    0,
    0x2b,
    0,
    0,
  ]);
  octets.writeUInt16BE(at.getUTCFullYear());
  return octets;
}
