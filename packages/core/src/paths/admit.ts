import type { PathImage, RankedImage } from './path-image.js';
import type { Lift } from './types.js';

/** Whether Barrow may choose an image without being told to. */
export const chosenFreely = (image: PathImage): boolean => image.channel === 'release' || image.channel === 'transitional';

/** Up to which level the partner must be for an image; null when it cannot be. */
export function levelFor(image: RankedImage, level: number, lifts: readonly Lift[]): number | null {
  let most = level;
  for (const p of image.partners) {
    const at = lifts.findIndex((l) => l.family === p.family && l.rank === p.rank);
    if (at < 0) {
      if (!p.alone) return null;
      continue;
    }
    if (lifts[at]!.refused !== null) return null;
    if (lifts[at]!.path !== null) most = Math.max(most, at + 1);
  }
  return most;
}
