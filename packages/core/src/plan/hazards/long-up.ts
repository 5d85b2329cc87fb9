import type { Ms } from '../../units.js';
import type { HazardLook } from './hazard.js';

const year: Ms = 365 * 86_400_000;

/** Who has run for years may not come back: disks, batteries, settings that were never saved. */
export const longUp: HazardLook = (run, { devices, now }) => {
  const since = devices.get(run.device)?.upSince ?? null;
  if (since === null || now - since < year) return null;
  const years = Math.floor((now - since) / year);
  return { words: `up for more than ${years === 1 ? 'a year' : `${years} years`}` };
};
