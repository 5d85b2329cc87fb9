import type { Service, Shows, Told } from '../../records/told.js';
import type { DeviceId, Instant, Kind, Ms } from '../../units.js';
import type { Plan, PlannedRun } from '../plan.js';

/** What is known of a device, planned or not. */
export interface DeviceFacts {
  readonly name: string;
  readonly tags: readonly string[];
  readonly upSince: Instant | null;
  /** The version that its next restart would bring; null: none waits. */
  readonly armed: string | null;
  /** Whether a link, a feed or a parent of it is known. */
  readonly isPlaced: boolean;
  readonly kind?: Kind;
  readonly site?: string;
  /** What a person told of it, and what it showed. */
  readonly told?: Told | null;
  readonly shows?: Shows | null;
  /** Who gives it what it needs to come back. */
  readonly givenBy?: readonly { readonly from: DeviceId; readonly what: readonly Service[] }[];
}
/** What planning found out of one that is planned. */
export interface RunFacts {
  readonly resets: readonly string[];
  readonly drops: readonly string[];
  /** Why what fails cannot be taken back, by version; none where no way back was asked for. */
  readonly oneWay: readonly string[];
  readonly backsUp: boolean;
  /** Devices outside of the rollout that it serves no more. */
  readonly leavesBehind: readonly string[];
  /** What its family says that a restart loses, and that its backup does not hold. */
  readonly loses?: readonly string[];
  readonly backupLacks?: readonly string[];
  /** Of its images: files with notes that nobody has read, and what nobody compared with what was published. */
  readonly unread?: readonly string[];
  readonly uncompared?: readonly string[];
  /** The most room that one of its images needs, in octets. */
  readonly needsBytes?: number;
  /** What its images need of a licence, in words. */
  readonly licences?: readonly string[];
  /** Devices outside of the rollout that it brings to its own version by itself. */
  readonly takesAlong?: readonly string[];
  /** Where its version and that of what it works with do not go together, in words. */
  readonly mismatches?: readonly string[];
}
export interface HazardFacts {
  readonly plan: Pick<Plan, 'runs' | 'passages'>;
  readonly now: Instant;
  readonly devices: ReadonlyMap<DeviceId, DeviceFacts>;
  /** The single points of failure of each device, itself among them. */
  readonly under: ReadonlyMap<DeviceId, readonly DeviceId[]>;
  readonly runs: ReadonlyMap<DeviceId, RunFacts>;
  /** The device on which Barrow's own machine hangs, where that is known. */
  readonly here?: DeviceId | null;
  /** Who is there, by site. */
  readonly contacts?: ReadonlyMap<string, string>;
  /** Sites of which somebody was asked what lives hang on; undefined: nobody keeps that. */
  readonly asked?: ReadonlySet<string>;
}

/** One kind of hazard: what is to be said of a planned device; null where there is nothing. */
export type HazardLook = (
  run: PlannedRun,
  facts: HazardFacts,
  carried: CarriedBy,
) => { readonly words: string; readonly forMs?: Ms } | null;
/** Who goes dark with a device, itself not among them. */
export type CarriedBy = (device: DeviceId) => readonly DeviceId[];

/** How long a planned device is down, as usual. */
export const downMs = (run: PlannedRun, { plan }: HazardFacts): Ms => {
  const { steps, legs } = plan.passages[run.passage]!;
  return steps.filter((s) => s.down && s.leg < Math.max(1, legs.length)).reduce((sum, s) => sum + s.typicalMs, 0);
};

/** A few names, and how many more. */
export const someNames = (names: readonly string[], most = 4): string =>
  names.length <= most ? names.join(', ') : `${names.slice(0, most - 1).join(', ')} and ${names.length - most + 1} more`;
