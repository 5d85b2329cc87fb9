import type { Instant, Ms } from '../units.js';

/** What a device showed of how it fares at one moment, by standard MIBs; null: it does not tell. */
export interface Sample {
  readonly at: Instant;
  /** Whether it answered; of who did not, nothing else is known. */
  readonly answered: boolean;
  readonly roundTripMs: Ms | null;
  /** RFC 3418 sysUpTime. */
  readonly upMs: Ms | null;
  /** RFC 2790 hrStorageRam: what of its memory is free, and all of it, in KiB. */
  readonly freeKb: number | null;
  readonly memoryKb: number | null;
  /** RFC 2790 hrProcessorLoad, the busiest of its processors, in percent. */
  readonly load: number | null;
  /** RFC 2863: ifInErrors and ifOutErrors, ifInDiscards and ifOutDiscards, over all ports. */
  readonly errors: number | null;
  readonly discards: number | null;
  /** How many ports came up or went down since the sample before (RFC 2863 ifLastChange); null in a first one. */
  readonly flaps: number | null;
  /** How many neighbours it hears (IEEE 802.1AB), and how many ports it powers (RFC 3621). */
  readonly neighbours: number | null;
  readonly fed: number | null;
}

/** A device with what it showed, the oldest first. `before`: until it was changed; empty for one that nobody touched. */
export interface Watched {
  readonly name: string;
  readonly before: readonly Sample[];
  readonly samples: readonly Sample[];
}

/** Devices of one model, those that were upgraded and some that nobody touched. */
export interface Twins {
  readonly model: string;
  readonly upgraded: readonly Watched[];
  readonly untouched: readonly Watched[];
}
