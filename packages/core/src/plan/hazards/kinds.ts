import type { Ms } from '../../units.js';

/** What could hurt in a rollout: what it is, and whether a person has to accept it before the start. */
export const hazardKinds = {
  lifeline: { what: 'Somebody may depend for their life on what goes dark', accept: true },
  'left-behind': { what: 'Devices outside of this rollout are served no more afterwards', accept: true },
  'taken-along': { what: 'Devices outside of this rollout get another firmware with it', accept: true },
  resets: { what: 'Something that a person has set is reset', accept: true },
  drops: { what: 'Something is no longer spoken or served afterwards', accept: true },
  'armed-otherwise': { what: 'Another version waits on the device for its next restart', accept: true },
  'one-way': { what: 'What fails cannot be taken back, though a way back was asked for', accept: true },
  unproven: { what: 'Nobody has seen these upgraded here yet: what their family file says is not proven', accept: true },
  'decided-elsewhere': { what: 'Somebody else decides on the firmware of these', accept: true },
  licence: { what: 'A licence runs out, or is bound to what is changed', accept: true },
  mismatch: { what: 'Versions stand beside each other that are not meant to, for a while or from then on', accept: true },
  'own-path': { what: "Barrow's own machine is cut off while these restart", accept: true },
  'cut-off': { what: 'Others are dark while these restart', accept: false },
  'no-redundancy': { what: 'While these restart, others hang on their last feed, or a ring is open', accept: false },
  'serves-others': { what: 'Others need what these give to come back', accept: false },
  'logins-behind': { what: 'What checks logins hangs behind these: while they are down, only logins of their own work', accept: false },
  'uplink-unknown': { what: 'Nobody knows what these hang on, or what hangs on them', accept: false },
  'radio-unknown': { what: 'Nobody knows who else reaches where these access points reach', accept: false },
  'never-asked': { what: 'Nobody has asked whether a life hangs on what goes dark', accept: false },
  'notes-unread': { what: 'Nobody has read the notes of an image', accept: false },
  'digest-untold': { what: 'Nobody knows whether an image is as it was published', accept: false },
  'little-room': { what: 'There may be too little room for an image', accept: false },
  'single-supply': { what: 'These have a single power supply', accept: false },
  'clock-wrong': { what: 'The clock is wrong', accept: false },
  'restart-loses': { what: 'A restart loses what is not saved', accept: false },
  'backup-lacks': { what: 'What is saved before does not hold everything', accept: false },
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
