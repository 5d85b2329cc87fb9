import type { HazardLook } from './hazard.js';

/** It stands alone on the map: what would take it down, and whom it would take with it, nobody can say. */
export const uplinkUnknown: HazardLook = (run, { under }, carried) =>
  run.via === undefined && (under.get(run.device)?.length ?? 1) <= 1 && carried(run.device).length === 0 && run.downClaims.length === 0
    ? { words: 'no neighbour, feed or parent is known; `barrow map` shows what is' }
    : null;
