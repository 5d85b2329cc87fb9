import { downMs, someNames, type HazardLook } from './hazard.js';

/** Others are dark while it restarts: its power, its only way, or what manages them is gone. */
export const cutOff: HazardLook = (run, facts, carried) => {
  const others = carried(run.device).map((id) => facts.devices.get(id)?.name ?? id);
  return others.length === 0 ? null : { words: `takes ${someNames([...others].sort())} with it`, forMs: downMs(run, facts) };
};
