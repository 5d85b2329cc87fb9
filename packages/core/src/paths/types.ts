import type { DeviceHardware } from '../images/match.js';
import type { Resettable } from '../images/note.js';
import type { PathImage } from './path-image.js';

/** A device as the path solver sees it: two devices that agree in all of this have the same path. */
export interface PathDevice {
  readonly hardware: DeviceHardware;
  readonly firmware: string | null;
  readonly bootLoader: string | null;
  /** The device through which it is managed. */
  readonly partner: PathPartner | null;
}

/** A controller, recorder, base station or chassis, which may have to go first. */
export interface PathPartner extends PathDevice {
  readonly id: string;
  readonly name: string;
  /** The version that it should run by its own target; null without one. */
  readonly target: PathTarget | null;
  /** Why it must stay where it is; null when it may move. */
  readonly pinned: string | null;
}

export interface PathTarget {
  readonly family: string;
  readonly version: string;
  /** Whether a candidate or beta of this version is meant. */
  readonly acceptUnreleased: boolean;
}

/** Where a path may end: at one version, or at the nearest of several. */
export interface PathGoal {
  readonly family: string;
  /** Nothing newer than this is a step on the way, unless going down is allowed; null: no such bound. */
  readonly version: string | null;
  /** Whether an image of the family ends the path. */
  readonly ends: (image: PathImage) => boolean;
  readonly acceptUnreleased: boolean;
  /** Whether steps to older versions may be taken, where an image allows it. */
  readonly down: boolean;
}

/** One image on the way, on the device itself or on its partner. */
export interface PathStep {
  readonly image: PathImage;
  /** The partner that takes it; null: the device itself. */
  readonly on: { readonly id: string; readonly name: string } | null;
  /** What ran there before this step. */
  readonly from: string;
  readonly resets: readonly Resettable[];
  /** What has to be known before it is taken: what it drops, what a person has to look at. */
  readonly notices: readonly string[];
}

export interface Path {
  readonly steps: readonly PathStep[];
  readonly reboots: number;
  readonly bytes: number;
}
/** Where a search has come to. */
export interface Reached {
  readonly family: string;
  readonly rank: number;
  readonly version: string;
  /** As the device or the image that brought it spells it. */
  readonly loader: string | null;
  /** Up to which of the partner's possible versions it has been lifted; 0: not at all. */
  readonly level: number;
}
/** What the partner would have to do for one requirement. */
export interface Lift {
  readonly family: string;
  readonly rank: number;
  readonly atLeast: string;
  readonly reboots: number;
  readonly bytes: number;
  readonly path: Path | null;
  /** Why it cannot be met; null when it can. */
  readonly refused: string | null;
}
