import { describeRange, type VersionRange } from '../versions/range.js';

/** A version that a device passes through, and with which of another one it goes together; null: with all, as far as is known. */
export interface Passing {
  readonly version: string;
  readonly goesWith: VersionRange | null;
}

/** Two that work together, with the versions of both in the order in which they come: the one of now first, one more after each leg. */
export interface Pair {
  readonly child: string;
  readonly childPasses: readonly Passing[];
  readonly parent: string;
  readonly parentPasses: readonly string[];
  /** The leg of the child that waits until the parent has ended, and the other way round; null: none waits. */
  readonly childWaits: number | null;
  readonly parentWaits: number | null;
  /** Whether a version of the parent lies in a range. @throws what cannot be read */
  readonly inRange: (range: VersionRange, version: string) => boolean;
}

/** Whether both can stand at these versions at once, by who waits for whom. */
function canMeet({ childPasses, parentPasses, childWaits, parentWaits }: Pair, child: number, parent: number): boolean {
  if (childWaits !== null && child > childWaits && parent < parentPasses.length - 1) return false;
  return !(parentWaits !== null && parent > parentWaits && child < childPasses.length - 1);
}

/**
 * Looks at every state that two devices can be in together while both change.
 *
 * @returns the leg of the parent that has to wait until the child has ended, where that alone mends what does not go together; else,
 * in words, what does not
 */
export function mixedStates(pair: Pair): { readonly parentWaits: number | null; readonly words: readonly string[] } {
  const fits = ({ goesWith }: Passing, version: string): boolean => goesWith === null || pair.inRange(goesWith, version);
  const bad = (of: Pair): { readonly child: number; readonly parent: number }[] =>
    of.childPasses.flatMap((passing, child) =>
      of.parentPasses.flatMap((version, parent) =>
        // How they stand today is not this plan's doing.
        child + parent > 0 && canMeet(of, child, parent) && !fits(passing, version) ? [{ child, parent }] : [],
      ),
    );
  const found = bad(pair);
  if (found.length === 0) return { parentWaits: null, words: [] };
  if (pair.childWaits === null && pair.parentWaits === null && pair.childPasses.length > 1) {
    // Before the first leg that brings what no version of the child on its way goes with.
    const first = Math.min(...found.map((f) => f.parent));
    if (first > 0 && bad({ ...pair, parentWaits: first - 1 }).length === 0) return { parentWaits: first - 1, words: [] };
  }
  const words = found.map(({ child, parent }) => {
    const { version, goesWith } = pair.childPasses[child]!;
    return `${pair.child} with ${version} beside ${pair.parent} with ${pair.parentPasses[parent]!}, where ${describeRange(goesWith!)} is meant`;
  });
  return { parentWaits: null, words: [...new Set(words)] };
}
