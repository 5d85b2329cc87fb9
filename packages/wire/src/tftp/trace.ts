/** One packet of a transfer as it was seen, with only its beginning. */
export interface TracedPacket {
  /** Milliseconds since 1970, with fractions. */
  readonly at: number;
  /** Sent by this side. */
  readonly out: boolean;
  /** Octets of the UDP payload. */
  readonly length: number;
  /** Its first octets: all of a request or an acknowledgement, the header and a little of a data block. */
  readonly head: Uint8Array;
}

/** How many packets are kept from the beginning, and from the end. */
export const firstKept = 20;
export const lastKept = 200;
/** Octets kept of a packet: a request with its options, or the header of a block; never enough to rebuild a file. */
const headOfFirst = 128;
const headOfLast = 48;

/** The first and the last packets of a transfer; its size does not grow with the transfer, and it is small until it must be. */
export class PacketTrace {
  readonly #first: TracedPacket[] = [];
  #heads: Buffer | null = null;
  readonly #times: number[] = [];
  /** Payload octets, negative for what came in. */
  readonly #lengths: number[] = [];
  #later = 0;

  note(out: boolean, packet: Buffer, length: number, at: number): void {
    if (this.#first.length < firstKept) {
      this.#first.push({ at, out, length, head: Uint8Array.prototype.slice.call(packet, 0, Math.min(length, headOfFirst)) });
      return;
    }
    this.#heads ??= Buffer.alloc(lastKept * headOfLast);
    const place = this.#later % lastKept;
    this.#later++;
    this.#times[place] = at;
    this.#lengths[place] = out ? length : -length;
    packet.copy(this.#heads, place * headOfLast, 0, Math.min(length, headOfLast));
  }

  /** In the order in which they passed; `missing` were between the first and the last. */
  packets(): { readonly packets: TracedPacket[]; readonly missing: number } {
    const kept = Math.min(this.#later, lastKept);
    const last = Array.from({ length: kept }, (_, i): TracedPacket => {
      const place = (this.#later - kept + i) % lastKept;
      const length = Math.abs(this.#lengths[place]!);
      const from = place * headOfLast;
      return {
        at: this.#times[place]!,
        out: this.#lengths[place]! > 0,
        length,
        head: Uint8Array.prototype.slice.call(this.#heads, from, from + Math.min(length, headOfLast)),
      };
    });
    return { packets: [...this.#first, ...last], missing: this.#later - kept };
  }
}
