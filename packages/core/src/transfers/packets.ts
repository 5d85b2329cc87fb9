/** One packet of a transfer, as it is kept: its time, its direction, its size, and how it begins. */
export interface KeptPacket {
  /** Milliseconds since 1970, with fractions. */
  readonly at: number;
  readonly out: boolean;
  /** Octets of the UDP payload. */
  readonly length: number;
  /** Its first octets, in hexadecimal. */
  readonly head: string;
}

const octetsOf = (hex: string): number[] => (hex.match(/../g) ?? []).map((pair) => parseInt(pair, 16));
const text = (octets: readonly number[]): string => octets.map((o) => (o >= 32 && o < 127 ? String.fromCharCode(o) : '·')).join('');

/** What a TFTP packet says (RFC 1350 §5, RFC 2347 §3), in one line. */
export function describePacket(packet: KeptPacket): string {
  const octets = octetsOf(packet.head);
  if (octets.length < 4) return `${packet.length} octets that are no TFTP packet`;
  const number = octets[2]! * 256 + octets[3]!;
  const fields = (): string[] => {
    const parts: number[][] = [[]];
    for (const octet of octets.slice(2)) {
      if (octet === 0) parts.push([]);
      else parts[parts.length - 1]!.push(octet);
    }
    return parts.map(text).filter((part, i) => part !== '' || i < 2);
  };
  const pairs = (list: readonly string[]): string => {
    const out = [];
    for (let i = 0; i + 1 < list.length; i += 2) out.push(`${list[i]} ${list[i + 1]}`);
    return out.join(', ');
  };
  switch (octets[1]) {
    case 1:
    case 2: {
      const [file, mode, ...options] = fields();
      const asked = pairs(options);
      return `${octets[1] === 1 ? 'asks to read' : 'asks to write'} "${file}" in ${mode}${asked ? `, with ${asked}` : ''}`;
    }
    case 3:
      return `block ${number}, ${packet.length - 4} octets`;
    case 4:
      return `acknowledges block ${number}`;
    case 5:
      return `error ${number}: ${text(octets.slice(4)).replace(/·.*$/, '')}`;
    case 6:
      return `agrees to ${pairs(fields())}`;
    default:
      return `operation ${octets[1]}, which TFTP does not have`;
  }
}

interface Ends {
  /** RFC 1350 §4: requests come in at the store's port, all else goes from a port of the transfer's own. */
  readonly us: { readonly address: string; readonly port: number; readonly transferPort: number };
  readonly peer: { readonly address: string; readonly port: number };
}

/**
 * The packets as a pcapng file (draft-ietf-opsawg-pcapng: section header, interface description and enhanced packet
 * blocks; link type 101, raw IP), for a viewer of one's own. IP and UDP headers are made anew from the two ends, without
 * checksums; each packet is cut after what was kept of it, and says its whole length.
 */
export function writePcapng(packets: readonly KeptPacket[], ends: Ends): Uint8Array {
  const blocks: Uint8Array[] = [
    block(0x0a0d0d0a, [u32(0x1a2b3c4d), u16(1), u16(0), u32(0xffffffff), u32(0xffffffff)]),
    block(1, [u16(101), u16(0), u32(0)]),
  ];
  for (const packet of packets) {
    const head = Uint8Array.from(octetsOf(packet.head));
    const isRequest = head[1] === 1 || head[1] === 2;
    const us = { address: ends.us.address, port: isRequest ? ends.us.port : ends.us.transferPort };
    const [from, to] = packet.out ? [us, ends.peer] : [ends.peer, us];
    const headers = ipUdp(from, to, packet.length);
    const captured = headers.length + head.length;
    const micros = BigInt(Math.round(packet.at * 1000));
    blocks.push(
      block(6, [
        u32(0),
        u32(Number(micros >> 32n)),
        u32(Number(micros & 0xffffffffn)),
        u32(captured),
        u32(headers.length + packet.length),
        headers,
        head,
        new Uint8Array((4 - (captured % 4)) % 4),
      ]),
    );
  }
  return join(blocks);
}

function block(type: number, parts: readonly Uint8Array[]): Uint8Array {
  const body = join(parts);
  const length = u32(body.length + 12);
  return join([u32(type), length, body, length]);
}

/** RFC 791 and RFC 768, or RFC 8200: the headers that a payload of this length had. */
function ipUdp(from: Ends['peer'], to: Ends['peer'], payload: number): Uint8Array {
  const udp = join([b16(from.port), b16(to.port), b16(Math.min(0xffff, payload + 8)), b16(0)]);
  if (from.address.includes(':'))
    return join([
      Uint8Array.of(0x60, 0, 0, 0),
      b16(Math.min(0xffff, payload + 8)),
      Uint8Array.of(17, 64),
      ipv6(from.address),
      ipv6(to.address),
      udp,
    ]);
  const v4 = (address: string): Uint8Array => Uint8Array.from(address.split('.').map(Number));
  return join([
    Uint8Array.of(0x45, 0),
    b16(Math.min(0xffff, payload + 28)),
    Uint8Array.of(0, 0, 0, 0, 64, 17, 0, 0),
    v4(from.address),
    v4(to.address),
    udp,
  ]);
}

function ipv6(address: string): Uint8Array {
  const [left = '', right] = address.split('%')[0]!.split('::');
  const groups = (part: string): number[] => (part === '' ? [] : part.split(':').map((g) => parseInt(g, 16)));
  const [a, b] = [groups(left), groups(right ?? '')];
  const all = right === undefined ? a : [...a, ...new Array<number>(Math.max(0, 8 - a.length - b.length)).fill(0), ...b];
  return join(all.map(b16));
}

const u16 = (n: number): Uint8Array => Uint8Array.of(n & 255, (n >>> 8) & 255);
const u32 = (n: number): Uint8Array => Uint8Array.of(n & 255, (n >>> 8) & 255, (n >>> 16) & 255, (n >>> 24) & 255);
const b16 = (n: number): Uint8Array => Uint8Array.of((n >>> 8) & 255, n & 255);
function join(parts: readonly Uint8Array[]): Uint8Array {
  const out = new Uint8Array(parts.reduce((sum, p) => sum + p.length, 0));
  let at = 0;
  for (const part of parts) {
    out.set(part, at);
    at += part.length;
  }
  return out;
}
