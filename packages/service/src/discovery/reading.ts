import type { Around, Capability, Finding, Neighbour, Shows, StackMember } from '@barrow/core';
import type { Heard, Recognised } from '@barrow/families';
import type { ProbeMatch, SipAnswer } from '@barrow/wire';
import type { CredentialRow, NetworkRow } from '../data/entities.js';

export interface Seen {
  readonly probe: string;
  readonly raw: Record<string, unknown>;
  readonly parsed: Record<string, unknown>;
}

export interface Trouble {
  readonly probe: string;
  readonly cause: string;
  readonly detail: string;
}

/** What the sweep heard from an address. */
export interface Swept {
  community: CredentialRow | null;
  engineId: string | null;
  onvif: ProbeMatch | null;
  sip: SipAnswer | null;
  readonly openPorts: Set<number>;
}

/** Everything that one address said in one discovery. */
export interface Reading {
  readonly address: string;
  readonly network: NetworkRow;
  readonly at: number;
  readonly heard: { -readonly [K in keyof Heard]: Heard[K] };
  /** In the order of how much they are believed. */
  readonly findings: Finding[];
  readonly seen: Seen[];
  readonly troubles: Trouble[];
  around: Around | null;
  /** Not all of its tables could be read: what is known of its surroundings stays. */
  isPartial: boolean;
  engineId: string | null;
  agentUptime: number | null;
  members: readonly StackMember[];
  /** What it shows besides who it is. */
  shows: Shows;
  services: number | null;
  capabilities: readonly Capability[];
  hostKey: string | null;
  readonly credentials: Record<string, string>;
  /** Credentials that were not sent, since nobody approved this host. */
  readonly withheld: string[];
  recognised: Recognised | null;
  /** Rows of the family's `children` procedure; null when it was not asked. */
  children: readonly Record<string, string>[] | null;
  outlets: readonly { outlet: string; label: string }[] | null;
}

export const emptyReading = (address: string, network: NetworkRow, at: number): Reading => ({
  address,
  network,
  at,
  heard: {},
  findings: [],
  seen: [],
  troubles: [],
  around: null,
  isPartial: false,
  engineId: null,
  agentUptime: null,
  members: [],
  shows: {},
  services: null,
  capabilities: [],
  hostKey: null,
  credentials: {},
  withheld: [],
  recognised: null,
  children: null,
  outlets: null,
});

/** What neighbours say of an address, by LLDP and by their address tables. */
export class Hearsay {
  readonly #byAddress = new Map<string, { neighbour: Neighbour; by: string }>();
  readonly #byMac = new Map<string, { neighbour: Neighbour; by: string }>();
  readonly #macs = new Map<string, { mac: string; by: string }>();
  /** Neighbours by what they said, one for each port that heard them. */
  readonly named: { neighbour: Neighbour; by: string; port: string | null }[] = [];

  add(around: Around, by: string): void {
    const ports = new Map(around.ports.map((p) => [p.index, p.name]));
    for (const neighbour of around.neighbours) {
      for (const address of neighbour.addresses) this.#byAddress.set(address, { neighbour, by });
      if (neighbour.chassisMac !== null) this.#byMac.set(neighbour.chassisMac, { neighbour, by });
      this.named.push({ neighbour, by, port: neighbour.port === null ? null : (ports.get(neighbour.port) ?? null) });
    }
    for (const { address, mac } of around.arp) this.#macs.set(address, { mac, by });
  }

  /** The MAC that a router's address table has for an address. */
  macOf(address: string): { mac: string; by: string } | null {
    return this.#macs.get(address) ?? null;
  }

  neighbour(address: string | null, mac: string | null): { neighbour: Neighbour; by: string } | null {
    return (address === null ? undefined : this.#byAddress.get(address)) ?? (mac === null ? undefined : this.#byMac.get(mac)) ?? null;
  }
}
