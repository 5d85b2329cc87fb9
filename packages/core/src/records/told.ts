import { z } from 'zod';
import { duration } from '../checks/restart.js';
import { octets } from '../text/octets.js';
import type { DeviceId } from '../units.js';

/** What other devices need to come back after a restart, and one of them gives. */
export const services = ['addresses', 'names', 'logins', 'time'] as const;
export type Service = (typeof services)[number];

const end = z.object({ device: z.string(), port: z.string().nullable() });

/** What only a person can tell of a device, besides its place on the map; what nobody has told is absent. */
export const toldSchema = z.object({
  /** Where its serial console is plugged in. */
  console: end.optional(),
  /** What it gives to others. */
  serves: z.array(z.enum(services)).min(1).optional(),
  /** The sites that it gives that to; none named: to all. Absent: to its own. */
  servesSites: z.array(z.string()).optional(),
  /** The access points that reach where it reaches; none: nobody else does. */
  radio: z.array(z.string()).optional(),
  /** Who decides on its firmware. */
  decidedBy: z.string().optional(),
  /** The last day of its licence, as RFC 3339 full-date. */
  licenceUntil: z.string().optional(),
  /** How many power supplies it has. */
  supplies: z.number().int().positive().optional(),
});
export type Told = z.infer<typeof toldSchema>;

/** What a device showed of itself that is no part of who it is; what it did not show is absent. */
export interface Shows {
  /** RFC 6933 entPhysicalClass powerSupply(6). */
  readonly supplies?: number;
  /** How far its clock is ahead of ours, in milliseconds. */
  readonly clockAheadMs?: number;
  /** Room for images, in octets, as it said last. */
  readonly freeBytes?: number;
  /** The access points that hear each other, by the addresses of their radios or by name, as what manages them tells. */
  readonly radio?: readonly string[];
}

/** To whom each device gives what they need to come back, itself left out. Linear in devices and in what is given. */
export function givesTo(
  devices: readonly { readonly id: DeviceId; readonly site: string; readonly told: Told | null }[],
): Map<DeviceId, readonly { readonly from: DeviceId; readonly what: readonly Service[] }[]> {
  const givers = devices.filter((d) => d.told?.serves !== undefined);
  const gives = ({ site, told }: (typeof givers)[number], to: string): boolean =>
    told!.servesSites === undefined ? site === to : told!.servesSites.length === 0 || told!.servesSites.includes(to);
  const bySite = new Map<string, { readonly from: DeviceId; readonly what: readonly Service[] }[]>();
  for (const { site } of devices)
    if (!bySite.has(site))
      bySite.set(
        site,
        givers.filter((g) => gives(g, site)).map((g) => ({ from: g.id, what: g.told!.serves! })),
      );
  return new Map(devices.map(({ id, site }) => [id, bySite.get(site)!.filter((g) => g.from !== id)]));
}

/** Words in a row: `a`, `a and b`, `a, b and c`. */
export const inARow = (words: readonly string[]): string =>
  words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} and ${words.at(-1)!}`;

/** A clock is wrong when it is further off than certificates and schedules bear. */
const mostOffMs = 300_000;

/** How a clock is wrong, in words; null while it is right enough. */
export const clockOff = (aheadMs: number): string | null =>
  Math.abs(aheadMs) <= mostOffMs ? null : `${duration(Math.abs(aheadMs))} ${aheadMs > 0 ? 'ahead' : 'behind'}`;

/** What a device gives, and to whom, in words; null when it gives nothing. */
export function givesText({ serves, servesSites: sites }: Told): string | null {
  if (serves === undefined) return null;
  return `${inARow(serves)} to ${sites === undefined ? 'its site' : sites.length === 0 ? 'every site' : inARow(sites)}`;
}

/** What is told of a device, and what it showed, in words. */
export function toldWords(
  told: Told,
  shows: Shows,
  nameOf: (id: DeviceId) => string,
): { readonly what: string; readonly text: string; readonly by: 'hand' | 'device' }[] {
  const radio = told.radio ?? shows.radio;
  const supplies = told.supplies ?? shows.supplies;
  const clock = shows.clockAheadMs === undefined ? null : clockOff(shows.clockAheadMs);
  const list: readonly [what: string, text: string | null | undefined, byHand: boolean][] = [
    ['Console', told.console && `${nameOf(told.console.device)}${told.console.port === null ? '' : `:${told.console.port}`}`, true],
    ['Gives', givesText(told), true],
    [
      'Radio beside it',
      radio && (radio.length === 0 ? 'none: nobody else reaches there' : radio.map(nameOf).join(', ')),
      told.radio !== undefined,
    ],
    ['Decided by', told.decidedBy, true],
    ['Licence until', told.licenceUntil, true],
    ['Power supplies', supplies === undefined ? null : String(supplies), told.supplies !== undefined],
    ['Clock', clock, false],
    ['Room', shows.freeBytes === undefined ? null : `${octets(shows.freeBytes)} free when it was asked last`, false],
  ];
  return list.flatMap(([what, text, byHand]) => (text ? [{ what, text, by: byHand ? ('hand' as const) : ('device' as const) }] : []));
}
