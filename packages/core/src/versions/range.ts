import { z } from 'zod';
import { compareVersions, type VersionScheme } from './version.js';

const text = z.string().min(1).max(80);

/** A stretch of versions of one family; what is absent does not limit. */
export const versionRangeSchema = z
  .strictObject({
    /** This version or a newer one. */
    atLeast: text.optional(),
    /** Newer than this one. */
    above: text.optional(),
    /** Older than this one. */
    below: text.optional(),
    /** This version or an older one. */
    upTo: text.optional(),
    /** Exactly this one. */
    only: text.optional(),
  })
  .refine((r) => Object.values(r).some((v) => v !== undefined), { message: 'a range limits something' });
export type VersionRange = Readonly<z.infer<typeof versionRangeSchema>>;

export const rangeKeys = ['atLeast', 'above', 'below', 'upTo', 'only'] as const;

/**
 * Whether a version lies in a range.
 * @throws VersionUnreadable when the family cannot read one of them.
 */
export function inRange(scheme: VersionScheme, range: VersionRange, version: string): boolean {
  const by = (bound: string | undefined, holds: (order: number) => boolean): boolean =>
    bound === undefined || holds(compareVersions(scheme, version, bound));
  return (
    by(range.atLeast, (o) => o >= 0) &&
    by(range.above, (o) => o > 0) &&
    by(range.below, (o) => o < 0) &&
    by(range.upTo, (o) => o <= 0) &&
    by(range.only, (o) => o === 0)
  );
}

/** A range in words: `5.0.0 or newer, older than 6.0.0`. */
export function describeRange(range: VersionRange): string {
  const parts = [
    range.only === undefined ? null : `exactly ${range.only}`,
    range.atLeast === undefined ? null : `${range.atLeast} or newer`,
    range.above === undefined ? null : `newer than ${range.above}`,
    range.below === undefined ? null : `older than ${range.below}`,
    range.upTo === undefined ? null : `${range.upTo} or older`,
  ];
  return parts.filter((p) => p !== null).join(', ');
}
