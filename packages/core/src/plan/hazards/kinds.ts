import type { Ms } from '../../units.js';

/** What could hurt in a rollout: what it is, and whether a person has to accept it before the start. */
export const hazardKinds = {
  lifeline: { what: 'Somebody may depend for their life on what goes dark', accept: true },
  'left-behind': { what: 'Devices outside of this rollout are served no more afterwards', accept: true },
  resets: { what: 'Something that a person has set is reset', accept: true },
  drops: { what: 'Something is no longer spoken or served afterwards', accept: true },
  'armed-otherwise': { what: 'Another version waits on the device for its next restart', accept: true },
  'one-way': { what: 'What fails cannot be taken back, though a way back was asked for', accept: true },
  unproven: { what: 'Nobody has seen these upgraded here yet: what their family file says is not proven', accept: true },
  'cut-off': { what: 'Others are dark while these restart', accept: false },
  'no-redundancy': { what: 'While these restart, others hang on their last feed, or a ring is open', accept: false },
  'uplink-unknown': { what: 'Nobody knows what these hang on, or what hangs on them', accept: false },
  'no-backup': { what: 'Their settings cannot be saved before', accept: false },
  'long-up': { what: 'These have not restarted for more than a year', accept: false },
} as const;
export type HazardCode = keyof typeof hazardKinds;
export const hazardCodes = Object.keys(hazardKinds) as HazardCode[];

/** Planned devices of which the same is to be said. */
export interface HazardGroup {
  /** As it is said after their names. */
  readonly words: string;
  /** How long it lasts; null where it does not pass, or nobody knows. */
  readonly forMs: Ms | null;
  readonly devices: readonly string[];
}
export interface Hazard {
  readonly code: HazardCode;
  readonly groups: readonly HazardGroup[];
}
