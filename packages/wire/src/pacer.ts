/** A link that everything sent over it shares, in whatever thread and by whatever protocol it is sent. */
export interface SharedLink {
  readonly name: string;
  readonly octetsPerSecond: number;
  /** How far it is taken up; threads that are sent the link see the same. */
  readonly bucket: SharedArrayBuffer;
}

const nsPerSecond = 1e9;
/** What may go at once after a pause. */
const burstNs = BigInt(0.2 * nsPerSecond);

/** @param before the link as it was, whose rate is changed for those too that send over it now */
export function sharedLink(name: string, octetsPerSecond: number, before: SharedLink | null = null): SharedLink {
  const bucket = before?.bucket ?? new SharedArrayBuffer(16);
  new Float64Array(bucket, 8)[0] = octetsPerSecond;
  return { name, octetsPerSecond, bucket };
}

/**
 * Shares a link among the transfers that use it, by the generic cell rate algorithm (ITU-T I.371): one number says when
 * the octets taken so far will have gone. Who asks before that comes again; those who wait are served in turn, because each
 * takes one window at a time.
 */
export class Pacer {
  /** In nanoseconds of the clock that all threads of a process share. */
  readonly #goneAt: BigInt64Array;
  readonly #rate: Float64Array;

  constructor(link: SharedLink) {
    this.#goneAt = new BigInt64Array(link.bucket, 0, 1);
    this.#rate = new Float64Array(link.bucket, 8, 1);
  }

  /** Takes the octets and answers 0, or answers how many milliseconds to wait before asking again. */
  take(octets: number): number {
    const took = BigInt(Math.ceil((octets * nsPerSecond) / this.#rate[0]!));
    for (;;) {
      const now = process.hrtime.bigint();
      const goneAt = Atomics.load(this.#goneAt, 0);
      if (goneAt > now) return Math.max(1, Math.ceil(Number(goneAt - now) / 1e6));
      const earliest = now - burstNs;
      const next = (goneAt > earliest ? goneAt : earliest) + took;
      if (Atomics.compareExchange(this.#goneAt, 0, goneAt, next) === goneAt) return 0;
    }
  }
}
