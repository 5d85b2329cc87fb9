import type { Standing } from './standing.js';

/** Where on the way to its target a device stands, left to right. */
export const distances = ['no target', 'unknown', 'blocked', '2 or more away', '1 away', 'at target', 'ahead'] as const;
export type Distance = (typeof distances)[number];

/** @param images how many of those on its path it takes itself */
export function distanceOf(standing: Standing, images: number): Distance {
  switch (standing) {
    case 'no-target':
      return 'no target';
    case 'unknown':
      return 'unknown';
    case 'blocked':
      return 'blocked';
    case 'at-target':
      return 'at target';
    case 'ahead':
      return 'ahead';
    case 'behind':
      return images > 1 ? '2 or more away' : '1 away';
  }
}
