import { createSocket } from 'node:dgram';
import { BerReader, BerWriter } from 'asn1-ber';
import { readable } from './client.js';

export interface SweepInput {
  readonly addresses: readonly string[];
  readonly port: number;
  readonly community: string;
  /** The objects asked of each address, in one GET. */
  readonly oids: readonly string[];
  readonly packetsPerSecond: number;
  /** How often an address that has not answered is asked. */
  readonly tries: number;
  /** How long to wait for answers after the last packet of a round. */
  readonly waitMs: number;
  readonly signal?: AbortSignal;
  readonly onAnswer: (answer: SweepAnswer) => void;
  readonly onProgress?: (asked: number, of: number) => void;
}

export interface SweepAnswer {
  readonly address: string;
  /** By object; objects that the device does not have are absent. */
  readonly values: ReadonlyMap<string, string | number>;
}

export interface SweepResult {
  readonly sent: number;
  readonly answered: number;
  /** Datagrams that came from an address that was not asked, or that could not be read. */
  readonly strange: number;
  readonly stopped: boolean;
}

const getRequest = 0xa0;
const response = 0xa2;

/** RFC 3416 §4.2.1 in the message of RFC 1901: version 1 (v2c), community, GetRequest-PDU. */
export function encodeGet(community: string, requestId: number, oids: readonly string[]): Buffer {
  const ber = new BerWriter();
  ber.startSequence();
  ber.writeInt(1);
  ber.writeString(community);
  ber.startSequence(getRequest);
  ber.writeInt(requestId);
  ber.writeInt(0);
  ber.writeInt(0);
  ber.startSequence();
  for (const oid of oids) {
    ber.startSequence();
    ber.writeOID(oid);
    ber.writeNull();
    ber.endSequence();
  }
  ber.endSequence();
  ber.endSequence();
  ber.endSequence();
  return ber.buffer;
}

/** Reads a Response-PDU; null for anything that is not one, whatever is wrong with it. */
export function decodeResponse(datagram: Buffer): { requestId: number; values: Map<string, string | number> } | null {
  try {
    const ber = new BerReader(datagram);
    if (ber.readSequence() === null || ber.readInt() !== 1) return null;
    ber.readString(4, true);
    if (ber.readSequence(response) === null) return null;
    const requestId = ber.readInt();
    if (ber.readInt() !== 0) return { requestId, values: new Map() };
    ber.readInt();
    if (ber.readSequence() === null) return null;
    const values = new Map<string, string | number>();
    const end = ber.offset + ber.length;
    // Each round must move on, and there are never more than we would ask for: lengths in a datagram may lie.
    for (let rounds = 0, at = -1; ber.offset < end && rounds < 64; rounds++) {
      if (ber.offset <= at) return null;
      at = ber.offset;
      if (ber.readSequence() === null) return null;
      const oid = ber.readOID();
      const tag = ber.peek();
      if (tag === null) return null;
      if (tag === 0x04) values.set(oid, readable(ber.readString(0x04, true)));
      else if (tag === 0x06) values.set(oid, ber.readOID());
      else if (tag === 0x02 || tag === 0x41 || tag === 0x42 || tag === 0x43) values.set(oid, ber.readInt(tag) >>> 0);
      else ber.readString(tag, true);
    }
    return { requestId, values };
  } catch {
    return null;
  }
}

/** Asks every address for a few objects over one paced socket, again for those that stayed silent. */
export async function sweep(input: SweepInput): Promise<SweepResult> {
  const socket = createSocket({ type: 'udp4', recvBufferSize: 4 << 20 });
  const { addresses } = input;
  const indexOf = new Map(addresses.map((a, i) => [a, i]));
  const answered = new Uint8Array(addresses.length);
  let count = 0;
  let sent = 0;
  let strange = 0;
  // The request ID carries the round and the address, so that an answer must fit its source.
  const base = (Math.floor(performance.now() * 1000) & 0x7f) << 24;
  socket.on('error', () => undefined);
  socket.on('message', (datagram, from) => {
    const index = indexOf.get(from.address);
    const answer = index === undefined || from.port !== input.port ? null : decodeResponse(datagram);
    if (index === undefined || answer === null || answer.requestId !== base + index) {
      strange++;
      return;
    }
    if (answered[index]) return;
    answered[index] = 1;
    count++;
    input.onAnswer({ address: from.address, values: answer.values });
  });
  await new Promise<void>((resolve) => socket.bind(0, resolve));
  const stopped = (): boolean => input.signal?.aborted ?? false;

  const pause = (ms: number): Promise<void> =>
    new Promise((resolve) => {
      const done = (): void => {
        clearTimeout(timer);
        input.signal?.removeEventListener('abort', done);
        resolve();
      };
      const timer = setTimeout(done, ms);
      input.signal?.addEventListener('abort', done);
    });

  const tick = 5;
  for (let round = 0; round < input.tries && !stopped() && count < addresses.length; round++) {
    let next = 0;
    const began = performance.now();
    let inRound = 0;
    while (next < addresses.length && !stopped()) {
      // By elapsed time, not by tick: a late timer sends what is due, and the rate holds.
      let due = Math.floor(((performance.now() - began + tick) / 1000) * input.packetsPerSecond) - inRound;
      while (due > 0 && next < addresses.length) {
        const index = next++;
        if (answered[index]) continue;
        socket.send(encodeGet(input.community, base + index, input.oids), input.port, addresses[index]!);
        sent++;
        inRound++;
        due--;
      }
      input.onProgress?.(round * addresses.length + next, input.tries * addresses.length);
      await pause(tick);
    }
    if (count < addresses.length && !stopped()) await pause(input.waitMs);
  }
  socket.close();
  return { sent, answered: count, strange, stopped: stopped() };
}
