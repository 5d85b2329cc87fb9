import { XMLParser } from 'fast-xml-parser';

/** An XML element without its namespaces: text, or children by name. */
export type XmlNode = string | { readonly [name: string]: XmlNode | readonly XmlNode[] };

const mostText = 256 * 1024;
const mostTags = 5000;
const parser = new XMLParser({
  ignoreAttributes: true,
  removeNSPrefix: true,
  processEntities: false,
  parseTagValue: false,
  ignoreDeclaration: true,
  ignorePiTags: true,
  trimValues: true,
});

/** Reads XML that a device sent. null for what is none, is too large, or brings a document type: entities may be bombs. */
export function readXml(text: string): XmlNode | null {
  if (text.length > mostText || /<!(?:DOCTYPE|ENTITY)/i.test(text)) return null;
  let tags = 0;
  let deep = 0;
  let deepest = 0;
  for (let at = text.indexOf('<'); at >= 0; at = text.indexOf('<', at + 1)) {
    deep += text[at + 1] === '/' ? -1 : 1;
    deepest = Math.max(deepest, deep);
    if (++tags > mostTags) return null;
  }
  // Elements that are never closed, one in the other, cost their depth.
  if (deepest > 500) return null;
  try {
    return parser.parse(text) as XmlNode;
  } catch {
    return null;
  }
}

const entities: Record<string, string> = { amp: '&', lt: '<', gt: '>', quot: '"', apos: "'" };

/** XML 1.0 §4.6: the five entities that need no declaration, and characters by number. */
function plain(text: string): string {
  return text.replace(/&(?:#(\d{1,7})|#x([0-9a-fA-F]{1,6})|(\w{2,4}));/g, (all, decimal?: string, hex?: string, name?: string) => {
    if (name !== undefined) return entities[name] ?? all;
    const code = decimal !== undefined ? Number(decimal) : parseInt(hex!, 16);
    return code > 0 && code <= 0x10ffff ? String.fromCodePoint(code) : all;
  });
}

/** The text of the first element of a name, anywhere below; null when there is none. */
export function textOf(node: XmlNode | null, name: string): string | null {
  const found = findXml(node, name);
  return typeof found === 'string' && found !== '' ? plain(found) : null;
}

/** The first element of a name, anywhere below. */
export function findXml(node: XmlNode | null, name: string): XmlNode | null {
  const queue: unknown[] = [node];
  for (let at = queue.shift(); at !== undefined; at = queue.shift()) {
    if (at === null || typeof at !== 'object') continue;
    if (!Array.isArray(at) && Object.hasOwn(at, name)) {
      const found = (at as Record<string, XmlNode | XmlNode[]>)[name]!;
      return Array.isArray(found) ? (found[0] ?? null) : found;
    }
    queue.push(...Object.values(at));
  }
  return null;
}
