import type { Guards, PowerFrom } from '@barrow/core';
import type { Family } from '@barrow/families';
import type { DeviceRow } from '../data/entities.js';
import type { FedBy } from '../map/map.js';

/** Where the power of a device can be cut and given again when it does not come back; or why that cannot be. */
export function powerOf(
  device: string,
  known: {
    readonly feeds: ReadonlyMap<string, readonly FedBy[]>;
    readonly guards: Guards;
    readonly rows: ReadonlyMap<string, DeviceRow>;
    readonly families: ReadonlyMap<string, Family>;
  },
): { readonly power: PowerFrom } | { readonly why: string } {
  const { feeds, guards, rows, families } = known;
  const all = feeds.get(device) ?? [];
  const [feed, ...more] = all.filter((f) => f.sure !== 'suggested');
  if (!feed) {
    // What a table of addresses only suggests is not enough to cut somebody's power.
    const [maybe] = all;
    const words = maybe && `${maybe.outlet ?? 'an outlet'} of ${rows.get(maybe.device)?.name ?? maybe.device}`;
    return {
      why: words
        ? `that ${words} feeds it is only suggested; say what does, with \`barrow device set --feed\``
        : 'nobody knows what feeds it',
    };
  }
  if (more.length > 0) return { why: `it has ${more.length + 1} feeds` };
  const nameOf = (id: string): string => rows.get(id)?.name ?? id;
  const name = nameOf(feed.device);
  if (feed.outlet === null) return { why: `nobody knows on which outlet of ${name} it hangs` };
  const family = families.get(rows.get(feed.device)?.family ?? '');
  if (!family?.procedures['cut-power']) return { why: `${name}, which feeds it, is not one whose power Barrow can switch` };
  if (guards.under.get(feed.device)?.includes(device)) return { why: `${name}, which feeds it, is reached through it` };
  const others = feed.others.map((id) => ({ device: id, name: nameOf(id) })).sort((a, b) => a.name.localeCompare(b.name));
  return { power: { device: feed.device, name, outlet: feed.outlet, ...(others.length > 0 ? { others } : {}) } };
}

/** What that means for a rollout, as a notice of its plan. */
export function poweredText(found: ReturnType<typeof powerOf>): string {
  if ('why' in found) return `its power is not cut if it does not come back: ${found.why}`;
  const { outlet, name, others = [] } = found.power;
  return others.length === 0
    ? `its power is cut at ${outlet} of ${name} if it does not come back`
    : `its power is cut if it does not come back only on your word: ${others.map((o) => o.name).join(', ')} would lose power with it, on ${outlet} of ${name}`;
}
