import dagre from '@dagrejs/dagre';
import type { DeviceMap, Kind } from '@barrow/core';

export interface PlacedDevice {
  readonly id: string;
  readonly site: string;
  readonly name: string;
  readonly short: string;
  readonly kind: Kind;
  readonly x: number;
  readonly y: number;
  readonly width: number;
  readonly height: number;
}

export interface PlacedSite {
  readonly site: string;
  readonly x: number;
  readonly y: number;
  readonly width: number;
  readonly height: number;
  /** null while it is drawn whole; otherwise how many of each kind are in it. */
  readonly folded: readonly { readonly kind: Kind; readonly count: number }[] | null;
  readonly devices: number;
}

export interface Layout {
  readonly sites: readonly PlacedSite[];
  readonly devices: readonly PlacedDevice[];
}

const size = { width: 106, height: 22 };
const titleHeight = 26;
const pad = 12;
const gap = 16;
/** A site with more devices than this draws what hangs on a switch in several columns. */
const crowded = 45;
const foldedSize = { width: 190, height: 132 };

/** The beginning that most names of a site share is not repeated on each of them. */
function shortener(names: readonly string[]): (name: string) => string {
  const counts = new Map<string, number>();
  for (const name of names) {
    const cut = name.indexOf('-');
    if (cut > 0) counts.set(name.slice(0, cut + 1), (counts.get(name.slice(0, cut + 1)) ?? 0) + 1);
  }
  const best = [...counts].sort((a, b) => b[1] - a[1])[0];
  return (name) => (best && best[1] > 2 && name.startsWith(best[0]) ? name.slice(best[0].length) : name);
}

/** Places the devices of each site from what carries to what hangs on it, and the sites beside each other. */
export function layOut(map: DeviceMap, folded: ReadonlySet<string>, aspect: number): Layout {
  const bySite = new Map<string, DeviceMap['devices']>();
  for (const d of map.devices) {
    const list = bySite.get(d.site);
    if (list) list.push(d);
    else bySite.set(d.site, [d]);
  }
  const siteOf = new Map(map.devices.map((d) => [d.id, d.site]));
  const edges = new Map<string, [string, string][]>();
  const addEdge = (a: string, b: string): void => {
    const site = siteOf.get(a);
    if (site === undefined || site !== siteOf.get(b)) return;
    const list = edges.get(site);
    if (list) list.push([a, b]);
    else edges.set(site, [[a, b]]);
  };
  for (const l of map.links) addEdge(l.a.device, l.b.device);
  const boxes: { site: string; width: number; height: number; devices: PlacedDevice[]; folded: PlacedSite['folded']; count: number }[] = [];
  for (const [site, devices] of bySite) {
    if (folded.has(site)) {
      const counts = new Map<Kind, number>();
      for (const d of devices) counts.set(d.kind, (counts.get(d.kind) ?? 0) + 1);
      const kinds = [...counts].map(([kind, count]) => ({ kind, count })).sort((a, b) => b.count - a.count);
      boxes.push({ site, ...foldedSize, devices: [], folded: kinds, count: devices.length });
      continue;
    }
    const placed = placeSite(devices, edges.get(site) ?? []);
    const right = Math.max(...placed.map((p) => p.x + p.width));
    const bottom = Math.max(...placed.map((p) => p.y + p.height));
    boxes.push({ site, width: right + pad, height: bottom + pad, devices: placed, folded: null, count: devices.length });
  }
  boxes.sort((a, b) => b.height - a.height || b.count - a.count);
  const packed = bestColumns(boxes, aspect);
  return {
    sites: boxes.map((b, i) => ({ site: b.site, ...packed[i]!, width: b.width, height: b.height, folded: b.folded, devices: b.count })),
    devices: boxes.flatMap((b, i) => b.devices.map((d) => ({ ...d, x: d.x + packed[i]!.x, y: d.y + packed[i]!.y }))),
  };
}

const collate = new Intl.Collator('en', { numeric: true });

/**
 * One site, from left to right. What hangs on one device and carries nothing itself stands together in the order of names:
 * one below the other, or in several columns where a site is so large that it would not fit.
 */
function placeSite(devices: DeviceMap['devices'], edges: readonly [string, string][]): PlacedDevice[] {
  const over = new Map<string, Set<string>>();
  for (const [a, b] of edges) over.set(b, (over.get(b) ?? new Set()).add(a));
  const carrying = new Set(edges.map(([a]) => a));
  const bunches = new Map<string, DeviceMap['devices']>();
  const single: DeviceMap['devices'] = [];
  for (const d of devices) {
    const parents = [...(over.get(d.id) ?? [])];
    if (parents.length === 1 && !carrying.has(d.id)) bunches.set(parents[0]!, [...(bunches.get(parents[0]!) ?? []), d]);
    else single.push(d);
  }
  const columns = devices.length > crowded ? 3 : 1;
  const between = 6;
  const graph = new dagre.graphlib.Graph({ multigraph: true });
  graph.setGraph({ rankdir: 'LR', nodesep: between, ranksep: 36, edgesep: 4, ranker: 'network-simplex' });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const d of single) graph.setNode(d.id, { ...size });
  for (const [parent, bunch] of bunches) {
    const across = Math.min(columns, bunch.length);
    const down = Math.ceil(bunch.length / across);
    graph.setNode(`below ${parent}`, {
      width: across * (size.width + between) - between,
      height: down * (size.height + between) - between,
    });
    graph.setEdge(parent, `below ${parent}`, { weight: 2 });
  }
  const inBunch = new Set([...bunches.values()].flat().map((d) => d.id));
  for (const [i, [a, b]] of edges.entries()) if (!inBunch.has(b)) graph.setEdge(a, b, { weight: 1 }, String(i));
  dagre.layout(graph);

  const short = shortener(devices.map((d) => d.name));
  const corner = (id: string): { x: number; y: number } => {
    const { x, y, width, height } = graph.node(id) as { x: number; y: number; width: number; height: number };
    return { x: x - width / 2 + pad, y: y - height / 2 + titleHeight };
  };
  const put = (d: DeviceMap['devices'][number], at: { x: number; y: number }): PlacedDevice => ({
    id: d.id,
    site: d.site,
    name: d.name,
    short: short(d.name),
    kind: d.kind,
    ...at,
    ...size,
  });
  return [
    ...single.map((d) => put(d, corner(d.id))),
    ...[...bunches].flatMap(([parent, bunch]) => {
      const { x, y } = corner(`below ${parent}`);
      const down = Math.ceil(bunch.length / Math.min(columns, bunch.length));
      return bunch
        .sort((a, b) => collate.compare(a.name, b.name))
        .map((d, i) => put(d, { x: x + Math.floor(i / down) * (size.width + between), y: y + (i % down) * (size.height + between) }));
    }),
  ];
}

/** Puts boxes into columns, the tallest first, each where there is most room; as many columns as fit the shape of the window best. */
function bestColumns(boxes: readonly { width: number; height: number }[], aspect: number): { x: number; y: number }[] {
  let best: { scale: number; places: { x: number; y: number }[] } | null = null;
  for (let columns = 1; columns <= Math.min(60, boxes.length); columns++) {
    const heights = Array<number>(columns).fill(0);
    const widths = Array<number>(columns).fill(0);
    const places = boxes.map((box) => {
      const column = heights.indexOf(Math.min(...heights));
      const place = { column, y: heights[column]! };
      heights[column]! += box.height + gap;
      widths[column] = Math.max(widths[column]!, box.width);
      return place;
    });
    const width = widths.reduce((sum, w) => sum + w + gap, -gap);
    const height = Math.max(...heights) - gap;
    // How large it can be drawn in a window of this shape, one unit high.
    const scale = Math.min(aspect / width, 1 / height);
    if (best === null || scale > best.scale) {
      const from = widths.map((_, i) => widths.slice(0, i).reduce((sum, w) => sum + w + gap, 0));
      best = { scale, places: places.map((p) => ({ x: from[p.column]!, y: p.y })) };
    }
  }
  return best?.places ?? [];
}
