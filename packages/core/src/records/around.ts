import { safeText } from '../text/safe.js';

/** IEEE 802.1AB §8.5.8 system capabilities, in the order of their bits. */
export const capabilities = ['other', 'repeater', 'bridge', 'access-point', 'router', 'phone', 'docsis', 'station'] as const;
export type Capability = (typeof capabilities)[number];

export interface AroundPort {
  /** ifIndex of RFC 2863. */
  readonly index: number;
  readonly name: string;
  readonly mac: string | null;
  readonly speedMbps: number | null;
  readonly up: boolean | null;
  readonly wireless: boolean;
  readonly tunnel?: true;
  /** The aggregate that it is bundled into. */
  readonly bundle: number | null;
}

/** What LLDP-MED (ANSI/TIA-1057) tells of a neighbour. */
export interface Inventory {
  readonly hardwareRevision: string | null;
  readonly firmware: string | null;
  readonly serial: string | null;
  readonly maker: string | null;
  readonly model: string | null;
}

export interface Neighbour {
  /** ifIndex of the port that heard it; null when the port could not be matched. */
  readonly port: number | null;
  readonly chassisMac: string | null;
  readonly remotePort: string | null;
  readonly name: string | null;
  readonly description: string | null;
  readonly capabilities: readonly Capability[];
  readonly addresses: readonly string[];
  readonly inventory: Inventory | null;
  readonly powerWatts: number | null;
}

/** What a device's own tables tell of what is around it. */
export interface Around {
  readonly chassisMac: string | null;
  readonly capabilities: readonly Capability[];
  readonly ports: readonly AroundPort[];
  readonly neighbours: readonly Neighbour[];
  /** Ports that could deliver power, RFC 3621; `class` is the IEEE 802.3 power class. */
  readonly power: readonly { readonly port: number; readonly delivering: boolean; readonly class: number | null }[];
  readonly forwarding: readonly { readonly mac: string; readonly port: number }[];
  /** Ports that are in the spanning tree (RFC 4188 dot1dStpPortState); those that are disabled or broken are in none. */
  readonly tree: readonly { readonly port: number; readonly state: 'blocking' | 'moving' | 'forwarding' }[];
  readonly arp: readonly { readonly address: string; readonly mac: string }[];
  /** Its own addresses. */
  readonly addresses: readonly string[];
}

/** The subtrees that tell it, each with the most objects that are read of it. */
export const aroundSubtrees = {
  interfaceNames: ['1.3.6.1.2.1.2.2.1.2', 2000],
  interfaceTypes: ['1.3.6.1.2.1.2.2.1.3', 2000],
  interfaceSpeeds: ['1.3.6.1.2.1.2.2.1.5', 2000],
  interfaceStates: ['1.3.6.1.2.1.2.2.1.8', 2000],
  ifName: ['1.3.6.1.2.1.31.1.1.1.1', 2000],
  ifHighSpeed: ['1.3.6.1.2.1.31.1.1.1.15', 2000],
  ownAddresses: ['1.3.6.1.2.1.4.20.1.1', 500],
  ipNetToMedia: ['1.3.6.1.2.1.4.22.1.2', 20_000],
  ipNetToPhysical: ['1.3.6.1.2.1.4.35.1.4', 20_000],
  lldpLocal: ['1.0.8802.1.1.2.1.3', 4000],
  lldpRemote: ['1.0.8802.1.1.2.1.4', 20_000],
  lldpMed: ['1.0.8802.1.1.2.1.5.4795.1.3', 20_000],
  powerPorts: ['1.3.6.1.2.1.105.1.1.1', 8000],
  bridgePorts: ['1.3.6.1.2.1.17.1.4.1.2', 2000],
  treePorts: ['1.3.6.1.2.1.17.2.15.1.3', 2000],
  dot1dForwarding: ['1.3.6.1.2.1.17.4.3.1.2', 20_000],
  dot1qForwarding: ['1.3.6.1.2.1.17.7.1.2.2.1.2', 20_000],
  aggregates: ['1.2.840.10006.300.43.1.2.1.1.13', 2000],
} as const;

export type Answers = ReadonlyMap<string, string | number>;
type Cells = readonly { readonly index: readonly number[]; readonly value: string | number }[];

/** Octets of an answer: written as `0x…` when they are no readable text. */
export function octetsOf(value: string | number | undefined): number[] {
  if (typeof value !== 'string') return [];
  if (/^0x(?:[0-9a-f]{2})*$/.test(value)) return (value.slice(2).match(/../g) ?? []).map((h) => parseInt(h, 16));
  return [...value].flatMap((c) => utf8(c.codePointAt(0)!));
}

/** RFC 3629 §3, since a text answer was UTF-8 on the wire. */
function utf8(code: number): number[] {
  if (code < 0x80) return [code];
  if (code < 0x800) return [0xc0 | (code >> 6), 0x80 | (code & 63)];
  if (code < 0x10000) return [0xe0 | (code >> 12), 0x80 | ((code >> 6) & 63), 0x80 | (code & 63)];
  return [0xf0 | (code >> 18), 0x80 | ((code >> 12) & 63), 0x80 | ((code >> 6) & 63), 0x80 | (code & 63)];
}

/** A MAC address (IEEE 802) as `06:17:4b:00:01:00`; null for anything that is not one, or that is all zero. */
export function macOf(value: string | number | readonly number[] | undefined): string | null {
  const octets = Array.isArray(value) ? (value as readonly number[]) : octetsOf(value as string);
  if (octets.length !== 6 || octets.every((o) => o === 0) || octets.some((o) => !(o >= 0 && o <= 255))) return null;
  return octets.map((o) => o.toString(16).padStart(2, '0')).join(':');
}

const text = (value: string | number | undefined): string | null => {
  if (value === undefined) return null;
  const shown = safeText(String(value), 400).trim();
  return shown === '' ? null : shown;
};

/** IEEE 802.1AB §8.5.8: bit 0 is the most significant bit of the first octet. */
function capabilitiesOf(value: string | number | undefined): Capability[] {
  const octets = octetsOf(value);
  return capabilities.filter((_, bit) => ((octets[bit >> 3] ?? 0) & (0x80 >> (bit & 7))) !== 0);
}

const address4 = (octets: readonly number[]): string | null =>
  octets.length === 4 && octets.every((o) => o >= 0 && o <= 255) ? octets.join('.') : null;

/** Text without its common form differences, so that `Port 1` and `port 1` are one port. */
const plain = (name: string): string => name.trim().toLowerCase();

/** Reads what is around a device from its raw answers. What makes no sense is left out; nothing throws. */
export function aroundFromSnmp(answers: Answers): Around {
  const columns = columnsOf(answers);
  const cells = (oid: string): Cells => columns.get(oid) ?? [];
  const byFirst = (oid: string): Map<number, string | number> => new Map(cells(oid).map((c) => [c.index[0] ?? -1, c.value]));

  const names = byFirst(aroundSubtrees.ifName[0]);
  const types = byFirst(aroundSubtrees.interfaceTypes[0]);
  const speeds = byFirst(aroundSubtrees.interfaceSpeeds[0]);
  const highSpeeds = byFirst(aroundSubtrees.ifHighSpeed[0]);
  const states = byFirst(aroundSubtrees.interfaceStates[0]);
  const macs = byFirst('1.3.6.1.2.1.2.2.1.6');
  const bundles = byFirst(aroundSubtrees.aggregates[0]);
  const ports: AroundPort[] = cells(aroundSubtrees.interfaceNames[0]).map(({ index: [index = -1], value }) => {
    const high = highSpeeds.get(index);
    const low = speeds.get(index);
    const bundle = bundles.get(index);
    const state = states.get(index);
    return {
      index,
      name: text(names.get(index)) ?? text(value) ?? `interface ${index}`,
      mac: macOf(macs.get(index)),
      speedMbps: typeof high === 'number' && high > 0 ? high : typeof low === 'number' && low > 0 ? Math.round(low / 1e6) : null,
      up: state === undefined ? null : state === 1,
      // IANAifType-MIB: ieee80211 (71), radioMAC (188).
      wireless: types.get(index) === 71 || types.get(index) === 188,
      // IANAifType-MIB: tunnel (131).
      ...(types.get(index) === 131 ? { tunnel: true as const } : {}),
      // IEEE 802.3 LAG-MIB: an aggregator of 0, or of the port itself, is none.
      bundle: typeof bundle === 'number' && bundle > 0 && bundle !== index ? bundle : null,
    };
  });
  const portByName = new Map(ports.map((p) => [plain(p.name), p.index]));
  const portByMac = new Map(ports.flatMap((p) => (p.mac === null ? [] : [[p.mac, p.index] as const])));
  const portIndexes = new Set(ports.map((p) => p.index));

  // IEEE 802.1AB §12: local port numbers are matched with interfaces by what their port ID says.
  const localSubtypes = byFirst('1.0.8802.1.1.2.1.3.7.1.2');
  const localIds = byFirst('1.0.8802.1.1.2.1.3.7.1.3');
  const localPort = (number: number): number | null => {
    const id = localIds.get(number);
    if (id !== undefined) {
      const found = localSubtypes.get(number) === 3 ? portByMac.get(macOf(id) ?? '') : portByName.get(plain(String(id)));
      if (found !== undefined) return found;
    }
    return portIndexes.has(number) ? number : null;
  };

  const remote = '1.0.8802.1.1.2.1.4.1.1';
  const byRow = (oid: string): Map<string, string | number> => new Map(cells(oid).map((c) => [c.index.join('.'), c.value]));
  const chassisSubtypes = byRow(`${remote}.4`);
  const portSubtypes = byRow(`${remote}.6`);
  const portIds = byRow(`${remote}.7`);
  const portDescriptions = byRow(`${remote}.8`);
  const systemNames = byRow(`${remote}.9`);
  const descriptions = byRow(`${remote}.10`);
  const enabled = byRow(`${remote}.12`);
  const med = '1.0.8802.1.1.2.1.5.4795.1.3.3.1';
  const inventory = [1, 2, 3, 4, 5, 6].map((column) => byRow(`${med}.${column}`));
  const powerAsked = byRow('1.0.8802.1.1.2.1.5.4795.1.3.7.1.1');
  const managed = new Map<string, string[]>();
  for (const { index } of cells('1.0.8802.1.1.2.1.4.2.1.3')) {
    // Index: time mark, local port, remote index, address family (RFC 3232; 1 is IPv4, 2 is IPv6), length, octets.
    const [mark, port, row, family, length, ...octets] = index;
    const address = family === 1 && length === 4 ? address4(octets) : family === 2 && length === 16 ? address6(octets) : null;
    if (address !== null) managed.set(`${mark}.${port}.${row}`, [...(managed.get(`${mark}.${port}.${row}`) ?? []), address]);
  }
  const neighbours: Neighbour[] = cells(`${remote}.5`).map(({ index, value }) => {
    const row = index.join('.');
    const subtype = chassisSubtypes.get(row);
    const told = inventory.map((column) => text(column.get(row)));
    const watts = powerAsked.get(row);
    return {
      port: localPort(index[1] ?? -1),
      // Chassis ID subtype 4 is a MAC address; others name the device by text.
      chassisMac: subtype === 4 || subtype === undefined ? macOf(value) : null,
      remotePort: portSubtypes.get(row) === 3 ? macOf(portIds.get(row)) : (text(portIds.get(row)) ?? text(portDescriptions.get(row))),
      name: text(systemNames.get(row)),
      description: text(descriptions.get(row)),
      capabilities: capabilitiesOf(enabled.get(row)),
      addresses: managed.get(row) ?? [],
      inventory: told.every((t) => t === null)
        ? null
        : {
            hardwareRevision: told[0] ?? null,
            // The software revision is what runs; many devices fill only one of the two.
            firmware: told[2] ?? told[1] ?? null,
            serial: told[3] ?? null,
            maker: told[4] ?? null,
            model: told[5] ?? null,
          },
      powerWatts: typeof watts === 'number' && watts > 0 ? watts / 10 : null,
    };
  });

  const bridgePorts = byFirst(aroundSubtrees.bridgePorts[0]);
  const forwarding = new Map<string, number>();
  const heard = (octets: readonly number[], bridgePort: string | number): void => {
    const mac = macOf(octets);
    const port = Number(bridgePorts.get(Number(bridgePort)) ?? bridgePort);
    if (mac !== null && Number.isInteger(port) && port > 0 && !forwarding.has(mac)) forwarding.set(mac, port);
  };
  for (const { index, value } of cells(aroundSubtrees.dot1qForwarding[0])) heard(index.slice(1), value);
  for (const { index, value } of cells(aroundSubtrees.dot1dForwarding[0])) heard(index, value);

  const arp = new Map<string, string>();
  for (const { index, value } of cells(aroundSubtrees.ipNetToMedia[0])) {
    const address = address4(index.slice(1));
    const mac = macOf(value);
    if (address !== null && mac !== null) arp.set(address, mac);
  }
  for (const { index, value } of cells(aroundSubtrees.ipNetToPhysical[0])) {
    // RFC 4293: ifIndex, InetAddressType, length, octets.
    const octets = index.slice(3);
    const address = index[1] === 1 ? address4(octets) : index[1] === 2 && octets.length === 16 ? address6(octets) : null;
    const mac = macOf(value);
    if (address !== null && mac !== null && !arp.has(address)) arp.set(address, mac);
  }

  const powerNames = byRow('1.3.6.1.2.1.105.1.1.1.10');
  return {
    chassisMac: answers.get('1.0.8802.1.1.2.1.3.1.0') === 4 ? macOf(answers.get('1.0.8802.1.1.2.1.3.2.0')) : null,
    capabilities: capabilitiesOf(answers.get('1.0.8802.1.1.2.1.3.6.0')),
    ports,
    neighbours,
    power: cells('1.3.6.1.2.1.105.1.1.1.6').flatMap(({ index: [group = 0, number = 0], value }) => {
      // RFC 3621 leaves open how a group and port name an interface: `group/port`, or the interface of that number.
      const port = portByName.get(`${group}/${number}`) ?? (portIndexes.has(number) ? number : null);
      const told = powerNames.get(`${group}.${number}`);
      return port === null ? [] : [{ port, delivering: value === 3, class: typeof told === 'number' ? told - 1 : null }];
    }),
    forwarding: [...forwarding].map(([mac, port]) => ({ mac, port })),
    tree: cells(aroundSubtrees.treePorts[0]).flatMap(({ index: [number = -1], value }) => {
      const port = Number(bridgePorts.get(number) ?? number);
      const state = treeStates.get(value);
      return state === undefined ? [] : [{ port, state }];
    }),
    arp: [...arp].map(([address, mac]) => ({ address, mac })),
    addresses: cells(aroundSubtrees.ownAddresses[0]).flatMap(({ index }) => {
      const address = address4(index);
      return address === null || (address.startsWith('127.') && address.endsWith('.0.0.1')) ? [] : [address];
    }),
  };
}

/** RFC 4188 dot1dStpPortState. */
const treeStates = new Map<string | number, Around['tree'][number]['state']>([
  [2, 'blocking'],
  [3, 'moving'],
  [4, 'moving'],
  [5, 'forwarding'],
]);

/** RFC 5952 text of sixteen octets. */
export function address6(octets: readonly number[]): string | null {
  if (octets.length !== 16 || octets.some((o) => !(o >= 0 && o <= 255))) return null;
  const groups = Array.from({ length: 8 }, (_, i) => (octets[2 * i]! << 8) | octets[2 * i + 1]!);
  let best = { at: -1, length: 1 };
  for (let at = 0; at < 8; at++) {
    let length = 0;
    while (at + length < 8 && groups[at + length] === 0) length++;
    if (length > best.length) best = { at, length };
  }
  const hex = groups.map((g) => g.toString(16));
  if (best.at < 0) return hex.join(':');
  return `${hex.slice(0, best.at).join(':')}::${hex.slice(best.at + best.length).join(':')}`;
}

const tableColumns = [
  ...Object.values(aroundSubtrees).map(([oid]) => oid),
  '1.3.6.1.2.1.2.2.1.6',
  ...[2, 3].map((c) => `1.0.8802.1.1.2.1.3.7.1.${c}`),
  ...[4, 5, 6, 7, 8, 9, 10, 12].map((c) => `1.0.8802.1.1.2.1.4.1.1.${c}`),
  '1.0.8802.1.1.2.1.4.2.1.3',
  ...[1, 2, 3, 4, 5, 6].map((c) => `1.0.8802.1.1.2.1.5.4795.1.3.3.1.${c}`),
  '1.0.8802.1.1.2.1.5.4795.1.3.7.1.1',
  ...[6, 10].map((c) => `1.3.6.1.2.1.105.1.1.1.${c}`),
];
const known = new Set<string>(tableColumns);
const deepestColumn = Math.max(...tableColumns.map((c) => c.split('.').length));

/** Sorts the answers into the columns that are known here, in one pass. */
function columnsOf(answers: Answers): Map<string, { index: number[]; value: string | number }[]> {
  const found = new Map<string, { index: number[]; value: string | number }[]>();
  for (const [oid, value] of answers) {
    // The column is the longest known prefix; its rest is the index. No column lies deeper than this, however long the identifier is.
    let column: string | null = null;
    for (let at = oid.indexOf('.'), arcs = 1; at > 0 && arcs <= deepestColumn; at = oid.indexOf('.', at + 1), arcs++) {
      const prefix = oid.slice(0, at);
      if (known.has(prefix)) column = prefix;
    }
    if (column === null) continue;
    const cell = {
      index: oid
        .slice(column.length + 1)
        .split('.')
        .map(Number),
      value,
    };
    const list = found.get(column);
    if (list) list.push(cell);
    else found.set(column, [cell]);
  }
  return found;
}
