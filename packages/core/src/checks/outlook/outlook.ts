import type { Around, Answers } from '../../records/around.js';
import { macOf, octetsOf } from '../../records/around.js';
import type { Ms } from '../../units.js';

/** What a device shows of what is around it at one moment, as far as it is compared before and after. */
export interface Outlook {
  /** Ports that are up, by name: their numbers may be others after an upgrade. */
  readonly ports: readonly OutlookPort[];
  /** Who is heard (IEEE 802.1AB), and on which port. */
  readonly neighbours: readonly { readonly port: string | null; readonly name: string; readonly mac: string | null }[];
  /** Ports that deliver power (RFC 3621). */
  readonly fed: readonly string[];
  /** How many addresses it has learned (RFC 4188, RFC 4363); null: it tells of none. */
  readonly learned: number | null;
  /** How many routes it knows (RFC 4292). */
  readonly routes: number | null;
  /** The root of its spanning tree (RFC 4188 dot1dStpDesignatedRoot): its priority and address. */
  readonly root: { readonly priority: number; readonly mac: string } | null;
  /** Ports that are in its spanning tree, by what they do in it (RFC 4188 dot1dStpPortState); none where it tells of none. */
  readonly tree: readonly { readonly port: string; readonly state: TreeState }[];
  /** How far its clock is from ours. */
  readonly clockOffMs: Ms | null;
  /** Our own time of day then, and how long the machine that we run on was up; null: not noted. */
  readonly ours: { readonly wall: Ms; readonly up: Ms } | null;
  /** By what it can be asked: `SNMP`, `SSH`, `HTTP`, `HTTPS`, `SIP`, `ONVIF`. */
  readonly doors: readonly string[];
  /** Besides the one by which it is read, the doors at which its kept logins opened it: `SSH`, `HTTP`, `ONVIF`. */
  readonly logins: readonly string[];
  /** And those at which they were refused: who says nothing has refused nobody. */
  readonly refusedLogins?: readonly string[];
  /** Whether its picture can be had (RFC 2326, RFC 7826 DESCRIBE); null: it shows none. */
  readonly picture: { readonly there: boolean; readonly detail: string } | null;
  /** How it answers who asks whether it would take a call (RFC 3261 §11 OPTIONS); null: it answers no such question. */
  readonly calls: Calls | null;
  /** Those that are managed through it and are there, by serial; null: it does not tell them. */
  readonly children: readonly { readonly name: string; readonly serial: string }[] | null;
  /** Whose pictures are recorded, by serial: those with it, or itself where it is handled through a recorder; null: it does not tell. */
  readonly recorded: readonly { readonly name: string; readonly serial: string }[] | null;
  /** What it tells of itself that an upgrade is to leave as it is; null: its family asks for none of it. */
  readonly particulars: Particulars | null;
}

/** A final response (RFC 3261 §7.2): its status code and reason phrase. */
export interface Calls {
  readonly status: number;
  readonly reason: string;
}

/** RFC 4188 dot1dStpPortState, as far as it matters here: `moving` is listening and learning. */
export type TreeState = 'blocking' | 'moving' | 'forwarding';

export interface Particulars {
  /** Where its settings come from at a start, in its own words; null: it does not tell. */
  readonly settingsFrom: string | null;
  /** What it would start, the first first; null: it does not tell. */
  readonly bootList: readonly { readonly image: string; readonly usable: boolean }[] | null;
  /** By name; null: it does not tell. */
  readonly licences: readonly string[] | null;
  /** What stands in its log that its family takes for grave, without the moments; null: it does not tell. */
  readonly complaints: readonly string[] | null;
}

export interface OutlookPort {
  readonly name: string;
  /** The aggregate that it is bundled into, by name. */
  readonly bundle: string | null;
  /** It is no port of its own: it leads over others to another router. */
  readonly tunnel?: true;
}

/** What is read besides the tables of what is around. */
export const outlookScalars = {
  routes: '1.3.6.1.2.1.4.24.6.0',
  olderRoutes: '1.3.6.1.2.1.4.24.3.0',
  root: '1.3.6.1.2.1.17.2.5.0',
} as const;

export const emptyOutlook: Outlook = {
  ports: [],
  neighbours: [],
  fed: [],
  learned: null,
  routes: null,
  root: null,
  tree: [],
  clockOffMs: null,
  ours: null,
  doors: [],
  logins: [],
  picture: null,
  calls: null,
  children: [],
  recorded: null,
  particulars: null,
};

const whole = (value: string | number | undefined): number | null => (typeof value === 'number' ? value : null);

/** RFC 4188: a bridge identifier is two octets of priority and six of the address; all zero where there is no tree. */
function rootOf(value: string | number | undefined): Outlook['root'] {
  const octets = octetsOf(value);
  const mac = octets.length === 8 ? macOf(octets.slice(2)) : null;
  return mac === null ? null : { priority: octets[0]! * 256 + octets[1]!, mac };
}

/** What an agent tells of it. */
export function outlookOf(
  around: Around,
  scalars: Answers,
): Pick<Outlook, 'ports' | 'neighbours' | 'fed' | 'learned' | 'routes' | 'root' | 'tree'> {
  const nameOf = new Map(around.ports.map((p) => [p.index, p.name]));
  return {
    ports: around.ports
      .filter((p) => p.up === true)
      .map((p) => ({
        name: p.name,
        bundle: p.bundle === null ? null : (nameOf.get(p.bundle) ?? null),
        ...(p.tunnel ? { tunnel: true as const } : {}),
      })),
    neighbours: around.neighbours.map((n) => ({
      port: n.port === null ? null : (nameOf.get(n.port) ?? null),
      name: n.name ?? n.chassisMac ?? n.addresses[0] ?? 'unnamed',
      mac: n.chassisMac,
    })),
    fed: around.power.flatMap((p) => (p.delivering ? [nameOf.get(p.port) ?? `${p.port}`] : [])),
    learned: around.forwarding.length > 0 ? around.forwarding.length : null,
    routes: whole(scalars.get(outlookScalars.routes)) ?? whole(scalars.get(outlookScalars.olderRoutes)),
    root: rootOf(scalars.get(outlookScalars.root)),
    tree: around.tree.map(({ port, state }) => ({ port: nameOf.get(port) ?? `${port}`, state })),
  };
}
