import type { ZoomTransform } from 'd3-zoom';
import type { Layout, PlacedDevice, PlacedSite } from './map-layout.js';

/** A line between two devices, or what stands for them. */
export interface Line {
  readonly a: string;
  readonly b: string;
  readonly medium: 'wired' | 'wireless' | 'feed';
  readonly suggested: boolean;
  readonly powered: boolean;
}

/** What makes a device look otherwise. */
export interface Look {
  readonly dim: boolean;
  readonly chosen: boolean;
  readonly flagged: boolean;
  readonly alone: boolean;
}

type Box = Pick<PlacedDevice, 'x' | 'y' | 'width' | 'height'>;

/** A layout, found by name, with how far it reaches. */
export interface Places {
  readonly layout: Layout;
  readonly boxes: ReadonlyMap<string, Box>;
  readonly width: number;
  readonly height: number;
}

export function inPlace(layout: Layout): Places {
  const boxes = new Map<string, Box>();
  let [width, height] = [0, 0];
  for (const site of layout.sites) {
    boxes.set(`site ${site.site}`, site);
    width = Math.max(width, site.x + site.width);
    height = Math.max(height, site.y + site.height);
  }
  for (const device of layout.devices) boxes.set(device.id, device);
  return { layout, boxes, width, height };
}

const titleHeight = 26;
const within = ({ x, y, width, height }: Box, [px, py]: readonly [number, number]): boolean =>
  px >= x && px <= x + width && py >= y && py <= y + height;

/** What is at a point of the drawing: a device, or the title of a site. */
export function atPoint(
  { layout }: Places,
  point: readonly [number, number],
): { readonly device: string | null; readonly title: string | null } {
  const site = layout.sites.find((s) => within(s, point));
  const device = layout.devices.find((d) => within(d, point));
  const isTitle = site !== undefined && (site.folded !== null || point[1] <= site.y + titleHeight);
  return { device: device?.id ?? null, title: isTitle && !device ? site.site : null };
}

export interface Frame {
  readonly view: ZoomTransform;
  readonly width: number;
  readonly height: number;
  readonly ratio: number;
}

/** Below this the names of devices cannot be read, and are not written. */
const legible = 0.5;

/** Paints what is in view. */
export function paint(
  context: CanvasRenderingContext2D,
  { view, width, height, ratio }: Frame,
  what: { readonly places: Places; readonly lines: readonly Line[]; readonly looks: (id: string) => Look },
  style: CSSStyleDeclaration,
): void {
  const colour = (name: string): string => style.getPropertyValue(name).trim();
  const [left, top] = view.invert([0, 0]);
  const [right, bottom] = view.invert([width, height]);
  const isSeen = (b: Box): boolean => b.x < right && b.x + b.width > left && b.y < bottom && b.y + b.height > top;
  context.setTransform(1, 0, 0, 1, 0, 0);
  context.clearRect(0, 0, width * ratio, height * ratio);
  context.setTransform(view.k * ratio, 0, 0, view.k * ratio, view.x * ratio, view.y * ratio);
  const inks = {
    mark: colour('--mark'),
    ink: colour('--ink'),
    quiet: colour('--quiet'),
    line: colour('--line'),
    sheet: colour('--sheet'),
    ground: colour('--ground'),
  };
  const font = style.fontFamily;
  for (const site of what.places.layout.sites) if (isSeen(site)) paintSite(context, site, inks, view.k);
  paintLines(context, what.places, what.lines, isSeen, { quiet: inks.quiet, care: colour('--care'), now: colour('--now') }, view.k);
  const border = { flagged: colour('--bad'), chosen: colour('--now'), alone: colour('--care') };
  context.textBaseline = 'middle';
  context.font = `11.5px ${font}`;
  for (const d of what.places.layout.devices) {
    if (!isSeen(d)) continue;
    const look = what.looks(d.id);
    context.globalAlpha = look.dim ? 0.35 : 1;
    // From afar a device is a mark, and no sheet with a name on it.
    const isFar = view.k < legible;
    context.fillStyle = look.chosen ? border.chosen : isFar ? (look.flagged ? border.flagged : inks.mark) : inks.sheet;
    context.strokeStyle = look.flagged ? border.flagged : look.chosen ? border.chosen : look.alone ? border.alone : inks.line;
    context.lineWidth = Math.max(1, 0.6 / view.k);
    context.fillRect(d.x, d.y, d.width, d.height);
    if (isFar) continue;
    context.strokeRect(d.x, d.y, d.width, d.height);
    context.fillStyle = look.chosen ? inks.sheet : inks.ink;
    context.fillText(d.short, d.x + 6, d.y + d.height / 2, d.width - 12);
  }
  context.globalAlpha = 1;
  for (const site of what.places.layout.sites) if (isSeen(site)) paintTitle(context, site, inks, font, view.k);
}

function paintSite(
  context: CanvasRenderingContext2D,
  site: PlacedSite,
  inks: { readonly line: string; readonly sheet: string; readonly ground: string },
  scale: number,
): void {
  context.fillStyle = site.folded ? inks.sheet : inks.ground;
  context.strokeStyle = inks.line;
  context.lineWidth = Math.max(1, 0.6 / scale);
  context.beginPath();
  context.roundRect(site.x, site.y, site.width, site.height, 6);
  context.fill();
  context.stroke();
}

/** The name of a site, which from afar can be read still, as far as it fits into its box. */
function paintTitle(
  context: CanvasRenderingContext2D,
  site: PlacedSite,
  inks: { readonly ink: string; readonly sheet: string },
  font: string,
  scale: number,
): void {
  const size = Math.max(12, Math.min(11 / scale, site.width / 4.5));
  context.save();
  context.beginPath();
  context.rect(site.x, site.y, site.width, site.height);
  context.clip();
  context.textBaseline = 'top';
  context.font = `650 ${size}px ${font}`;
  if (size > 12) {
    context.fillStyle = inks.sheet;
    context.fillRect(site.x, site.y, context.measureText(site.site).width + size, 1.5 * size);
  }
  context.fillStyle = inks.ink;
  context.fillText(site.site, site.x + 0.4 * size, site.y + 0.3 * size);
  context.restore();
}

function paintLines(
  context: CanvasRenderingContext2D,
  places: Places,
  lines: readonly Line[],
  isSeen: (box: Box) => boolean,
  inks: { readonly quiet: string; readonly care: string; readonly now: string },
  scale: number,
): void {
  const kinds = new Map<string, { readonly first: Line; readonly path: Path2D }>();
  for (const line of lines) {
    const [a, b] = [places.boxes.get(line.a), places.boxes.get(line.b)];
    if (!a || !b || (!isSeen(a) && !isSeen(b))) continue;
    const key = `${line.medium} ${line.suggested} ${line.powered}`;
    let kind = kinds.get(key);
    if (!kind) kinds.set(key, (kind = { first: line, path: new Path2D() }));
    const [from, to] = b.x >= a.x ? [a, b] : [b, a];
    const [x, y] = [from.x + from.width, from.y + from.height / 2];
    const [tx, ty] = [to.x, to.y + to.height / 2];
    const bend = Math.max(12, Math.abs(tx - x) / 2);
    kind.path.moveTo(x, y);
    kind.path.bezierCurveTo(x + bend, y, tx - bend, ty, tx, ty);
  }
  for (const { first, path } of kinds.values()) {
    context.strokeStyle = first.medium === 'wireless' ? inks.now : first.powered || first.medium === 'feed' ? inks.care : inks.quiet;
    context.lineWidth = Math.max(first.powered ? 1.6 : 1.2, 0.5 / scale);
    context.setLineDash(first.medium === 'feed' ? [6, 2, 1, 2] : first.suggested ? [1.5, 3] : first.medium === 'wireless' ? [7, 4] : []);
    context.stroke(path);
  }
  context.setLineDash([]);
}
