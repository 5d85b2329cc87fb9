import TinyQueue from 'tinyqueue';
import type { DeviceHardware } from '../images/match.js';
import { chosenFreely, levelFor } from './admit.js';
import type { Lift, Path, PathDevice, PathGoal, PathStep, PathTarget, Reached } from './types.js';
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

export type PathResult = { readonly path: Path; readonly gap: null } | { readonly path: null; readonly gap: Gap };

interface Node extends Reached {
  readonly reboots: number;
  readonly bytes: number;
  readonly order: number;
  /** How many images led here. */
  readonly depth: number;
  readonly by: RankedImage | null;
  readonly before: Node | null;
  readonly key: string;
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
  /** Of the images of one piece of hardware: those that take it on from a version. */
  readonly #onward = new WeakMap<readonly RankedImage[], Map<string, readonly RankedImage[]>>();

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

  /** The images that are a step from a version, whatever the goal; a withdrawn one never is. */
  #onwardFrom(images: readonly RankedImage[], { family, rank }: Reached): readonly RankedImage[] {
    let known = this.#onward.get(images);
    if (!known) this.#onward.set(images, (known = new Map()));
    const key = `${family}|${rank}`;
    let found = known.get(key);
    if (!found)
      known.set(
        key,
        (found = images.filter((i) => i.image.withdrawn === null && accepts(i, family, rank) && !leadsNowhere(i, family, rank))),
      );
    return found;
  }

  /** The cheapest way to a target version: fewest reboots, the partner's among them, then fewest bytes. */
  toTarget(device: PathDevice, target: PathTarget, down = false): PathResult {
    return this.#once(JSON.stringify([device, target, down]), () => {
      const versions = this.#ranks.get(target.family)?.versions;
      const rank = versions?.of(target.version) ?? null;
      return this.solve(device, {
        family: target.family,
        version: target.version,
        ends: (image) => rank !== null && versions!.of(image.version) === rank,
        acceptUnreleased: target.acceptUnreleased,
        down,
      });
    });
  }

  #once(question: string, solve: () => PathResult): PathResult {
    let found = this.#solved.get(question);
    if (!found) this.#solved.set(question, (found = solve()));
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
      key: keyOf(hardware.family, rank, device.bootLoader, 0),
    };
    // An unreleased image is a step only as the end that was named.
    const isUsable = (i: RankedImage): boolean => chosenFreely(i.image) || (ends(i) && goal.acceptUnreleased);
    const queue = new TinyQueue<Node>([start], (a, b) => a.reboots - b.reboots || a.bytes - b.bytes || a.order - b.order);
    const reached = new Map<string, Node>();
    const rules: Rules = { goal, goalRank, lifts, ranks: this.#ranks, cheapest: new Map([[start.key, start]]) };
    let order = 1;
    for (let node = queue.pop(); node; node = queue.pop()) {
      if (reached.has(node.key)) continue;
      reached.set(node.key, node);
      if (node.by && ends(node.by)) return { path: this.#write(device, node, lifts), gap: null };
      for (const image of this.#onwardFrom(images, node)) {
        if (!isUsable(image)) continue;
        const next = take(node, image, rules, order);
        if (!next) continue;
        order++;
        queue.push(next);
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
        const found = own?.path ? own : this.#once(JSON.stringify([partner, family, rank, depth]), toEnough);
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

const keyOf = (family: string, rank: number, loader: string | null, level: number): string => `${family}|${rank}|${loader}|${level}`;

interface Rules {
  readonly goal: PathGoal;
  readonly goalRank: number;
  readonly lifts: readonly Lift[];
  readonly ranks: ReadonlyMap<string, FamilyRanks>;
  /** The cheapest way that was found to each state so far. */
  readonly cheapest: Map<string, Node>;
}

/** Whether an image brings what runs already, or something older that it must not be taken for. */
const leadsNowhere = ({ image, rank }: RankedImage, family: string, at: number): boolean =>
  image.component === 'system' && image.family === family && (rank === at || (rank < at && image.goingDown !== 'allowed'));

/** What the state becomes by taking an image that accepts its version; null when it cannot be taken, or leads nowhere cheaper. */
function take(node: Node, ranked: RankedImage, { goal, goalRank, lifts, ranks, cheapest }: Rules, order: number): Node | null {
  const { image } = ranked;
  const isLoader = image.component === 'boot-loader';
  if (isLoader) {
    if (node.family !== image.family) return null;
  } else {
    if (!goal.down && image.family === node.family && ranked.rank < node.rank) return null;
    if (!goal.down && image.family === goal.family && ranked.rank > goalRank) return null;
  }
  const level = levelFor(ranked, node.level, lifts);
  if (level === null) return null;
  const loaderRank = loaderRankOf(ranks, image.family, node.loader);
  if (ranked.needsLoader !== null && !(loaderRank !== null && loaderRank >= ranked.needsLoader)) return null;
  if (node.depth >= longestPath) return null;
  const brings = ranked.bringsLoader !== null && (loaderRank === null || loaderRank < ranked.bringsLoader);
  if (isLoader && (loaderRank === null || ranked.rank <= loaderRank)) return null;
  const loader = isLoader ? image.version : brings ? image.bringsBootLoader : node.loader;
  const rank = isLoader ? node.rank : ranked.rank;
  const reboots = node.reboots + image.reboots + (lifts[level - 1]?.reboots ?? 0) - (lifts[node.level - 1]?.reboots ?? 0);
  const bytes = node.bytes + image.bytes + (lifts[level - 1]?.bytes ?? 0) - (lifts[node.level - 1]?.bytes ?? 0);
  // Whatever comes to the same state at no lower cost is not followed. (A loader stays in its family.)
  const key = keyOf(image.family, rank, loader, level);
  const other = cheapest.get(key);
  if (other && (other.reboots - reboots || other.bytes - bytes) <= 0) return null;
  const version = isLoader ? node.version : image.version;
  const next: Node = {
    family: image.family,
    rank,
    version,
    loader,
    level,
    reboots,
    bytes,
    order,
    depth: node.depth + 1,
    by: ranked,
    before: node,
    key,
  };
  cheapest.set(key, next);
  return next;
}

function noticesOf(image: PathImage): string[] {
  return [
    ...image.drops.map((d) => `afterwards there is no ${d.what}${d.models ? ` (${d.models.join(', ')})` : ''}`),
    ...image.needs.programs.map((p) => `${p.name} must be ${p.atLeast} or newer: look there, Barrow cannot`),
    ...(image.reboots > 1 ? [`restarts ${image.reboots} times`] : []),
  ];
}
