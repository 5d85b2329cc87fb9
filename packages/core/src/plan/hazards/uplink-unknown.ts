import type { HazardLook } from './hazard.js';

/** It stands alone on the map: what would take it down, and whom it would take with it, nobody can say. */
export const uplinkUnknown: HazardLook = ({ device, via }, { devices }) =>
  via === undefined && devices.get(device)?.isPlaced === false
    ? { words: 'no neighbour, feed or parent is known; `barrow map` shows what is' }
    : null;
