import { createSocket, type Socket } from 'node:dgram';
import snmp, { type Agent } from 'net-snmp';

export interface AgentFacts {
  readonly address: string;
  readonly port: number;
  readonly community: string;
  readonly sysDescr: string;
  readonly sysObjectId: string;
  readonly sysName: () => string;
  readonly sysLocation: string;
  /** Hundredths of a second since the device started. */
  readonly upTicks: () => number;
  readonly engineId: Buffer;
  readonly engineBoots: number;
  readonly maker: string;
  readonly model: string;
  readonly hardwareRevision: string;
  readonly bootLoader: string;
  readonly firmware: string;
  readonly serial: string;
  readonly mac: Buffer;
  readonly ports: number;
}

/** The decoder of the SNMP library ends the process on a malformed packet; a device would only drop it. */
const guarded = {
  createSocket(type: 'udp4' | 'udp6'): Socket {
    const socket = createSocket(type);
    const on = socket.on.bind(socket);
    socket.on = ((event: string, listener: (...args: unknown[]) => void) =>
      on(
        event as 'message',
        event === 'message'
          ? (((...args: unknown[]) => {
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
};

/** Starts a device's SNMP v2c agent: system (RFC 3418), IF-MIB (RFC 2863), ENTITY-MIB (RFC 6933), SNMP-FRAMEWORK-MIB (RFC 3411). */
export function startAgent(facts: AgentFacts): Agent {
  const agent = snmp.createAgent(
    { port: facts.port, address: facts.address, disableAuthorization: false, dgramModule: guarded },
    () => undefined,
  );
  agent.getAuthorizer().addCommunity(facts.community);
  const mib = agent.getMib();
  const { ObjectType: types, MaxAccess: access } = snmp;
  const scalar = (name: string, oid: string, type: number, value: unknown, now?: () => unknown): void => {
    agent.registerProvider({
      name,
      type: snmp.MibProviderType.Scalar,
      oid,
      scalarType: type,
      maxAccess: access['read-only'],
      handler: now
        ? (request: { done(): void }) => {
            mib.setScalarValue(name, now());
            request.done();
          }
        : undefined,
    });
    mib.setScalarValue(name, now ? now() : value);
  };
  scalar('sysDescr', '1.3.6.1.2.1.1.1', types['OctetString']!, facts.sysDescr);
  scalar('sysObjectID', '1.3.6.1.2.1.1.2', types['OID']!, facts.sysObjectId);
  scalar('sysUpTime', '1.3.6.1.2.1.1.3', types['TimeTicks']!, 0, facts.upTicks);
  scalar('sysContact', '1.3.6.1.2.1.1.4', types['OctetString']!, 'network room, Quay House');
  scalar('sysName', '1.3.6.1.2.1.1.5', types['OctetString']!, '', facts.sysName);
  scalar('sysLocation', '1.3.6.1.2.1.1.6', types['OctetString']!, facts.sysLocation);
  scalar('sysServices', '1.3.6.1.2.1.1.7', types['Integer']!, 6);
  scalar('snmpEngineID', '1.3.6.1.6.3.10.2.1.1', types['OctetString']!, facts.engineId);
  scalar('snmpEngineBoots', '1.3.6.1.6.3.10.2.1.2', types['Integer']!, facts.engineBoots);
  const table = (name: string, oid: string, columns: [number, string, number][], index: string): void =>
    agent.registerProvider({
      name,
      type: snmp.MibProviderType.Table,
      oid,
      maxAccess: access['not-accessible'],
      tableColumns: columns.map(([number, column, type]) => ({
        number,
        name: column,
        type,
        maxAccess: access[column === index ? 'not-accessible' : 'read-only'],
      })),
      tableIndex: [{ columnName: index }],
    });
  const text = types['OctetString']!;
  table(
    'entPhysicalEntry',
    '1.3.6.1.2.1.47.1.1.1.1',
    [
      [1, 'entPhysicalIndex', types['Integer']!],
      [2, 'entPhysicalDescr', text],
      [5, 'entPhysicalClass', types['Integer']!],
      [8, 'entPhysicalHardwareRev', text],
      [9, 'entPhysicalFirmwareRev', text],
      [10, 'entPhysicalSoftwareRev', text],
      [11, 'entPhysicalSerialNum', text],
      [12, 'entPhysicalMfgName', text],
      [13, 'entPhysicalModelName', text],
    ],
    'entPhysicalIndex',
  );
  mib.addTableRow('entPhysicalEntry', [
    1,
    `${facts.maker} ${facts.model}`,
    3,
    facts.hardwareRevision,
    facts.bootLoader,
    facts.firmware,
    facts.serial,
    facts.maker,
    facts.model,
  ]);
  table(
    'ifEntry',
    '1.3.6.1.2.1.2.2.1',
    [
      [1, 'ifIndex', types['Integer']!],
      [2, 'ifDescr', text],
      [3, 'ifType', types['Integer']!],
      [6, 'ifPhysAddress', text],
      [7, 'ifAdminStatus', types['Integer']!],
      [8, 'ifOperStatus', types['Integer']!],
    ],
    'ifIndex',
  );
  for (let i = 1; i <= facts.ports; i++) {
    const mac = Buffer.from(facts.mac);
    mac[5] = (mac[5]! + i - 1) & 0xff;
    mib.addTableRow('ifEntry', [i, `port ${i}`, 6, mac, 1, i % 3 === 0 ? 2 : 1]);
  }
  return agent;
}
