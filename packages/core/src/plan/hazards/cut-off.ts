import { downMs, someNames, type HazardLook } from './hazard.js';

/** Barrow's own way to the devices leads over it: while it restarts, Barrow sees and reaches nobody behind it. */
export const ownPath: HazardLook = (run, facts) =>
  facts.here != null && (facts.under.get(facts.here) ?? [facts.here]).includes(run.device)
    ? { words: 'Barrow reaches nobody behind it meanwhile', forMs: downMs(run, facts) }
    : null;

/** Others are dark while it restarts: its power, its only way, or what manages them is gone. */
export const cutOff: HazardLook = (run, facts, carried) => {
  const others = carried(run.device).map((id) => facts.devices.get(id)?.name ?? id);
  if (others.length === 0) return null;
  return { words: `takes ${someNames([...others].sort())} with it`, forMs: downMs(run, facts) };
};
