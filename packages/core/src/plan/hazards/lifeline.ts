import { downMs, someNames, type HazardLook } from './hazard.js';

/** Tags of what somebody's life may hang on. */
export const lifelineTags = ['lift', 'alarm', 'door', 'emergency-phone', 'lifeline'];

/** It is something that somebody's life may hang on, or such goes dark with it. */
export const lifeline: HazardLook = (run, facts, carried) => {
  const tagOf = (id: string): string | undefined => facts.devices.get(id)?.tags.find((t) => lifelineTags.includes(t));
  const own = tagOf(run.device);
  const others = carried(run.device).flatMap((id) => {
    const tag = tagOf(id);
    return tag === undefined ? [] : [`${facts.devices.get(id)!.name} (${tag})`];
  });
  const words = [
    ...(own === undefined ? [] : [`is itself such (${own})`]),
    ...(others.length === 0 ? [] : [`takes ${someNames(others.sort())} with it`]),
  ];
  const contact = facts.contacts?.get(run.site);
  const whom = contact === undefined ? 'whoever answers for it' : `whoever answers for it (${run.site}: ${contact})`;
  return words.length === 0 ? null : { words: `${words.join(', and ')}: ask ${whom}`, forMs: downMs(run, facts) };
};
