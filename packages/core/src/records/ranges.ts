import { address6 } from './around.js';

/** A range text that cannot be read, with what was expected. */
export class RangeMalformed extends Error {
  readonly code = 'range-malformed';
}

/** More addresses than this are never looked at without being asked. */
export const mostAddresses = 65_536;
/** More than this are no networks but a mistake. */
export const mostInOneNetwork = 1 << 20;

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

/** Ranges without what is left out, merged and in order; nothing is listed. */
interface Spans {
  readonly fours: readonly (readonly [first: number, last: number])[];
  readonly sixes: readonly string[];
}

/** Merges intervals that touch or overlap. */
function merged(spans: [number, number][]): [number, number][] {
  const found: [number, number][] = [];
  for (const [first, last] of spans.sort((a, b) => a[0] - b[0])) {
    const before = found.at(-1);
    if (before && first <= before[1] + 1) before[1] = Math.max(before[1], last);
    else found.push([first, last]);
  }
  return found;
}

function readSpans(ranges: readonly string[], exclude: readonly string[]): Spans {
  const read = (texts: readonly string[]): { sixes: Set<string>; fours: [number, number][] } => {
    const sixes = new Set<string>();
    const fours: [number, number][] = [];
    for (const text of texts.map((t) => t.trim())) {
      const six = ipv6(text);
      if (six !== null) sixes.add(six);
      else if (text.includes(':'))
        throw new RangeMalformed(`"${text}" is not a single IPv6 address; prefixes of IPv6 are too large to be asked`);
      else fours.push(parseRange(text));
    }
    return { sixes, fours: merged(fours) };
  };
  const [inside, outside] = [read(ranges), read(exclude)];
  const fours: [number, number][] = [];
  let out = 0;
  for (const [first, last] of inside.fours) {
    let from = first;
    while (out < outside.fours.length && outside.fours[out]![1] < from) out++;
    for (let o = out; o < outside.fours.length && outside.fours[o]![0] <= last; o++) {
      const [gone, back] = outside.fours[o]!;
      if (gone > from) fours.push([from, gone - 1]);
      from = Math.max(from, back + 1);
    }
    if (from <= last) fours.push([from, last]);
  }
  return { fours, sixes: [...inside.sixes].filter((six) => !outside.sixes.has(six)).sort() };
}

const sizeOf = ({ fours, sixes }: Spans): number => fours.reduce((sum, [first, last]) => sum + last - first + 1, sixes.length);

/** How many addresses ranges have, by arithmetic: a list of large ones costs no more than one of small ones. @throws RangeMalformed */
export const countAddresses = (ranges: readonly string[], exclude: readonly string[] = []): number => sizeOf(readSpans(ranges, exclude));

/**
 * Lists the addresses of ranges such as `127.40.1.0/24`, `127.40.1.1-127.40.1.40`, `127.40.1.1-40`, `127.40.1.7`, `::1`.
 * @throws RangeMalformed for a malformed range, or for more than a million addresses.
 */
export function addressesOf(ranges: readonly string[], exclude: readonly string[] = []): string[] {
  const spans = readSpans(ranges, exclude);
  const size = sizeOf(spans);
  if (size > mostInOneNetwork)
    throw new RangeMalformed(
      ranges.length === 1
        ? `"${ranges[0]}" has ${size} addresses; ${mostInOneNetwork} is the most`
        : `the ranges have ${size} addresses together; ${mostInOneNetwork} is the most`,
    );
  const found: string[] = [];
  for (const [first, last] of spans.fours) for (let address = first; address <= last; address++) found.push(formatAddress(address));
  return [...found, ...spans.sixes];
}

/** A test whether an address lies in the ranges and not in the exclusions, without listing them. @throws RangeMalformed */
export function rangeTester(ranges: readonly string[], exclude: readonly string[] = []): (address: string) => boolean {
  const { fours, sixes } = readSpans(ranges, exclude);
  const known = new Set(sixes);
  return (address) => {
    const six = ipv6(address);
    if (six !== null) return known.has(six);
    let number: number;
    try {
      number = parseAddress(address);
    } catch {
      return false;
    }
    let [low, high] = [0, fours.length - 1];
    while (low <= high) {
      const middle = (low + high) >> 1;
      const [first, last] = fours[middle]!;
      if (number < first) high = middle - 1;
      else if (number > last) low = middle + 1;
      else return true;
    }
    return false;
  };
}

/** Addresses at which no device of a network is: this host and network (RFC 1122 §3.2.1.3), link-local with the places where clouds tell secrets (RFC 3927), multicast and reserved (RFC 1112). */
export const neverDevices = ['0.0.0.0-0.255.255.255', '169.254.0.0-169.254.255.255', '224.0.0.0-255.255.255.255'] as const;

/** The first range that lies wholly where no device is; null when there is none. @throws RangeMalformed */
export function rangeOfNoDevices(ranges: readonly string[]): string | null {
  return ranges.find((range) => countAddresses([range], neverDevices) === 0) ?? null;
}
