/** IEEE 802.1AB system capabilities (LldpSystemCapabilitiesMap), by bit. */
export const capabilityBits = { other: 0, repeater: 1, bridge: 2, 'access-point': 3, router: 4, phone: 5, docsis: 6, station: 7 } as const;
export type Capability = keyof typeof capabilityBits;

/** One port as IF-MIB tells it. */
export interface Port {
  readonly index: number;
  readonly name: string;
  readonly mac: string;
  readonly speedMbps: number;
  readonly up: boolean;
  /** IANAifType: 6 ethernetCsmacd, 161 ieee8023adLag, 71 ieee80211, 131 tunnel. */
  readonly type: number;
  readonly alias: string;
}

/** What LLDP heard on a port. */
export interface HeardNeighbour {
  readonly port: number;
  readonly chassisMac: string;
  readonly portName: string;
  readonly sysName: string;
  readonly sysDescr: string;
  readonly capabilities: readonly Capability[];
  readonly address: string | null;
  /** LLDP-MED inventory; null when the neighbour sends none. */
  readonly inventory: null | {
    readonly hardware: string;
    readonly firmware: string;
    readonly serial: string;
    readonly maker: string;
    readonly model: string;
  };
  /** LLDP-MED power asked for, in tenths of a watt; 0: none. */
  readonly powerTenths: number;
}

/** Everything around a device that its agent can tell. */
export interface Surroundings {
  readonly ports: readonly Port[];
  readonly capabilities: readonly Capability[];
  readonly neighbours: readonly HeardNeighbour[];
  /** Ports of POWER-ETHERNET-MIB; `class` is the IEEE 802.3 power class. */
  readonly power: readonly { readonly port: number; readonly delivering: boolean; readonly class: number }[];
  readonly forwarding: readonly { readonly mac: string; readonly port: number }[];
  readonly arp: readonly { readonly port: number; readonly address: string; readonly mac: string }[];
  readonly aggregates: readonly { readonly port: number; readonly into: number }[];
  readonly addresses: readonly string[];
  /** How many routes it knows; 0: it is none that routes. */
  readonly routes: number;
  /** The bridge at the root of its spanning tree, by its address; null: it tells none. */
  readonly root: string | null;
  /** What its ports do in that tree. */
  readonly tree: readonly { readonly port: number; readonly state: 'blocking' | 'forwarding' }[];
}

export const nothingAround: Surroundings = {
  ports: [],
  capabilities: [],
  neighbours: [],
  power: [],
  forwarding: [],
  arp: [],
  aggregates: [],
  addresses: [],
  routes: 0,
  root: null,
  tree: [],
};

/** A row of ENTITY-MIB entPhysicalTable (RFC 6933). */
export interface Part {
  readonly index: number;
  readonly description: string;
  /** 3 chassis, 6 powerSupply, 9 module, 10 port, 11 stack. */
  readonly class: number;
  readonly containedIn: number;
  readonly name: string;
  readonly hardware: string;
  readonly loader: string;
  readonly firmware: string;
  readonly serial: string;
  readonly maker: string;
  readonly model: string;
}
