import { chosenFreely, levelFor } from './admit.js';
import { describeMismatches, mismatches } from '../images/match.js';
import { describeRange } from '../versions/range.js';
import type { Lift, PathDevice, PathGoal, Reached } from './types.js';
import { accepts, fits, loaderRankOf, type FamilyRanks, type PathImage, type RankedImage, type UnusableImage } from './path-image.js';

/** What kind of link is missing. */
export type GapKind =
  'no-image' | 'hardware' | 'channel' | 'withdrawn' | 'version' | 'boot-loader' | 'partner' | 'going-down' | 'unreadable';

/** Why there is no path, and what would make one. */
export interface Gap {
  readonly kind: GapKind;
  /** What is missing, as one clause. */
  readonly text: string;
  /** What an image would have to be to close it; null when no image would. */
  readonly wanted: string | null;
  /** The image in the store that comes nearest to it, and why it is not taken. */
  readonly near: { readonly sha256: string; readonly file: string; readonly why: string } | null;
}

/** A search that came to no end. */
export interface Search {
  readonly device: PathDevice;
  readonly goal: PathGoal;
  readonly goalRank: number;
  /** The images that fit the hardware. */
  readonly images: readonly RankedImage[];
  readonly all: readonly RankedImage[];
  readonly reached: readonly Reached[];
  readonly lifts: readonly Lift[];
  readonly ranks: ReadonlyMap<string, FamilyRanks>;
  readonly ends: (image: RankedImage) => boolean;
  readonly unusable: readonly UnusableImage[];
}

const near = (image: PathImage, why: string): Gap['near'] => ({ sha256: image.sha256, file: image.file, why });
const hardwareWords = ({ hardware }: PathDevice): string =>
  [
    hardware.model ?? 'this model',
    hardware.hardwareRevision && hardware.hardwareRevision !== '-' ? `hardware ${hardware.hardwareRevision}` : null,
    hardware.variant || null,
  ]
    .filter(Boolean)
    .join(', ');

const admitted = (search: Search, i: RankedImage): boolean =>
  i.image.withdrawn === null && (chosenFreely(i.image) || (search.ends(i) && search.goal.acceptUnreleased));

/** Names the missing link: at the goal itself, or the furthest that the device can come and what would carry it on. */
export function explainGap(search: Search): Gap {
  return goalIsMissing(search) ?? missingLink(search);
}

/** Nothing in the store could be the last step. */
function goalIsMissing(search: Search): Gap | null {
  const { goal, device } = search;
  const what = goal.version ?? 'a version that would do';
  const wanted = `an image of ${what} for ${hardwareWords(device)}`;
  const last = search.all.filter(search.ends);
  const fitting = last.filter((i) => fits(i.image, device.hardware));
  if (fitting.some((i) => admitted(search, i))) return null;
  const withdrawn = fitting.find((i) => i.image.withdrawn !== null);
  if (withdrawn) {
    const why = `it is withdrawn: ${withdrawn.image.withdrawn!.why}`;
    return {
      kind: 'withdrawn',
      text: `${what} (${withdrawn.image.file}) is withdrawn: ${withdrawn.image.withdrawn!.why}`,
      wanted,
      near: near(withdrawn.image, why),
    };
  }
  const early = fitting[0];
  if (early) {
    const why = `it is a ${early.image.channel}, and the target does not say that one is meant`;
    return {
      kind: 'channel',
      text: `${what} (${early.image.file}) is only a ${early.image.channel}`,
      wanted,
      near: near(early.image, why),
    };
  }
  const other = last[0];
  if (other) {
    const why = describeMismatches(mismatches(other.image, { ...device.hardware, family: other.image.family }));
    return {
      kind: 'hardware',
      text: `no image of ${what} is for this hardware (${other.image.file}: ${why})`,
      wanted,
      near: near(other.image, why),
    };
  }
  const unread = search.unusable.find((u) => u.image.family === goal.family && u.image.version === goal.version);
  if (unread)
    return { kind: 'unreadable', text: `${unread.image.file} cannot be used: ${unread.why}`, wanted, near: near(unread.image, unread.why) };
  return { kind: 'no-image', text: `the store has no image of ${what} for this family`, wanted, near: null };
}

/** Images from which the goal could be reached, if only the device came to where they start. */
function leadingToGoal(search: Search): RankedImage[] {
  const usable = search.images.filter((i) => i.image.component === 'system' && admitted(search, i));
  const found = usable.filter(search.ends);
  const seen = new Set(found);
  for (let at = 0; at < found.length; at++)
    for (const i of usable)
      if (!seen.has(i) && accepts(found[at]!, i.image.family, i.rank)) {
        seen.add(i);
        found.push(i);
      }
  return found;
}

/** An older version whose image does not allow to be put over a newer one: no other image would mend that. */
function wayDownForbidden({ goal, images, ends }: Search): Gap | null {
  if (!goal.down) return null;
  const there = images.filter((i) => i.image.component === 'system' && ends(i));
  const [refusing] = there;
  if (!refusing || there.some((i) => i.image.goingDown === 'allowed')) return null;
  return {
    kind: 'going-down',
    text: `${refusing.image.file} may not be put over a newer version, as its note says`,
    wanted: null,
    near: null,
  };
}

function missingLink(search: Search): Gap {
  const { device, goal, reached, lifts } = search;
  const forbidden = wayDownForbidden(search);
  if (forbidden) return forbidden;
  const leading = leadingToGoal(search);
  const inGoal = reached.filter((r) => r.family === goal.family);
  const furthest = (inGoal.length > 0 ? inGoal : reached).reduce((a, b) => (b.rank > a.rank ? b : a));
  // First what is short of the device's own version: there the versions fit, and something else is too old.
  for (const image of leading)
    for (const at of reached) {
      if (!accepts(image, at.family, at.rank) || (image.image.family === at.family && image.rank <= at.rank && !goal.down)) continue;
      if (levelFor(image, at.level, lifts) === null) {
        const blocked = image.partners
          .map((p) => {
            const lift = lifts.find((l) => l.family === p.family && l.rank === p.rank);
            if (!lift) return p.alone ? null : `no ${p.family} is known to manage it, and ${p.atLeast} is needed there`;
            return lift.refused;
          })
          .find((b) => b !== null);
        return {
          kind: 'partner',
          text: `${image.image.file}: ${blocked ?? 'its partner is too old'}`,
          wanted: null,
          near: near(image.image, blocked ?? ''),
        };
      }
      const loaderRank = loaderRankOf(search.ranks, image.image.family, at.loader);
      if (image.needsLoader !== null && !(loaderRank !== null && loaderRank >= image.needsLoader)) {
        const needs = image.image.needs.bootLoader!;
        const has = at.loader === null ? 'the boot loader is not known' : `the boot loader is ${at.loader}`;
        const loader = search.all.find(
          (i) => i.image.component === 'boot-loader' && i.image.family === image.image.family && i.rank >= image.needsLoader!,
        );
        const why = loader ? whyNot(search, loader) : null;
        return {
          kind: 'boot-loader',
          text: `${image.image.file} needs boot loader ${needs} or newer, ${has}`,
          wanted: device.bootLoader === null ? null : `a boot loader of ${needs} or newer for ${hardwareWords(device)}`,
          near: loader && why !== null ? near(loader.image, why) : null,
        };
      }
    }
  // Then the versions themselves: the image that starts least far above the furthest that can be reached.
  const start = (i: RankedImage): number => {
    const ranges = i.from.filter((r) => r.family === furthest.family && r.low > furthest.rank);
    return ranges.length > 0 ? Math.min(...ranges.map((r) => r.low)) : Infinity;
  };
  const next = leading.reduce<RankedImage | null>((best, i) => (best === null || start(i) < start(best) ? i : best), null)!;
  const ranges = next.image.from
    .map((r) => `${r.family && r.family !== next.image.family ? `${r.family} ` : ''}${describeRange(r)}`)
    .join(', or ');
  const wanted = `an image for ${hardwareWords(device)} that accepts ${furthest.version} and brings it to ${ranges || `a version of ${next.image.family}`}`;
  const bridge = search.all.find(
    (i) =>
      i.image.component === 'system' &&
      !search.images.some((own) => own === i && admitted(search, own)) &&
      reached.some((r) => accepts(i, r.family, r.rank) && (i.image.family !== r.family || i.rank > r.rank)) &&
      accepts(next, i.image.family, i.rank),
  );
  const why = bridge ? whyNot(search, bridge) : null;
  const from =
    furthest.version === device.firmware ? furthest.version : `${furthest.version} (the furthest that ${device.firmware} can go)`;
  return {
    kind: 'version',
    text: ranges
      ? `nothing in the store takes ${from} to ${ranges}, from where ${next.image.file} goes on`
      : `nothing in the store takes ${from} to ${next.image.family}, where ${next.image.file} starts`,
    wanted,
    near: bridge && why !== null ? near(bridge.image, why) : null,
  };
}

/** Why an image that would close the gap is not taken. */
function whyNot({ device, images }: Search, i: RankedImage): string {
  if (!images.includes(i)) return describeMismatches(mismatches(i.image, { ...device.hardware, family: i.image.family }));
  if (i.image.withdrawn !== null) return `it is withdrawn: ${i.image.withdrawn.why}`;
  if (!chosenFreely(i.image)) return `it is a ${i.image.channel}`;
  return `it does not accept what the device runs`;
}
