import { mismatches, type DeviceHardware, type ImageScope } from '../images/match.js';
import type { Channel, Component, FromRange, ImageNote, Resettable } from '../images/note.js';
import { rangeKeys, type VersionRange } from '../versions/range.js';
import type { VersionScheme } from '../versions/version.js';
import { Ranks } from './ranks.js';
import type { Bytes, Sha256 } from '../units.js';

/** An image as the path solver needs it. */
export interface PathImage extends ImageScope {
  readonly sha256: Sha256;
  readonly file: string;
  readonly version: string;
  readonly bytes: Bytes;
  readonly component: Component;
  readonly channel: Channel;
  readonly withdrawn: ImageNote['withdrawn'];
  readonly from: readonly FromRange[];
  readonly reboots: number;
  readonly goingDown: ImageNote['goingDown'];
  readonly resets: ImageNote['resets'];
  readonly drops: ImageNote['drops'];
  readonly bringsBootLoader: string | null;
  readonly needs: ImageNote['needs'];
}

/** How a family's versions are read. */
export interface FamilySchemes {
  readonly versions: VersionScheme;
  /** The boot loader's own; the same as the firmware's when absent. */
  readonly bootLoaderVersions?: VersionScheme | undefined;
}

/** A range with its bounds as ranks. */
interface RankedRange {
  readonly family: string;
  readonly low: number;
  readonly lowIn: boolean;
  readonly high: number;
  readonly highIn: boolean;
}

/** An image with everything that is compared as a number. */
export interface RankedImage {
  readonly image: PathImage;
  /** Among the firmware versions of its family, or its boot loaders when it is one. */
  readonly rank: number;
  /** Empty: every version of its own family. */
  readonly from: readonly RankedRange[];
  readonly needsLoader: number | null;
  readonly bringsLoader: number | null;
  readonly partners: readonly { readonly family: string; readonly atLeast: string; readonly rank: number; readonly alone: boolean }[];
}

/** An image that cannot be a step of any path, because its versions cannot be read. */
export interface UnusableImage {
  readonly image: PathImage;
  readonly why: string;
}

export interface FamilyRanks {
  readonly versions: Ranks;
  readonly loaders: Ranks;
}

/** The ranks of all versions that images and their notes name, by family. */
export function rankFamilies(families: ReadonlyMap<string, FamilySchemes>, images: readonly PathImage[]): Map<string, FamilyRanks> {
  const texts = new Map<string, { versions: string[]; loaders: string[] }>();
  const of = (family: string) => {
    let found = texts.get(family);
    if (!found) texts.set(family, (found = { versions: [], loaders: [] }));
    return found;
  };
  for (const image of images) {
    const own = of(image.family);
    (image.component === 'system' ? own.versions : own.loaders).push(image.version);
    for (const range of image.from)
      for (const key of rangeKeys) if (range[key] !== undefined) of(range.family ?? image.family).versions.push(range[key]);
    // A bound that is not among the known versions would rank with all others between the same neighbours.
    for (const { from } of image.resets) for (const key of rangeKeys) if (from?.[key] !== undefined) own.versions.push(from[key]);
    if (image.needs.bootLoader !== null) own.loaders.push(image.needs.bootLoader);
    if (image.bringsBootLoader !== null) own.loaders.push(image.bringsBootLoader);
    for (const partner of image.needs.partners) of(partner.family).versions.push(partner.atLeast);
  }
  const ranks = new Map<string, FamilyRanks>();
  for (const [family, { versions, bootLoaderVersions }] of families) {
    const told = texts.get(family);
    ranks.set(family, {
      versions: new Ranks(versions, told?.versions ?? []),
      loaders: new Ranks(bootLoaderVersions ?? versions, told?.loaders ?? []),
    });
  }
  return ranks;
}

/** Turns the versions of an image into ranks. */
export function rankImage(ranks: ReadonlyMap<string, FamilyRanks>, image: PathImage): RankedImage | UnusableImage {
  const own = ranks.get(image.family);
  if (!own) return { image, why: `the family ${image.family} is not known` };
  const unread: string[] = [];
  const rank = (text: string, by: Ranks | undefined): number => {
    const found = by?.of(text) ?? null;
    if (found === null) unread.push(text);
    return found ?? NaN;
  };
  const optional = (text: string | null, by: Ranks): number | null => (text === null ? null : rank(text, by));
  const ranked: RankedImage = {
    image,
    rank: rank(image.version, image.component === 'system' ? own.versions : own.loaders),
    from: image.from.map((range) => {
      const family = range.family ?? image.family;
      return { family, ...rankRange(range, (text) => rank(text, ranks.get(family)?.versions)) };
    }),
    needsLoader: optional(image.needs.bootLoader, own.loaders),
    bringsLoader: optional(image.bringsBootLoader, own.loaders),
    partners: image.needs.partners.map((p) => ({
      family: p.family,
      atLeast: p.atLeast,
      rank: rank(p.atLeast, ranks.get(p.family)?.versions),
      alone: p.whenAlone === 'allowed',
    })),
  };
  return unread.length > 0 ? { image, why: `its note names ${unread.join(', ')}, which the family cannot read` } : ranked;
}

/** The bounds of a range as ranks. */
export function rankRange(range: VersionRange, rank: (text: string) => number): Omit<RankedRange, 'family'> {
  let low = -Infinity;
  let lowIn = true;
  let high = Infinity;
  let highIn = true;
  const raise = (text: string | undefined, included: boolean): void => {
    if (text === undefined) return;
    const at = rank(text);
    if (at > low || (at === low && !included)) [low, lowIn] = [at, included];
  };
  const cap = (text: string | undefined, included: boolean): void => {
    if (text === undefined) return;
    const at = rank(text);
    if (at < high || (at === high && !included)) [high, highIn] = [at, included];
  };
  raise(range.atLeast, true);
  raise(range.above, false);
  raise(range.only, true);
  cap(range.upTo, true);
  cap(range.below, false);
  cap(range.only, true);
  return { low, lowIn, high, highIn };
}

export const within = (range: Omit<RankedRange, 'family'>, rank: number): boolean =>
  (range.lowIn ? rank >= range.low : rank > range.low) && (range.highIn ? rank <= range.high : rank < range.high);

/** Whether a version of a family is accepted as what an image starts from. */
export function accepts(image: RankedImage, family: string, rank: number): boolean {
  if (image.from.length === 0) return image.image.family === family;
  return image.from.some((r) => r.family === family && within(r, rank));
}

/** Whether the hardware would run the image; a cross-over image is for the family that it leads to. */
export const fits = (image: PathImage, hardware: DeviceHardware): boolean =>
  mismatches(image, { ...hardware, family: image.family }).length === 0;

/** What taking an image loses for a device that comes from a version; a bound on it means versions of the image's own family. */
export function resetsFrom(
  image: RankedImage,
  ranks: FamilyRanks | undefined,
  at: { readonly family: string; readonly rank: number },
): Resettable[] {
  return image.image.resets
    .filter(
      ({ from }) =>
        from === undefined ||
        (at.family === image.image.family &&
          ranks !== undefined &&
          within(
            rankRange(from, (t) => ranks.versions.of(t) ?? NaN),
            at.rank,
          )),
    )
    .map((r) => r.what);
}

/** Where a boot loader stands among those of a family; null when it is not known or spelt in another way. */
export function loaderRankOf(ranks: ReadonlyMap<string, FamilyRanks>, family: string, loader: string | null): number | null {
  return loader === null ? null : (ranks.get(family)?.loaders.of(loader) ?? null);
}
