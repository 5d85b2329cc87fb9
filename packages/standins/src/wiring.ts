import { nothingAround, type Capability, type HeardNeighbour, type Port, type Surroundings } from './surroundings.js';

/** A device as its cables see it. */
export interface Node {
  readonly name: string;
  readonly site: string;
  /** null: it has none of its own, and is known only through another device. */
  readonly address: () => string | null;
  readonly mac: () => string;
  readonly serial: () => string;
  readonly firmware: () => string;
  readonly sysName: () => string;
  readonly description: () => string;
  readonly maker: string;
  readonly model: string;
  readonly hardwareRevision: string;
  /** Names of its ports, port 1 first. */
  readonly ports: readonly string[];
  readonly speedMbps: number;
  readonly capabilities: readonly Capability[];
  readonly speaksLldp: boolean;
  /** Whether it sends the inventory of LLDP-MED. */
  readonly tellsInventory: boolean;
  readonly isUp: () => boolean;
}

/** A cable between two ports, numbered from 1. `watts`: the first end powers the second through it. */
export interface Cable {
  readonly a: string;
  readonly aPort: number;
  readonly b: string;
  readonly bPort: number;
  readonly watts?: number;
  /** Both ends bundle the port into this aggregate, whose interface index is 100 + this. */
  readonly bundle?: number;
  /** Not a wire but a radio link. */
  readonly radio?: boolean;
}

interface End {
  readonly port: number;
  readonly cable: Cable;
  readonly other: Node;
  readonly otherPort: number;
  readonly feeds: boolean;
}

const isBridge = (node: Node): boolean => node.capabilities.includes('bridge');

/** IEEE 802.1D: of the bridges of a segment the one with the lowest identifier is the root. */
const rootOf = (nodes: readonly Node[]): string =>
  nodes
    .filter(isBridge)
    .map((n) => n.mac())
    .sort()[0]!;

/** The MAC of a port: that of the device, counted up. */
export function portMac(mac: string, port: number): string {
  const octets = mac.split(':');
  octets[5] = ((parseInt(octets[5]!, 16) + port - 1) & 0xff).toString(16).padStart(2, '0');
  return octets.join(':');
}

/** Who is cabled to whom, and what each device can therefore tell: LLDP, power, bridge and address tables that agree. */
export class Wiring {
  readonly #nodes: ReadonlyMap<string, Node>;
  readonly #ends = new Map<string, End[]>();

  /** Cables to devices that are not there are left out. */
  constructor(nodes: readonly Node[], cables: readonly Cable[]) {
    this.#nodes = new Map(nodes.map((n) => [n.name, n]));
    for (const node of nodes) this.#ends.set(node.name, []);
    for (const cable of cables) {
      const a = this.#nodes.get(cable.a);
      const b = this.#nodes.get(cable.b);
      if (!a || !b) continue;
      this.#ends.get(a.name)!.push({ port: cable.aPort, cable, other: b, otherPort: cable.bPort, feeds: cable.watts !== undefined });
      this.#ends.get(b.name)!.push({ port: cable.bPort, cable, other: a, otherPort: cable.aPort, feeds: false });
    }
  }

  around(name: string): Surroundings {
    const node = this.#nodes.get(name);
    if (!node) return nothingAround;
    const ends = this.#ends.get(name)!;
    const cabled = new Map(ends.map((e) => [e.port, e]));
    const ports: Port[] = node.ports.map((portName, i) => {
      const end = cabled.get(i + 1);
      return {
        index: i + 1,
        name: portName,
        mac: portMac(node.mac(), i + 1),
        speedMbps: end ? Math.min(node.speedMbps, end.other.speedMbps) : node.speedMbps,
        up: end !== undefined && end.other.isUp(),
        type: end?.cable.radio ? 71 : 6,
        alias: '',
      };
    });
    const bundles = new Map<number, End[]>();
    for (const end of ends) {
      const { bundle } = end.cable;
      if (bundle !== undefined) bundles.set(bundle, [...(bundles.get(bundle) ?? []), end]);
    }
    for (const [bundle, members] of bundles)
      ports.push({
        index: 100 + bundle,
        name: `bundle ${bundle}`,
        mac: portMac(node.mac(), 100 + bundle),
        speedMbps: members.reduce((sum, m) => sum + ports[m.port - 1]!.speedMbps, 0),
        up: true,
        type: 161,
        alias: '',
      });
    // To the house from which the sites are kept.
    if (node.capabilities.includes('router') && ends.length > 0)
      ports.push({ index: 201, name: 'tunnel 1', mac: portMac(node.mac(), 201), speedMbps: 100, up: true, type: 131, alias: '' });
    const neighbours: HeardNeighbour[] = node.speaksLldp
      ? ends
          .filter((e) => e.other.speaksLldp && e.other.isUp())
          .map(({ port, other, otherPort, cable }) => ({
            port,
            chassisMac: other.mac(),
            portName: other.ports[otherPort - 1] ?? 'port 1',
            sysName: other.sysName(),
            sysDescr: other.description(),
            capabilities: other.capabilities,
            address: other.address(),
            inventory: other.tellsInventory
              ? {
                  hardware: other.hardwareRevision,
                  firmware: other.firmware(),
                  serial: other.serial(),
                  maker: other.maker,
                  model: other.model,
                }
              : null,
            powerTenths: other.tellsInventory ? (cable.watts ?? 0) * 10 : 0,
          }))
      : [];
    const isFeeder = ends.some((e) => e.feeds);
    const hears = isBridge(node) || node.capabilities.includes('router');
    const heard = hears ? this.#segment(node) : [];
    return {
      ports,
      capabilities: node.speaksLldp ? node.capabilities : [],
      neighbours,
      power: isFeeder
        ? node.ports.map((_, i) => {
            const end = cabled.get(i + 1);
            const delivering = end?.feeds === true;
            return { port: i + 1, delivering, class: delivering ? (end.cable.watts! > 7 ? 3 : 2) : 0 };
          })
        : [],
      forwarding: isBridge(node)
        ? heard.map(({ other, via }) => ({
            mac: other.mac(),
            port: via.cable.bundle === undefined ? via.port : 100 + via.cable.bundle,
          }))
        : [],
      arp: node.capabilities.includes('router')
        ? heard.flatMap(({ other, via }) => {
            const address = other.address();
            return address === null ? [] : [{ port: via.port, address, mac: other.mac() }];
          })
        : [],
      aggregates: [...bundles].flatMap(([bundle, members]) => members.map((m) => ({ port: m.port, into: 100 + bundle }))),
      addresses: node.address() === null ? [] : [node.address()!],
      routes: node.capabilities.includes('router') ? 2 + ends.length : 0,
      root: isBridge(node) ? rootOf([node, ...heard.map((h) => h.other)]) : null,
      tree: isBridge(node) ? this.#tree(node, rootOf([node, ...heard.map((h) => h.other)])) : [],
    };
  }

  /** What the ports of a bridge do in the tree of its segment (IEEE 802.1D), where every link costs the same. */
  #tree(node: Node, root: string): Surroundings['tree'] {
    const links = (of: Node): End[] =>
      this.#ends
        .get(of.name)!
        // Of an aggregate the first cable stands for all.
        .filter(
          (e, i, all) => e.other.isUp() && (e.cable.bundle === undefined || all.findIndex((o) => o.cable.bundle === e.cable.bundle) === i),
        );
    const far = new Map<string, number>();
    const first = [...this.#nodes.values()].find((n) => isBridge(n) && n.mac() === root);
    const queue = first ? [first] : [];
    if (first) far.set(first.name, 0);
    for (let at = queue.shift(); at; at = queue.shift())
      for (const { other } of links(at))
        if (isBridge(other) && !far.has(other.name)) {
          far.set(other.name, far.get(at.name)! + 1);
          queue.push(other);
        }
    const rank = (one: Node): string => `${String(far.get(one.name) ?? 999).padStart(3, '0')} ${one.mac()}`;
    const mine = links(node);
    const towards = mine.filter((e) => isBridge(e.other)).sort((a, b) => (rank(a.other) < rank(b.other) ? -1 : 1));
    const [rootPort] = node.mac() === root ? [] : towards;
    return mine.map((end) => {
      const isDesignated = !isBridge(end.other) || rank(node) < rank(end.other);
      return {
        port: end.cable.bundle === undefined ? end.port : 100 + end.cable.bundle,
        state: end === rootPort || isDesignated ? 'forwarding' : 'blocking',
      };
    });
  }

  /** Who gets power through a port; null: nobody. */
  fedThrough(name: string, port: number): string | null {
    return this.#ends.get(name)?.find((e) => e.port === port && e.feeds)?.other.name ?? null;
  }

  /** Everything that is up on the same segment, and through which of its own ports: what bridges pass on, routers end. */
  #segment(from: Node): { other: Node; via: End }[] {
    const seen = new Set([from.name]);
    const found: { other: Node; via: End }[] = [];
    const queue: { node: Node; via: End | null }[] = [{ node: from, via: null }];
    for (let at = queue.shift(); at; at = queue.shift())
      for (const end of this.#ends.get(at.node.name)!) {
        if (seen.has(end.other.name) || !end.other.isUp()) continue;
        seen.add(end.other.name);
        const via = at.via ?? end;
        found.push({ other: end.other, via });
        if (isBridge(end.other)) queue.push({ node: end.other, via });
      }
    return found;
  }
}
