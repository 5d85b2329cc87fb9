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
const foldedSize = { width: 190, height: 150 };

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
  for (const d of map.devices) bySite.set(d.site, [...(bySite.get(d.site) ?? []), d]);
  const siteOf = new Map(map.devices.map((d) => [d.id, d.site]));
  const edges = new Map<string, [string, string][]>();
  const addEdge = (a: string, b: string): void => {
    const site = siteOf.get(a);
    if (site === undefined || site !== siteOf.get(b)) return;
    edges.set(site, [...(edges.get(site) ?? []), [a, b]]);
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
    const graph = new dagre.graphlib.Graph({ multigraph: true });
    graph.setGraph({ rankdir: 'LR', nodesep: 6, ranksep: 36, edgesep: 4, ranker: 'network-simplex' });
    graph.setDefaultEdgeLabel(() => ({}));
    for (const d of devices) graph.setNode(d.id, { ...size });
    for (const [i, [a, b]] of (edges.get(site) ?? []).entries()) graph.setEdge(a, b, { weight: 1 }, String(i));
    dagre.layout(graph);
    const short = shortener(devices.map((d) => d.name));
    const placed = devices.map((d): Mutable => {
      const { x, y, width, height } = graph.node(d.id) as { x: number; y: number; width: number; height: number };
      return {
        id: d.id,
        site,
        name: d.name,
        short: short(d.name),
        kind: d.kind,
        x: x - width / 2 + pad,
        y: y - height / 2 + titleHeight,
        width,
        height,
      };
    });
    inOrder(placed, edges.get(site) ?? []);
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

type Mutable = { -readonly [K in keyof PlacedDevice]: PlacedDevice[K] };
const collate = new Intl.Collator('en', { numeric: true });

/** Those that hang on the same device and carry nothing themselves stand in the order of their names. */
function inOrder(placed: Mutable[], edges: readonly [string, string][]): void {
  const over = new Map<string, Set<string>>();
  const carrying = new Set(edges.map(([a]) => a));
  for (const [a, b] of edges) over.set(b, (over.get(b) ?? new Set()).add(a));
  const groups = new Map<string, Mutable[]>();
  for (const d of placed) {
    const parents = [...(over.get(d.id) ?? [])];
    if (parents.length !== 1 || carrying.has(d.id)) continue;
    const key = `${parents[0]} ${Math.round(d.x)}`;
    groups.set(key, [...(groups.get(key) ?? []), d]);
  }
  for (const group of groups.values()) {
    const places = group.map((d) => d.y).sort((a, b) => a - b);
    for (const [i, d] of group.sort((a, b) => collate.compare(a.name, b.name)).entries()) d.y = places[i]!;
  }
}

/** Puts boxes into columns, the tallest first, each where there is most room; as many columns as fit the shape of the window best. */
function bestColumns(boxes: readonly { width: number; height: number }[], aspect: number): { x: number; y: number }[] {
  let best: { scale: number; places: { x: number; y: number }[] } | null = null;
  for (let columns = 1; columns <= Math.min(8, boxes.length); columns++) {
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
