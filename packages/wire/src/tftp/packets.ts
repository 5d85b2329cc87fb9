/** RFC 1350 §5: the operation codes; OACK is RFC 2347. */
export const opcodes = { rrq: 1, wrq: 2, data: 3, ack: 4, error: 5, oack: 6 } as const;

/** RFC 1350 appendix, RFC 2347 for code 8. */
export const errorCodes = {
  undefined: 0,
  fileNotFound: 1,
  accessViolation: 2,
  diskFull: 3,
  illegalOperation: 4,
  unknownTransferId: 5,
  fileExists: 6,
  noSuchUser: 7,
  optionsRefused: 8,
} as const;

/** The first packet of a transfer: a read or a write request. */
export interface TftpRequest {
  readonly kind: 'rrq' | 'wrq';
  readonly filename: string;
  readonly mode: string;
  /** Option names in lower case (RFC 2347: case-insensitive), values as sent; the first of a repeated name counts. */
  readonly options: ReadonlyMap<string, string>;
}

/** A request that RFC 1350 does not know how to read. */
export class MalformedRequest extends Error {}

/** No well-formed request needs more than one classic 512-octet datagram (RFC 2347 §2). */
export const longestRequest = 512;

/**
 * Reads a first datagram.
 * @throws MalformedRequest for anything that is not a read or write request.
 */
export function decodeRequest(datagram: Buffer): TftpRequest {
  if (datagram.length < 4) throw new MalformedRequest('shorter than any request');
  const opcode = datagram.readUInt16BE(0);
  if (opcode !== opcodes.rrq && opcode !== opcodes.wrq) throw new MalformedRequest(`operation ${opcode} does not begin a transfer`);
  if (datagram.length > longestRequest) throw new MalformedRequest(`${datagram.length} octets; ${longestRequest} is the most`);
  if (datagram[datagram.length - 1] !== 0) throw new MalformedRequest('its last field is not ended by a zero octet');
  const fields = datagram.toString('latin1', 2, datagram.length - 1).split('\0');
  const [filename, mode, ...rest] = fields;
  if (!filename || !mode) throw new MalformedRequest('it has no file name or no mode');
  const options = new Map<string, string>();
  for (let i = 0; i + 1 < rest.length; i += 2) {
    const name = rest[i]!.toLowerCase();
    if (name !== '' && !options.has(name)) options.set(name, rest[i + 1]!);
  }
  return { kind: opcode === opcodes.rrq ? 'rrq' : 'wrq', filename, mode: mode.toLowerCase(), options };
}

/** The first datagram of a transfer (RFC 1350 §5, options as RFC 2347 §2). */
export function encodeRequest({ kind, filename, mode, options }: TftpRequest): Buffer {
  const fields = [filename, mode, ...[...options].flat()].map((field) => `${field}\0`).join('');
  return Buffer.concat([Buffer.from([0, opcodes[kind]]), Buffer.from(fields, 'latin1')]);
}

export function encodeError(code: number, message: string): Buffer {
  const text = Buffer.from(message.slice(0, 400), 'latin1');
  const packet = Buffer.alloc(5 + text.length);
  packet.writeUInt16BE(opcodes.error, 0);
  packet.writeUInt16BE(code, 2);
  text.copy(packet, 4);
  return packet;
}

/** @param block as counted, without rolling over */
export function encodeAck(block: number): Buffer {
  return Buffer.from([0, opcodes.ack, (block >> 8) & 0xff, block & 0xff]);
}

/** What an ERROR packet says. */
export function readError(packet: Buffer): { readonly code: number; readonly message: string } {
  const end = packet.indexOf(0, 4);
  return { code: packet.readUInt16BE(2), message: packet.toString('latin1', 4, end < 0 ? packet.length : end) };
}

export function encodeOack(options: ReadonlyMap<string, string>): Buffer {
  const fields = [...options].map(([name, value]) => `${name}\0${value}\0`).join('');
  return Buffer.concat([Buffer.from([0, opcodes.oack]), Buffer.from(fields, 'latin1')]);
}
