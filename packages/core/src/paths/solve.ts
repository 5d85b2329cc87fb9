import TinyQueue from 'tinyqueue';
import type { DeviceHardware } from '../images/match.js';
import type { Resettable } from '../images/note.js';
import { chosenFreely, levelFor } from './admit.js';
import { explainGap, type Gap, type Search } from './gap.js';
import {
  accepts,
  fits,
  loaderRankOf,
  rankFamilies,
  rankImage,
  resetsFrom,
  type FamilyRanks,
  type FamilySchemes,
  type PathImage,
  type RankedImage,
  type UnusableImage,
} from './path-image.js';

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
export type PathResult = { readonly path: Path; readonly gap: null } | { readonly path: null; readonly gap: Gap };

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
interface Node extends Reached {
  readonly reboots: number;
  readonly bytes: number;
  readonly order: number;
  /** How many images led here. */
  readonly depth: number;
  readonly by: RankedImage | null;
  readonly before: Node | null;
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

const longestPath = 12;

/** All images and families, read once; answers paths, each distinct question solved once. */
export class PathBook {
  readonly #ranks: Map<string, FamilyRanks>;
  readonly #usable: RankedImage[] = [];
  readonly #byFamily = new Map<string, RankedImage[]>();
  readonly unusable: UnusableImage[] = [];
  readonly #fitting = new Map<string, readonly RankedImage[]>();
  readonly #solved = new Map<string, PathResult>();

  constructor(
    families: ReadonlyMap<string, FamilySchemes>,
    readonly images: readonly PathImage[],
  ) {
    this.#ranks = rankFamilies(families, images);
    for (const image of images) {
      const ranked = rankImage(this.#ranks, image);
      if ('why' in ranked) this.unusable.push(ranked);
      else {
        this.#usable.push(ranked);
        const list = this.#byFamily.get(image.family);
        if (list) list.push(ranked);
        else this.#byFamily.set(image.family, [ranked]);
      }
    }
  }

  /** The images that a piece of hardware would run, of whichever family. */
  #imagesFor(hardware: DeviceHardware): readonly RankedImage[] {
    const key = JSON.stringify([hardware.model, hardware.hardwareRevision, hardware.variant]);
    let found = this.#fitting.get(key);
    if (!found) {
      // Smaller ones first, so that of two equal ways the smaller is found without looking at the other.
      found = this.#usable.filter((i) => fits(i.image, hardware)).sort((a, b) => a.image.bytes - b.image.bytes);
      this.#fitting.set(key, found);
    }
    return found;
  }

  /** The cheapest way to a target version: fewest reboots, the partner's among them, then fewest bytes. */
  toTarget(device: PathDevice, target: PathTarget, down = false): PathResult {
    const key = JSON.stringify([device, target, down]);
    let found = this.#solved.get(key);
    if (!found) {
      const versions = this.#ranks.get(target.family)?.versions;
      const rank = versions?.of(target.version) ?? null;
      found = this.solve(device, {
        family: target.family,
        version: target.version,
        ends: (image) => rank !== null && versions!.of(image.version) === rank,
        acceptUnreleased: target.acceptUnreleased,
        down,
      });
      this.#solved.set(key, found);
    }
    return found;
  }

  /** The cheapest way to any image that the goal accepts. */
  solve(device: PathDevice, goal: PathGoal, depth = 0): PathResult {
    const { hardware } = device;
    const images = this.#imagesFor(hardware);
    const ranks = hardware.family === null ? undefined : this.#ranks.get(hardware.family);
    const rank = device.firmware === null ? null : (ranks?.versions.of(device.firmware) ?? null);
    if (hardware.family === null || rank === null || !ranks) throw new Error('a path begins at a version that its family can read');
    const goalRank = goal.version === null ? Infinity : (this.#ranks.get(goal.family)?.versions.of(goal.version) ?? Infinity);
    const lifts = this.#lifts(device, images, depth);
    const ending = new Set((this.#byFamily.get(goal.family) ?? []).filter((i) => i.image.component === 'system' && goal.ends(i.image)));
    const ends = (image: RankedImage): boolean => ending.has(image);

    const start: Node = {
      family: hardware.family,
      rank,
      version: device.firmware!,
      loader: device.bootLoader,
      level: 0,
      reboots: 0,
      bytes: 0,
      order: 0,
      depth: 0,
      by: null,
      before: null,
    };
    // A withdrawn image is never a step, an unreleased one only as the end that was named.
    const usable = images.filter((i) => i.image.withdrawn === null && (chosenFreely(i.image) || (ends(i) && goal.acceptUnreleased)));
    const rules: Rules = { goal, goalRank, lifts, ranks: this.#ranks };
    const queue = new TinyQueue<Node>([start], (a, b) => a.reboots - b.reboots || a.bytes - b.bytes || a.order - b.order);
    const reached = new Map<string, Node>();
    let order = 1;
    for (let node = queue.pop(); node; node = queue.pop()) {
      const key = keyOf(node);
      if (reached.has(key)) continue;
      reached.set(key, node);
      if (node.by && ends(node.by)) return { path: this.#write(device, node, lifts), gap: null };
      for (const image of usable) {
        const next = take(node, image, rules, order);
        if (next && !reached.has(keyOf(next))) {
          order++;
          queue.push(next);
        }
      }
    }
    const search: Search = {
      device,
      goal,
      goalRank,
      images,
      all: this.#usable,
      reached: [...reached.values()],
      ranks: this.#ranks,
      lifts,
      ends,
      unusable: this.unusable,
    };
    return { path: null, gap: explainGap(search) };
  }

  /** What the partner would have to do for each version that some image asks of it, lowest first. */
  #lifts(device: PathDevice, images: readonly RankedImage[], depth: number): Lift[] {
    const { partner } = device;
    const family = partner?.hardware.family ?? null;
    if (!partner || family === null) return [];
    const asked = new Map<number, string>();
    for (const image of images) for (const p of image.partners) if (p.family === family) asked.set(p.rank, p.atLeast);
    const ranks = this.#ranks.get(family);
    const now = partner.firmware === null ? null : (ranks?.versions.of(partner.firmware) ?? null);
    return [...asked]
      .sort(([a], [b]) => a - b)
      .map(([rank, atLeast]): Lift => {
        const lift = (path: Path | null, refused: string | null): Lift => ({
          family,
          rank,
          atLeast,
          path,
          refused,
          reboots: path?.reboots ?? 0,
          bytes: path?.bytes ?? 0,
        });
        if (now === null) return lift(null, `what ${partner.name} runs is not known, and ${atLeast} is needed there`);
        if (now >= rank) return lift(null, null);
        const short = `${partner.name} runs ${partner.firmware}, and ${atLeast} is needed there`;
        if (partner.pinned !== null) return lift(null, `${short}; it is pinned: ${partner.pinned}`);
        if (depth >= 4) return lift(null, `${short}; its own partners are nested too deep`);
        const { target } = partner;
        const enough = target !== null && target.family === family && (ranks?.versions.of(target.version) ?? -1) >= rank;
        const toEnough = (): PathResult =>
          this.solve(
            partner,
            {
              family,
              version: null,
              ends: (i) => (ranks?.versions.of(i.version) ?? -1) >= rank,
              acceptUnreleased: false,
              down: false,
            },
            depth + 1,
          );
        // Its own target when that is new enough and can be reached; otherwise the nearest version that is.
        const own = enough ? this.toTarget(partner, target) : null;
        const found = own?.path ? own : toEnough();
        return found.path ? lift(found.path, null) : lift(null, `${short}; ${found.gap.text}`);
      });
  }

  #write(device: PathDevice, end: Node, lifts: readonly Lift[]): Path {
    const nodes: Node[] = [];
    for (let node: Node | null = end; node?.by; node = node.before) nodes.unshift(node);
    const steps: PathStep[] = [];
    let level = 0;
    for (const node of nodes) {
      const image = node.by!;
      if (node.level > level) {
        level = node.level;
        // The partner goes to the last of its levels at once, before the first step that needs any of them.
        const lift = lifts[end.level - 1]!;
        const { id, name } = device.partner!;
        if (lift.path && !steps.some((s) => s.on)) steps.push(...lift.path.steps.map((s) => ({ ...s, on: s.on ?? { id, name } })));
      }
      steps.push({
        image: image.image,
        on: null,
        from: image.image.component === 'system' ? node.before!.version : (node.before!.loader ?? 'not known'),
        resets: resetsFrom(image, this.#ranks.get(image.image.family), node.before!),
        notices: noticesOf(image.image),
      });
    }
    return { steps, reboots: end.reboots, bytes: end.bytes };
  }
}

const keyOf = (r: Reached): string => `${r.family}|${r.rank}|${r.loader}|${r.level}`;

interface Rules {
  readonly goal: PathGoal;
  readonly goalRank: number;
  readonly lifts: readonly Lift[];
  readonly ranks: ReadonlyMap<string, FamilyRanks>;
}

/** What the state becomes by taking an image, or null when it cannot be taken. */
function take(node: Node, ranked: RankedImage, { goal, goalRank, lifts, ranks }: Rules, order: number): Node | null {
  const { image } = ranked;
  if (!accepts(ranked, node.family, node.rank)) return null;
  const level = levelFor(ranked, node.level, lifts);
  if (level === null) return null;
  const loaderRank = loaderRankOf(ranks, image.family, node.loader);
  if (ranked.needsLoader !== null && !(loaderRank !== null && loaderRank >= ranked.needsLoader)) return null;
  if (node.depth >= longestPath) return null;
  const cost = {
    depth: node.depth + 1,
    reboots: node.reboots + image.reboots + (lifts[level - 1]?.reboots ?? 0) - (lifts[node.level - 1]?.reboots ?? 0),
    bytes: node.bytes + image.bytes + (lifts[level - 1]?.bytes ?? 0) - (lifts[node.level - 1]?.bytes ?? 0),
    order,
    by: ranked,
    before: node,
    level,
  };
  if (image.component === 'boot-loader') {
    if (node.family !== image.family || loaderRank === null || ranked.rank <= loaderRank) return null;
    return { ...cost, family: node.family, rank: node.rank, version: node.version, loader: image.version };
  }
  if (node.family === image.family) {
    if (ranked.rank === node.rank) return null;
    if (ranked.rank < node.rank && !(goal.down && image.goingDown === 'allowed')) return null;
  }
  if (!goal.down && image.family === goal.family && ranked.rank > goalRank) return null;
  const brings = ranked.bringsLoader !== null && (loaderRank === null || loaderRank < ranked.bringsLoader);
  return {
    ...cost,
    family: image.family,
    rank: ranked.rank,
    version: image.version,
    loader: brings ? image.bringsBootLoader : node.loader,
  };
}

function noticesOf(image: PathImage): string[] {
  return [
    ...image.drops.map((d) => `afterwards there is no ${d.what}${d.models ? ` (${d.models.join(', ')})` : ''}`),
    ...image.needs.programs.map((p) => `${p.name} must be ${p.atLeast} or newer: look there, Barrow cannot`),
    ...(image.reboots > 1 ? [`restarts ${image.reboots} times`] : []),
  ];
}
