import { downMs, type HazardLook } from './hazard.js';

/** While it is down, a ring is open, or others have lost one of their feeds. */
export const noRedundancy: HazardLook = (run, facts) => {
  const rings = run.downClaims.filter((key) => key.startsWith('ring:')).length;
  const fed = run.downClaims.filter((key) => key.startsWith('feeds:')).map((key) => facts.devices.get(key.slice(6))?.name ?? 'another');
  const words = [
    ...(rings > 0 ? [rings === 1 ? 'a ring is open' : `${rings} rings are open`] : []),
    ...(fed.length > 0 ? [`${fed.sort().join(', ')} ${fed.length === 1 ? 'has' : 'have'} one feed less`] : []),
  ];
  return words.length === 0 ? null : { words: `${words.join(', and ')} meanwhile`, forMs: downMs(run, facts) };
};
