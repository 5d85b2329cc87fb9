import type { DeviceHardware } from '../images/match.js';
import type { Gap } from '../paths/gap.js';
import type { PathBook } from '../paths/solve.js';
import type { Path, PathDevice } from '../paths/types.js';
import { compareVersions, sameVersion, VersionUnreadable, type VersionScheme } from '../versions/version.js';
import type { Targeting } from './targets.js';

/** A device against its target. */
export const standings = ['at-target', 'behind', 'ahead', 'blocked', 'unknown', 'no-target'] as const;
export type Standing = (typeof standings)[number];

export interface StandingInput extends PathDevice {
  /** What it should run; null when no target covers it. */
  readonly targeting: Targeting | null;
  /** How families read versions. */
  readonly schemes: ReadonlyMap<string, { readonly versions: VersionScheme }>;
  readonly book: PathBook;
  /** Whether the way down is looked for when it is ahead. */
  readonly down?: boolean;
}

export interface StandingResult {
  readonly standing: Standing;
  /** Why it is so, when that is not plain: what is missing, or what could not be read. */
  readonly reason: string | null;
  /** The way to the target; null unless `behind`, or `ahead` and the way down was asked for. */
  readonly path: Path | null;
  /** What the store lacks; null unless `blocked` by that. */
  readonly gap: Gap | null;
}

const answer = (standing: Standing, reason: string | null = null, path: Path | null = null, gap: Gap | null = null): StandingResult => ({
  standing,
  reason,
  path,
  gap,
});

/** Compares one device with its target and finds the way there. */
export function standingOf(input: StandingInput): StandingResult {
  const { hardware, firmware, targeting, schemes, book } = input;
  if (targeting === null) return answer('no-target');
  if (hardware.family === null) return answer('unknown', 'no family is known for this device');
  const scheme = schemes.get(hardware.family)?.versions;
  if (!scheme) return answer('unknown', `the family ${hardware.family} is not known here`);
  if (firmware === null) return answer('unknown', 'its firmware version has not been read');
  if (targeting.conflict !== null) return answer('blocked', targeting.conflict);
  const { family, version, acceptUnreleased } = targeting;
  let order = -1;
  try {
    if (family === hardware.family) order = compareVersions(scheme, firmware, version);
    else compareVersions(scheme, firmware, firmware);
  } catch (error) {
    if (error instanceof VersionUnreadable) return answer('unknown', error.message);
    throw error;
  }
  if (order === 0) return answer('at-target', withdrawnReason(book, hardware, firmware, scheme));
  if (order > 0 && !input.down)
    return answer('ahead', `runs ${firmware}, newer than its target ${version}; going down is a decision of its own`);
  const target = { family, version, acceptUnreleased };
  const { bootLoader, partner } = input;
  const { path, gap } = book.toTarget({ hardware, firmware, bootLoader, partner }, target, order > 0);
  if (path) return answer(order > 0 ? 'ahead' : 'behind', null, path);
  return answer(
    order > 0 ? 'ahead' : 'blocked',
    // What is nearest is told once.
    gap.near === null || gap.text.includes(`${gap.near.file}: ${gap.near.why}`)
      ? gap.text
      : `${gap.text}; nearest is ${gap.near.file}: ${gap.near.why}`,
    null,
    gap,
  );
}

/** Told of a device that is where it should be, when what it runs was withdrawn. */
function withdrawnReason(book: PathBook, hardware: DeviceHardware, firmware: string, scheme: VersionScheme): string | null {
  const runs = book.images.find(
    (i) =>
      i.withdrawn !== null &&
      i.component === 'system' &&
      i.family === hardware.family &&
      hardware.model !== null &&
      i.models.includes(hardware.model) &&
      sameVersion(scheme, i.version, firmware),
  );
  return runs ? `what it runs is withdrawn: ${runs.withdrawn!.why}` : null;
}
