/** A range text that cannot be read, with what was expected. */
export class RangeMalformed extends Error {
  readonly code = 'range-malformed';
}

/** More addresses than this are never looked at without being asked. */
export const mostAddresses = 65_536;

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
 * Lists the addresses of ranges such as `127.40.1.0/24`, `127.40.1.1-127.40.1.40`, `127.40.1.1-40`, `127.40.1.7`.
 * @throws RangeMalformed for a malformed range, or for more than `mostAddresses`.
 */
export function addressesOf(ranges: readonly string[], exclude: readonly string[] = []): string[] {
  const out = exclude.map((text) => parseRange(text.trim()));
  const found = new Set<number>();
  for (const text of ranges) {
    const [first, last] = parseRange(text.trim());
    if (last - first + 1 > mostAddresses)
      throw new RangeMalformed(`"${text}" has ${last - first + 1} addresses; ${mostAddresses} is the most`);
    for (let address = first; address <= last; address++)
      if (!out.some(([from, to]) => address >= from && address <= to)) found.add(address);
    if (found.size > mostAddresses) throw new RangeMalformed(`the ranges have more than ${mostAddresses} addresses together`);
  }
  return [...found].sort((a, b) => a - b).map(formatAddress);
}
