import { describeMismatches, mismatches, type DeviceHardware, type ImageScope } from '../images/match.js';
import { compareVersions, VersionUnreadable, type VersionScheme } from '../versions/version.js';
import type { Bytes, Sha256 } from '../units.js';

/** A device against its target. */
export const standings = ['at-target', 'behind', 'ahead', 'blocked', 'unknown', 'no-target'] as const;
export type Standing = (typeof standings)[number];

export interface KnownImage extends ImageScope {
  readonly sha256: Sha256;
  readonly file: string;
  readonly version: string;
  readonly bytes: Bytes;
}

export interface StandingInput {
  readonly hardware: DeviceHardware;
  /** As the device spelt it; null when it was never read. */
  readonly firmware: string | null;
  /** The version the device should run; null when no target covers it. */
  readonly target: string | null;
  /** How the device's family reads versions; null without a family. */
  readonly scheme: VersionScheme | null;
  /** The images of the device's family. */
  readonly images: readonly KnownImage[];
}

export interface StandingResult {
  readonly standing: Standing;
  /** Why it is so, when that is not plain: what is missing, or what could not be read. */
  readonly reason: string | null;
  /** The images to pass, in order; empty unless `behind`. */
  readonly path: readonly KnownImage[];
}

/** Compares one device with its target and finds the image that would take it there. */
export function standingOf(input: StandingInput): StandingResult {
  const { hardware, firmware, target, scheme, images } = input;
  const answer = (standing: Standing, reason: string | null = null, path: readonly KnownImage[] = []): StandingResult => ({
    standing,
    reason,
    path,
  });
  if (target === null) return answer('no-target');
  if (hardware.family === null || scheme === null) return answer('unknown', 'no family is known for this device');
  if (firmware === null) return answer('unknown', 'its firmware version has not been read');
  let order: number;
  try {
    order = compareVersions(scheme, firmware, target);
  } catch (error) {
    if (error instanceof VersionUnreadable) return answer('unknown', error.message);
    throw error;
  }
  if (order === 0) return answer('at-target');
  if (order > 0) return answer('ahead', `runs ${firmware}, newer than its target ${target}`);
  const ofVersion = images.filter((i) => i.family === hardware.family && compareVersions(scheme, i.version, target) === 0);
  const fitting = ofVersion.filter((i) => mismatches(i, hardware).length === 0);
  if (fitting.length > 0) return answer('behind', null, [fitting.reduce((a, b) => (b.bytes < a.bytes ? b : a))]);
  const near = ofVersion[0];
  return answer(
    'blocked',
    near
      ? `no image of ${target} is for this hardware (${near.file}: ${describeMismatches(mismatches(near, hardware))})`
      : `the store has no image of ${target} for this family`,
  );
}
