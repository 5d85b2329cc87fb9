import { createSocket, type Socket } from 'node:dgram';
import { createServer, type Server, type Socket as TcpSocket } from 'node:net';
// @ts-expect-error -- the package has no types, and the wire's own declarations are not for tests
import { BerReader, BerWriter } from 'asn1-ber';

/** Gear that answers badly, on purpose. Everything is torn down with `close`. */
export class Hostile {
  readonly #datagrams: Socket[] = [];
  readonly #servers: Server[] = [];
  readonly #open = new Set<TcpSocket>();

  /** Answers datagrams with whatever `answer` gives; several answers are sent one after the other. */
  async udp(address: string, port: number, answer: (datagram: Buffer) => (Buffer | string)[]): Promise<void> {
    const socket = createSocket('udp4');
    socket.on('error', () => undefined);
    socket.on('message', (datagram, from) => {
      for (const one of answer(datagram)) socket.send(one, from.port, from.address);
    });
    await new Promise<void>((resolve) => socket.bind(port, address, resolve));
    this.#datagrams.push(socket);
  }

  async tcp(address: string, port: number, speak: (socket: TcpSocket) => void): Promise<void> {
    const server = createServer((socket) => {
      this.#open.add(socket);
      socket.on('error', () => undefined);
      socket.on('close', () => this.#open.delete(socket));
      speak(socket);
    });
    await new Promise<void>((resolve) => server.listen(port, address, resolve));
    this.#servers.push(server);
  }

  async close(): Promise<void> {
    for (const socket of this.#open) socket.destroy();
    await Promise.all([
      ...this.#datagrams.map((s) => new Promise<void>((resolve) => s.close(() => resolve()))),
      ...this.#servers.map((s) => new Promise<void>((resolve) => s.close(() => resolve()))),
    ]);
  }
}

/** Reads the request ID and the objects of a GET, GETNEXT or GETBULK of SNMP v2c; null for anything else. */
export function readRequest(datagram: Buffer): { kind: number; id: number; oids: string[] } | null {
  try {
    const ber = new BerReader(datagram);
    ber.readSequence();
    if (ber.readInt() !== 1) return null;
    ber.readString(4, true);
    const kind = ber.peek()!;
    ber.readSequence(kind);
    const id = ber.readInt();
    ber.readInt();
    ber.readInt();
    ber.readSequence();
    const oids: string[] = [];
    while (ber.remain > 0) {
      ber.readSequence();
      oids.push(ber.readOID());
      ber.readByte();
      ber.readByte();
    }
    return { kind, id, oids };
  } catch {
    return null;
  }
}

/** A Response-PDU with octet strings. */
export function response(id: number, values: readonly (readonly [string, Buffer | number])[]): Buffer {
  const ber = new BerWriter({ size: 70_000 });
  ber.startSequence();
  ber.writeInt(1);
  ber.writeString('ferry-read');
  ber.startSequence(0xa2);
  ber.writeInt(id);
  ber.writeInt(0);
  ber.writeInt(0);
  ber.startSequence();
  for (const [oid, value] of values) {
    ber.startSequence();
    ber.writeOID(oid);
    if (typeof value === 'number') ber.writeInt(value);
    else ber.writeBuffer(value, 4);
    ber.endSequence();
  }
  ber.endSequence();
  ber.endSequence();
  ber.endSequence();
  return ber.buffer;
}
