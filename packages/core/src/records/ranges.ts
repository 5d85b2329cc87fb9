import { address6 } from './around.js';

/** A range text that cannot be read, with what was expected. */
export class RangeMalformed extends Error {
  readonly code = 'range-malformed';
}

/** More addresses than this are never looked at without being asked. */
export const mostAddresses = 65_536;
/** More than this are no networks but a mistake. */
const mostInOneNetwork = 1 << 20;

/**
 * An IPv6 address in the form of RFC 5952; null for anything else. Only single ones: a prefix has more than can be asked.
 * Zones and embedded IPv4 addresses are not taken.
 */
export function ipv6(text: string): string | null {
  if (!/^[0-9a-fA-F:]{2,39}$/.test(text)) return null;
  const halves = text.split('::');
  if (halves.length > 2) return null;
  const groups = (half: string): string[] => (half === '' ? [] : half.split(':'));
  const [head, tail] = [groups(halves[0]!), groups(halves[1] ?? '')];
  const missing = 8 - head.length - tail.length;
  if (halves.length === 2 ? missing < 1 : missing !== 0) return null;
  const all = [...head, ...Array<string>(Math.max(0, missing)).fill('0'), ...tail];
  if (all.some((g) => !/^[0-9a-fA-F]{1,4}$/.test(g))) return null;
  return address6(all.flatMap((g) => [parseInt(g, 16) >> 8, parseInt(g, 16) & 255]));
}

function parseAddress(text: string): number {
  const match = /^(\d{1,3})\.(\d{1,3})\.(\d{1,3})\.(\d{1,3})$/.exec(text);
  const octets = match?.slice(1).map(Number);
  if (!octets || octets.some((o) => o > 255)) throw new RangeMalformed(`"${text}" is not an IPv4 address`);
  return octets.reduce((sum, octet) => sum * 256 + octet, 0);
}

function formatAddress(address: number): string {
  return [24, 16, 8, 0].map((shift) => Math.floor(address / 2 ** shift) % 256).join('.');
}

/** First and last address of a single address, a first-last pair, or a prefix (RFC 4632). */
function parseRange(text: string): [number, number] {
  const [address, prefix, ...more] = text.split('/');
  if (prefix !== undefined) {
    const bits = Number(prefix);
    if (more.length > 0 || !/^\d{1,2}$/.test(prefix) || bits > 32)
      throw new RangeMalformed(`"${text}" has no prefix length between 0 and 32`);
    const size = 2 ** (32 - bits);
    const first = Math.floor(parseAddress(address!) / size) * size;
    // The network and broadcast addresses of an ordinary prefix belong to no device.
    return bits <= 30 ? [first + 1, first + size - 2] : [first, first + size - 1];
  }
  const [from, to, ...rest] = text.split('-').map((t) => t.trim());
  if (rest.length > 0) throw new RangeMalformed(`"${text}" has more than one hyphen`);
  const first = parseAddress(from!);
  const last = to === undefined ? first : /^\d{1,3}$/.test(to) ? Math.floor(first / 256) * 256 + Number(to) : parseAddress(to);
  if (last < first || (to !== undefined && /^\d{4,}$/.test(to))) throw new RangeMalformed(`"${text}" ends before it begins`);
  return [first, last];
}

/**
 * Lists the addresses of ranges such as `127.40.1.0/24`, `127.40.1.1-127.40.1.40`, `127.40.1.1-40`, `127.40.1.7`, `::1`.
 * @throws RangeMalformed for a malformed range, or for more than a million addresses.
 */
export function addressesOf(ranges: readonly string[], exclude: readonly string[] = []): string[] {
  const out = exclude.filter((text) => ipv6(text.trim()) === null).map((text) => parseRange(text.trim()));
  const found = new Set<number>();
  const sixes = new Set<string>();
  const outSixes = new Set(exclude.map((text) => ipv6(text.trim())));
  for (const text of ranges) {
    const six = ipv6(text.trim());
    if (six !== null) {
      if (!outSixes.has(six)) sixes.add(six);
      continue;
    }
    if (text.includes(':')) throw new RangeMalformed(`"${text}" is not a single IPv6 address; prefixes of IPv6 are too large to be asked`);
    const [first, last] = parseRange(text.trim());
    if (last - first + 1 > mostInOneNetwork)
      throw new RangeMalformed(`"${text}" has ${last - first + 1} addresses; ${mostInOneNetwork} is the most`);
    for (let address = first; address <= last; address++)
      if (!out.some(([from, to]) => address >= from && address <= to)) found.add(address);
    if (found.size > mostInOneNetwork) throw new RangeMalformed(`the ranges have more than ${mostInOneNetwork} addresses together`);
  }
  return [...[...found].sort((a, b) => a - b).map(formatAddress), ...[...sixes].sort()];
}

/** A test whether an address lies in the ranges and not in the exclusions, without listing them. @throws RangeMalformed */
export function rangeTester(ranges: readonly string[], exclude: readonly string[] = []): (address: string) => boolean {
  const read = (texts: readonly string[]): { sixes: Set<string>; fours: [number, number][] } => ({
    sixes: new Set(texts.flatMap((t) => ipv6(t.trim()) ?? [])),
    fours: texts.filter((t) => ipv6(t.trim()) === null).map((t) => parseRange(t.trim())),
  });
  const [inside, outside] = [read(ranges), read(exclude)];
  return (address) => {
    const six = ipv6(address);
    if (six !== null) return inside.sixes.has(six) && !outside.sixes.has(six);
    let number: number;
    try {
      number = parseAddress(address);
    } catch {
      return false;
    }
    const has = (fours: readonly [number, number][]): boolean => fours.some(([first, last]) => number >= first && number <= last);
    return has(inside.fours) && !has(outside.fours);
  };
}
