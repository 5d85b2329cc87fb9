import type { Around, Capability } from '../records/around.js';
import type { DeviceId, Kind } from '../units.js';

/** How sure something is: a person said so; a protocol names it; the other side's table says so; a table suggests it. */
export const surenesses = ['by-hand', 'named', 'told', 'suggested'] as const;
export type Sureness = (typeof surenesses)[number];

export interface Evidence {
  readonly how: string;
  readonly sure: Sureness;
}

/** A device as the map needs it. */
export interface MapDevice {
  readonly id: DeviceId;
  readonly name: string;
  readonly kind: Kind;
  readonly site: string;
  readonly parent: DeviceId | null;
  readonly macs: readonly string[];
  readonly addresses: readonly string[];
  readonly around: Around | null;
  /** How it hangs on its parent, as the parent tells. */
  readonly onParent: { readonly port: string | null; readonly link: 'wired' | 'wireless' | 'none'; readonly powered: boolean } | null;
  /** Whether outlets or PoE ports keep delivering power while the device restarts. */
  readonly keepsPower?: boolean;
  /** What its outlets are labelled with. */
  readonly outlets: readonly { readonly outlet: string; readonly label: string }[];
  /** What a person said feeds it, and what it hangs on. */
  readonly feedByHand: { readonly device: DeviceId; readonly port: string | null } | null;
  readonly uplinkByHand: { readonly device: DeviceId; readonly port: string | null } | null;
}

export interface LinkEnd {
  readonly device: DeviceId;
  readonly port: string | null;
}

export interface Link {
  readonly a: LinkEnd;
  readonly b: LinkEnd;
  readonly medium: 'wired' | 'wireless';
  readonly speedMbps: number | null;
  /** Ports that are bundled are one link; this says how many. */
  readonly bundled: number;
  readonly sure: Sureness;
  readonly evidence: readonly Evidence[];
}

export interface Feed {
  readonly from: LinkEnd;
  readonly to: DeviceId;
  readonly sure: Sureness;
  readonly evidence: readonly Evidence[];
}

/** Something that a neighbour named and nobody has found. */
export interface Stranger {
  readonly heardBy: DeviceId;
  readonly port: string | null;
  readonly name: string | null;
  readonly description: string | null;
  readonly mac: string | null;
  readonly addresses: readonly string[];
  readonly capabilities: readonly Capability[];
}

export interface Topology {
  readonly links: readonly Link[];
  readonly feeds: readonly Feed[];
  readonly strangers: readonly Stranger[];
  /** Ports that deliver power to something unknown. */
  readonly unknownFeeds: readonly LinkEnd[];
  /** Devices of which no link, or no feed, is known. */
  readonly noUplink: ReadonlySet<DeviceId>;
  readonly noFeed: ReadonlySet<DeviceId>;
}

interface Draft {
  a: LinkEnd;
  b: LinkEnd;
  medium: Link['medium'];
  speedMbps: number | null;
  evidence: Evidence[];
}

const order = (s: Sureness): number => surenesses.indexOf(s);
const surest = (evidence: readonly Evidence[]): Sureness =>
  evidence.reduce<Sureness>((best, e) => (order(e.sure) < order(best) ? e.sure : best), 'suggested');

/**
 * LLDP frames end at the next bridge (IEEE 802.1AB), so a wired port hears one device, or a phone and what hangs on it. With more, a
 * bridge without management forwards them, and none of them is surely connected directly.
 */
const mostDirect = 2;

/** Draws links and feeds from all evidence there is. Linear in the rows of the devices' tables. */
export function drawTopology(devices: readonly MapDevice[]): Topology {
  const byId = new Map(devices.map((d) => [d.id, d]));
  const byMac = new Map<string, MapDevice>();
  const byAddress = new Map<string, MapDevice>();
  const byName = new Map<string, MapDevice | null>();
  for (const d of devices) {
    for (const mac of d.macs) byMac.set(mac, d);
    for (const port of d.around?.ports ?? []) if (port.mac !== null && !byMac.has(port.mac)) byMac.set(port.mac, d);
    for (const address of d.addresses) byAddress.set(address, d);
    const name = d.name.toLowerCase();
    // A name that two devices bear tells nothing.
    byName.set(name, byName.has(name) ? null : d);
  }
  const portsOf = new Map(devices.map((d) => [d.id, new Map((d.around?.ports ?? []).map((p) => [p.index, p]))]));
  const portName = (d: MapDevice, index: number | null): string | null =>
    index === null ? null : (portsOf.get(d.id)!.get(index)?.name ?? `interface ${index}`);
  const portCalled = new Map(
    devices.map((d) => [
      d.id,
      new Map(
        (d.around?.ports ?? []).flatMap((p) => [[p.name.toLowerCase(), p] as const, ...(p.mac === null ? [] : [[p.mac, p] as const])]),
      ),
    ]),
  );
  const ownPortName = (d: MapDevice, told: string | null): string | null => {
    if (told === null) return null;
    const plain = told.toLowerCase();
    return portCalled.get(d.id)!.get(plain)?.name ?? told;
  };

  const drafts = new Map<string, Draft>();
  const put = (a: LinkEnd, b: LinkEnd, draft: Pick<Draft, 'medium' | 'speedMbps'>, evidence: Evidence): void => {
    const [first, second] = a.device < b.device || (a.device === b.device && (a.port ?? '') <= (b.port ?? '')) ? [a, b] : [b, a];
    const key = `${first.device}|${first.port ?? ''}|${second.device}|${second.port ?? ''}`;
    const found = drafts.get(key);
    if (!found) drafts.set(key, { a: first, b: second, ...draft, evidence: [evidence] });
    else {
      found.evidence.push(evidence);
      found.speedMbps = Math.min(found.speedMbps ?? Infinity, draft.speedMbps ?? Infinity);
      if (!Number.isFinite(found.speedMbps)) found.speedMbps = null;
      if (draft.medium === 'wireless') found.medium = 'wireless';
    }
  };

  const strangers: Stranger[] = [];
  /** Ports behind which another bridge or router is known: what a bridge table hears there is only passing through. */
  const trunks = new Map<DeviceId, Set<number>>();
  const named = new Set<DeviceId>();
  for (const d of devices) {
    const trunk = new Set<number>();
    trunks.set(d.id, trunk);
    const neighbours = (d.around?.neighbours ?? []).map((n) => ({
      n,
      other:
        (n.chassisMac === null ? undefined : byMac.get(n.chassisMac)) ??
        n.addresses.map((a) => byAddress.get(a)).find((x) => x !== undefined) ??
        (n.name === null ? undefined : (byName.get(n.name.toLowerCase()) ?? undefined)),
    }));
    const heardOn = new Map<number, Set<DeviceId>>();
    for (const { n, other } of neighbours)
      if (n.port !== null && other && other.id !== d.id) heardOn.set(n.port, (heardOn.get(n.port) ?? new Set()).add(other.id));
    for (const { n, other } of neighbours) {
      const port = n.port === null ? undefined : portsOf.get(d.id)!.get(n.port);
      if (n.port !== null) {
        trunk.add(n.port);
        if (port?.bundle) trunk.add(port.bundle);
      }
      if (!other) {
        strangers.push({
          heardBy: d.id,
          port: portName(d, n.port),
          name: n.name,
          description: n.description,
          mac: n.chassisMac,
          addresses: n.addresses,
          capabilities: n.capabilities,
        });
        continue;
      }
      if (other.id === d.id) continue;
      named.add(d.id).add(other.id);
      const heard = (n.port === null ? undefined : heardOn.get(n.port))?.size ?? 0;
      const isForwarded = heard > mostDirect && !port?.wireless;
      put(
        { device: d.id, port: portName(d, n.port) },
        { device: other.id, port: ownPortName(other, n.remotePort) },
        { medium: port?.wireless ? 'wireless' : 'wired', speedMbps: port?.speedMbps ?? null },
        isForwarded
          ? {
              how: `${d.name} hears ${heard} devices by LLDP on ${portName(d, n.port)}: something between forwards LLDP`,
              sure: 'suggested',
            }
          : { how: `${d.name} hears ${other.name} by LLDP on ${portName(d, n.port) ?? 'an unknown port'}`, sure: 'named' },
      );
    }
  }

  for (const d of devices) {
    const { onParent, uplinkByHand } = d;
    const parent = d.parent === null ? undefined : byId.get(d.parent);
    if (parent && onParent && onParent.link !== 'none') {
      named.add(d.id);
      put(
        { device: parent.id, port: onParent.port },
        { device: d.id, port: null },
        { medium: onParent.link, speedMbps: null },
        { how: `${parent.name} says so${onParent.port === null ? '' : ` of its ${onParent.port}`}`, sure: 'told' },
      );
    }
    const over = uplinkByHand === null ? undefined : byId.get(uplinkByHand.device);
    if (over && uplinkByHand) {
      named.add(d.id);
      put(
        { device: over.id, port: ownPortName(over, uplinkByHand.port) },
        { device: d.id, port: null },
        { medium: 'wired', speedMbps: null },
        { how: 'entered by hand', sure: 'by-hand' },
      );
    }
  }

  // A bridge table suggests a link where no neighbour is named: the fewer there are on a port, the surer.
  const heardOn = new Map<DeviceId, { switchDevice: MapDevice; port: number; others: number }>();
  for (const d of devices) {
    const around = d.around;
    if (!around || around.forwarding.length === 0) continue;
    const perPort = new Map<number, Set<MapDevice>>();
    const trunk = trunks.get(d.id)!;
    for (const { mac, port } of around.forwarding) {
      if (trunk.has(port)) continue;
      const other = byMac.get(mac);
      const found = perPort.get(port) ?? new Set();
      if (other && other.id !== d.id) found.add(other);
      perPort.set(port, found);
    }
    for (const [port, found] of perPort)
      for (const other of found) {
        if (named.has(other.id)) continue;
        const before = heardOn.get(other.id);
        if (!before || found.size - 1 < before.others) heardOn.set(other.id, { switchDevice: d, port, others: found.size - 1 });
      }
  }
  for (const [id, { switchDevice, port, others }] of heardOn) {
    const found = portsOf.get(switchDevice.id)!.get(port);
    const name = portName(switchDevice, port);
    put(
      { device: switchDevice.id, port: name },
      { device: id, port: null },
      { medium: found?.wireless ? 'wireless' : 'wired', speedMbps: found?.speedMbps ?? null },
      {
        how: `${switchDevice.name} has its MAC in its bridge table on ${name}${others > 0 ? `, with ${others} more behind the same port` : ''}`,
        sure: 'suggested',
      },
    );
  }

  const links = bundle([...drafts.values()], portsOf, portCalled)
    .map((l) => upperFirst(l, byId))
    .sort(byEnds(byId));

  const feeds: Feed[] = [];
  const unknownFeeds: LinkEnd[] = [];
  const at = new Map<string, Link[]>();
  for (const link of links)
    for (const end of [link.a, link.b])
      at.set(`${end.device}|${end.port ?? ''}`, [...(at.get(`${end.device}|${end.port ?? ''}`) ?? []), link]);
  for (const d of devices) {
    for (const { port, delivering } of d.around?.power ?? []) {
      if (!delivering) continue;
      const from = { device: d.id, port: portName(d, port) };
      const there = at.get(`${d.id}|${from.port ?? ''}`) ?? [];
      if (there.length === 0) unknownFeeds.push(from);
      for (const link of there) {
        const to = link.a.device === d.id ? link.b.device : link.a.device;
        const sure = order(link.sure) > order('named') ? link.sure : 'named';
        feeds.push({
          from,
          to,
          sure,
          evidence: [{ how: `${d.name} delivers power on ${from.port}`, sure: 'named' }, ...link.evidence],
        });
      }
    }
    for (const { outlet, label } of d.outlets) {
      const to = byName.get(label.trim().toLowerCase());
      if (to)
        feeds.push({
          from: { device: d.id, port: outlet },
          to: to.id,
          sure: 'told',
          evidence: [{ how: `${outlet} of ${d.name} is labelled "${label}"`, sure: 'told' }],
        });
    }
    const parent = d.parent === null ? undefined : byId.get(d.parent);
    if (parent && d.onParent?.powered)
      feeds.push({
        from: { device: parent.id, port: d.onParent.port },
        to: d.id,
        sure: 'told',
        evidence: [{ how: `${parent.name} powers its own ports`, sure: 'told' }],
      });
    const feeder = d.feedByHand === null ? undefined : byId.get(d.feedByHand.device);
    if (feeder && d.feedByHand)
      feeds.push({
        from: { device: feeder.id, port: ownPortName(feeder, d.feedByHand.port) },
        to: d.id,
        sure: 'by-hand',
        evidence: [{ how: 'entered by hand', sure: 'by-hand' }],
      });
  }

  const linked = new Set(links.flatMap((l) => [l.a.device, l.b.device]));
  const fed = new Set(feeds.map((f) => f.to));
  return {
    links,
    feeds,
    strangers,
    unknownFeeds,
    noUplink: new Set(devices.filter((d) => !linked.has(d.id)).map((d) => d.id)),
    noFeed: new Set(devices.filter((d) => !fed.has(d.id)).map((d) => d.id)),
  };
}

/** Whatever carries others stands first: a router before a switch, a switch before a phone. */
const carries: readonly Kind[] = ['router', 'switch', 'controller', 'recorder', 'base-station', 'access-point'];
function upperFirst(link: Link, byId: ReadonlyMap<DeviceId, MapDevice>): Link {
  const rank = (end: LinkEnd): number => {
    const at = carries.indexOf(byId.get(end.device)!.kind);
    return at < 0 ? carries.length : at;
  };
  const name = (end: LinkEnd): string => byId.get(end.device)!.name;
  const swap = rank(link.b) < rank(link.a) || (rank(link.b) === rank(link.a) && name(link.b) < name(link.a));
  return swap ? { ...link, a: link.b, b: link.a } : link;
}

function byEnds(byId: ReadonlyMap<DeviceId, MapDevice>): (x: Link, y: Link) => number {
  const collate = new Intl.Collator('en', { numeric: true });
  const text = (l: Link): string => `${byId.get(l.a.device)!.name} ${l.a.port ?? ''} ${byId.get(l.b.device)!.name}`;
  return (x, y) => collate.compare(text(x), text(y));
}

/** Draws the ports of one bundle as one link; and what one side names with its port and the other without as one. */
function bundle(
  drafts: readonly Draft[],
  portsOf: ReadonlyMap<DeviceId, ReadonlyMap<number, { name: string; bundle: number | null }>>,
  portCalled: ReadonlyMap<DeviceId, ReadonlyMap<string, { bundle: number | null }>>,
): Link[] {
  const bundleOf = (end: LinkEnd): string | null => {
    const bundled = portCalled.get(end.device)!.get((end.port ?? '').toLowerCase())?.bundle ?? null;
    return bundled === null ? null : (portsOf.get(end.device)!.get(bundled)?.name ?? `bundle ${bundled}`);
  };
  const found = new Map<string, Link>();
  for (const draft of drafts) {
    const [inA, inB] = [bundleOf(draft.a), bundleOf(draft.b)];
    const a = inA === null ? draft.a : { device: draft.a.device, port: inA };
    const b = inB === null ? draft.b : { device: draft.b.device, port: inB };
    const key = `${a.device}|${a.port ?? ''}|${b.device}|${b.port ?? ''}`;
    const before = found.get(key);
    found.set(
      key,
      before
        ? {
            ...before,
            bundled: before.bundled + 1,
            speedMbps: (before.speedMbps ?? 0) + (draft.speedMbps ?? 0) || null,
            evidence: [...before.evidence, ...draft.evidence],
          }
        : { a, b, medium: draft.medium, speedMbps: draft.speedMbps, bundled: 1, sure: surest(draft.evidence), evidence: draft.evidence },
    );
  }
  return [...found.values()];
}
