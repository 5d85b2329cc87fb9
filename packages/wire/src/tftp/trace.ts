import { opcodes } from './packets.js';

/** One packet of a transfer as it was seen, with only its beginning. */
export interface TracedPacket {
  /** Milliseconds since 1970, with fractions. */
  readonly at: number;
  /** Sent by this side. */
  readonly out: boolean;
  /** Octets of the UDP payload. */
  readonly length: number;
  /** Its first octets: all of a request, of an acknowledgement, of an error; the header of a block. */
  readonly head: Uint8Array;
}

/** How many packets are kept from the beginning, and from the end. */
export const firstKept = 20;
export const lastKept = 200;
/** Octets kept of a packet at most: a request with its options, or the beginning of a block; never enough to rebuild a file. */
const headOfFirst = 128;

/** The first and the last packets of a transfer; its size does not grow with the transfer, and it is small until it must be. */
export class PacketTrace {
  readonly #first: TracedPacket[] = [];
  /** Of the last ones only numbers are kept, because a copy of each would cost as much as sending it. */
  #times: Float64Array | null = null;
  /** Payload octets, negative for what came in. */
  #lengths: Int32Array | null = null;
  /** The first four octets, which say all of a block or an acknowledgement. */
  #starts: Uint32Array | null = null;
  /** More of those that are neither, by their place. */
  readonly #rare = new Map<number, Uint8Array>();
  #later = 0;

  note(out: boolean, packet: Buffer, length: number, at: number): void {
    if (this.#first.length < firstKept) {
      this.#first.push({ at, out, length, head: Uint8Array.prototype.slice.call(packet, 0, Math.min(length, headOfFirst)) });
      return;
    }
    if (this.#times === null) {
      this.#times = new Float64Array(lastKept);
      this.#lengths = new Int32Array(lastKept);
      this.#starts = new Uint32Array(lastKept);
    }
    const place = this.#later++ % lastKept;
    this.#times[place] = at;
    this.#lengths![place] = out ? length : -length;
    this.#starts![place] = length >= 4 ? packet.readUInt32BE(0) : 0;
    const opcode = packet[1];
    if (this.#rare.size > 0) this.#rare.delete(place);
    if (opcode !== opcodes.data && opcode !== opcodes.ack)
      this.#rare.set(place, Uint8Array.prototype.slice.call(packet, 0, Math.min(length, headOfFirst)));
  }

  /** As `packets`, by the clock of the day. @param port of ours, from which the transfer goes */
  told(port: number | null): { readonly packets: TracedPacket[]; readonly missing: number; readonly port: number | null } {
    const { packets, missing } = this.packets();
    return { packets: packets.map((p) => ({ ...p, at: performance.timeOrigin + p.at })), missing, port };
  }

  /** In the order in which they passed; `missing` were between the first and the last. */
  packets(): { readonly packets: TracedPacket[]; readonly missing: number } {
    const kept = Math.min(this.#later, lastKept);
    const last = Array.from({ length: kept }, (_, i): TracedPacket => {
      const place = (this.#later - kept + i) % lastKept;
      const length = Math.abs(this.#lengths![place]!);
      const start = this.#starts![place]!;
      const head = this.#rare.get(place) ?? Uint8Array.of(start >>> 24, (start >>> 16) & 255, (start >>> 8) & 255, start & 255);
      return { at: this.#times![place]!, out: this.#lengths![place]! > 0, length, head: head.subarray(0, length) };
    });
    return { packets: [...this.#first, ...last], missing: this.#later - kept };
  }
}
