import type { HazardLook } from './hazard.js';

/** Its next restart, whatever causes it, would bring another version than the first that is planned. */
export const armedOtherwise: HazardLook = (run, { plan, devices }) => {
  const armed = devices.get(run.device)?.armed ?? null;
  const first = plan.passages[run.passage]!.legs[0]?.to ?? run.target;
  return armed === null || armed === first ? null : { words: `${armed} waits there, and any restart brings it` };
};
