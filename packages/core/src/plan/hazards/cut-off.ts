import { downMs, someNames, type HazardLook } from './hazard.js';

/** Others are dark while it restarts: its power, its only way, or what manages them is gone; or Barrow's own way to them. */
export const cutOff: HazardLook = (run, facts, carried) => {
  const others = carried(run.device).map((id) => facts.devices.get(id)?.name ?? id);
  const isOwnWay = facts.here != null && (facts.under.get(facts.here) ?? [facts.here]).includes(run.device);
  if (others.length === 0 && !isOwnWay) return null;
  const words = [
    ...(others.length === 0 ? [] : [`takes ${someNames([...others].sort())} with it`]),
    ...(isOwnWay ? ["cuts off Barrow's own machine from the rest"] : []),
  ];
  return { words: words.join(', and '), forMs: downMs(run, facts) };
};
