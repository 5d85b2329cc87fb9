import { networkInterfaces } from 'node:os';
import {
  DarkIf,
  drawTopology,
  givesText,
  guardsOf,
  standsAt,
  surenesses,
  type Guards,
  type DeviceDetail,
  type DeviceMap,
  type Kind,
  type Link,
  type MapDevice,
  type Sureness,
  type Topology,
} from '@barrow/core';
import type { Context } from '../context.js';
import { DeviceEntity, MarkEntity, SiteEntity, SurroundingsEntity, type DeviceRow } from '../data/entities.js';

interface Drawn {
  readonly rows: ReadonlyMap<string, DeviceRow>;
  readonly topology: Topology;
  readonly dark: DarkIf;
  /** Made when a plan asks for it first. */
  guards: Guards | null;
  readonly devices: readonly MapDevice[];
  readonly ports: ReadonlyMap<string, number>;
}

/** A port or outlet on which a device hangs. */
export interface FedBy {
  readonly device: string;
  readonly outlet: string | null;
  readonly sure: Sureness;
  /** Those that hang on it as well. */
  readonly others: readonly string[];
}

/** Under this name is kept on which device a person said that Barrow's machine hangs. */
const hereMark = 'here';

/** The hardware addresses of this machine. */
const ownMacs = (): string[] => [
  ...new Set(
    Object.values(networkInterfaces())
      .flat()
      .flatMap((a) => (a && !a.internal ? [a.mac.toLowerCase()] : [])),
  ),
];

/** Links and feeds from all evidence; drawn when somebody looks, and again only after something changed. */
export class MapService {
  #drawn: Promise<Drawn> | null = null;

  constructor(private readonly context: Context) {
    context.live.listen((event) => {
      if (event.kind === 'changed' && (event.what === 'devices' || event.what === 'families')) this.#drawn = null;
    });
  }

  #draw(): Promise<Drawn> {
    return (this.#drawn ??= this.#read());
  }

  async #read(): Promise<Drawn> {
    const { db } = this.context;
    const [rows, surroundings] = await Promise.all([db.find(DeviceEntity), db.find(SurroundingsEntity)]);
    rows.sort(bySiteAndName);
    const around = new Map(surroundings.map((s) => [s.device, s.data]));
    const devices: MapDevice[] = rows.map((row) => ({
      id: row.id,
      name: row.name,
      kind: row.kind as Kind,
      site: row.site,
      parent: row.parent,
      macs: row.mac === null ? [] : [row.mac],
      addresses: [row.address, ...row.addresses].filter((a) => a !== '' && !row.flags.some((f) => f.flag === 'displaced')),
      around: around.get(row.id) ?? null,
      onParent: row.onParent,
      keepsPower: row.family !== null && this.context.families.get(row.family)?.keepsPower === true,
      outlets: row.outlets,
      feedByHand: row.feedByHand,
      uplinkByHand: row.uplinkByHand,
    }));
    const topology = drawTopology(devices);
    return {
      rows: new Map(rows.map((r) => [r.id, r])),
      topology,
      dark: new DarkIf(devices, topology),
      guards: null,
      devices,
      ports: new Map([...around].map(([id, a]) => [id, a.ports.length])),
    };
  }

  /** What must not happen at the same time. */
  async guards(): Promise<Guards> {
    const drawn = await this.#draw();
    return (drawn.guards ??= guardsOf(drawn.devices, drawn.topology, (await this.here())?.device ?? null));
  }

  /** The device on which Barrow's own machine hangs: as a person said, or as the tables of the devices tell; null: nobody knows. */
  async here(): Promise<{ readonly device: string; readonly name: string; readonly site: string; readonly told: boolean } | null> {
    const { rows, devices, topology } = await this.#draw();
    const kept = await this.context.db.findOne(MarkEntity, { name: hereMark });
    const told = kept === null ? undefined : rows.get(kept.value);
    const seen = told ? null : standsAt(ownMacs(), devices, topology);
    const row = told ?? (seen === null ? undefined : rows.get(seen));
    return row ? { device: row.id, name: row.name, site: row.site, told: told !== undefined } : null;
  }

  /** A person says where it stands; null: what is seen counts. */
  async stand(device: string | null): Promise<void> {
    await this.context.db.write(async (em) => {
      if (device === null) await em.nativeDelete(MarkEntity, { name: hereMark });
      else await em.upsert(MarkEntity, { name: hereMark, value: device });
    });
    // Who goes down for whom is another question from another place.
    this.context.live.changed('devices');
  }

  /** What feeds each device, the surest first, and who else hangs on the same port or outlet. */
  async feedsOf(): Promise<ReadonlyMap<string, readonly FedBy[]>> {
    const { topology } = await this.#draw();
    const hanging = new Map<string, Set<string>>();
    const at = (f: Topology['feeds'][number]): string => `${f.from.device}|${f.from.port ?? ''}`;
    for (const feed of topology.feeds) hanging.set(at(feed), (hanging.get(at(feed)) ?? new Set()).add(feed.to));
    const found = new Map<string, Map<string, FedBy>>();
    const surestFirst = (a: FedBy, b: FedBy): number => surenesses.indexOf(a.sure) - surenesses.indexOf(b.sure);
    for (const feed of topology.feeds) {
      const others = [...hanging.get(at(feed))!].filter((id) => id !== feed.to);
      const of = found.get(feed.to) ?? new Map<string, FedBy>();
      const known = of.get(at(feed));
      const one = { device: feed.from.device, outlet: feed.from.port, sure: feed.sure, others };
      if (!known || surestFirst(one, known) < 0) found.set(feed.to, of.set(at(feed), one));
    }
    return new Map([...found].map(([id, of]) => [id, [...of.values()].sort(surestFirst)]));
  }

  /** Those of which a link, a feed or a parent is known. */
  async placed(): Promise<ReadonlySet<string>> {
    const { devices, topology } = await this.#draw();
    return new Set([
      ...topology.links.flatMap(({ a, b }) => [a.device, b.device]),
      ...topology.feeds.flatMap(({ from, to }) => [from.device, to]),
      ...devices.flatMap(({ id, parent }) => (parent === null ? [] : [id, parent])),
    ]);
  }

  async whole(): Promise<DeviceMap> {
    const { rows, topology, ports } = await this.#draw();
    const view = views(rows);
    return {
      devices: [...rows.values()].map((row) => ({
        id: row.id,
        name: row.name,
        kind: row.kind as Kind,
        site: row.site,
        address: row.address === '' ? null : row.address,
        model: row.model,
        firmware: row.firmware,
        parent: row.parent,
        ports: ports.get(row.id) ?? 0,
        noUplink: topology.noUplink.has(row.id),
        noFeed: topology.noFeed.has(row.id),
        flagged: row.flags.length > 0,
        console: row.told?.console ? view.end(row.told.console) : null,
        gives: row.told ? givesText(row.told) : null,
      })),
      contacts: Object.fromEntries(
        (await this.context.db.find(SiteEntity)).flatMap(({ name, contact }) => (contact === null ? [] : [[name, contact]])),
      ),
      links: topology.links.map(view.link),
      feeds: topology.feeds.map(view.feed),
      strangers: topology.strangers.map(view.stranger),
      unknownFeeds: topology.unknownFeeds.map(view.end),
    };
  }

  /** Those to which a link, a feed or a parent leads from a device, each by the port of it that leads there. */
  async beside(id: string): Promise<{ device: string; name: string; mac: string | null; port: string | null }[]> {
    const { rows, topology } = await this.#draw();
    const found: [string, string | null][] = [
      ...topology.links.flatMap(({ a, b }): [string, string | null][] =>
        a.device === id ? [[b.device, a.port]] : b.device === id ? [[a.device, b.port]] : [],
      ),
      ...topology.feeds.flatMap(({ from, to }): [string, string | null][] => (from.device === id ? [[to, from.port]] : [])),
      ...[...rows.values()].flatMap((r): [string, string | null][] => (r.parent === id ? [[r.id, null]] : [])),
    ];
    return found.flatMap(([device, port]) => {
      const row = rows.get(device);
      return row ? [{ device, name: row.name, mac: row.mac, port }] : [];
    });
  }

  /** What hangs on one device, what it hangs on, and what goes dark with it. */
  async around(id: string): Promise<Pick<DeviceDetail, 'links' | 'feeds' | 'strangers' | 'dark' | 'children'>> {
    const { rows, topology, dark } = await this.#draw();
    const view = views(rows);
    const children = [...rows.values()].filter((r) => r.parent === id);
    return {
      links: topology.links.filter((l) => l.a.device === id || l.b.device === id).map(view.link),
      feeds: topology.feeds.filter((f) => f.from.device === id || f.to === id).map(view.feed),
      strangers: topology.strangers.filter((s) => s.heardBy === id).map(view.stranger),
      children: children.map((c) => ({
        id: c.id,
        name: c.name,
        kind: c.kind as Kind,
        firmware: c.firmware,
        present: c.onParent?.present ?? true,
      })),
      dark: dark.of(id).map((d) => {
        const row = rows.get(d.device)!;
        return { ...d, name: row.name, kind: row.kind as Kind, site: row.site, through: rows.get(d.through)?.name ?? d.through };
      }),
    };
  }
}

const collate = new Intl.Collator('en', { numeric: true });
const bySiteAndName = (a: DeviceRow, b: DeviceRow): number => collate.compare(a.site, b.site) || collate.compare(a.name, b.name);

/** Writes ends with the names of their devices. */
function views(rows: ReadonlyMap<string, DeviceRow>) {
  const nameOf = (id: string): string => rows.get(id)?.name ?? id;
  const end = (e: { device: string; port: string | null }) => ({ ...e, name: nameOf(e.device) });
  return {
    end,
    link: (l: Link) => ({ ...l, a: end(l.a), b: end(l.b), evidence: [...l.evidence] }),
    feed: (f: Topology['feeds'][number]) => ({
      ...f,
      from: end(f.from),
      to: end({ device: f.to, port: null }),
      evidence: [...f.evidence],
    }),
    stranger: (s: Topology['strangers'][number]) => ({
      name: s.name,
      description: s.description,
      mac: s.mac,
      addresses: [...s.addresses],
      heardBy: nameOf(s.heardBy),
      port: s.port,
    }),
  };
}
