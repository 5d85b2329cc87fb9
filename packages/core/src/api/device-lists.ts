import { z } from 'zod';
import { distances } from '../standing/distances.js';
import { standings } from '../standing/standing.js';
import { kinds } from '../units.js';

/** By what a list of devices may be put in order; with a minus before it, the other way round. */
export const deviceColumns = [
  'name',
  'address',
  'site',
  'kind',
  'model',
  'hardware',
  'serial',
  'firmware',
  'target',
  'standing',
  'seen',
] as const;
export type DeviceColumn = (typeof deviceColumns)[number];

const count = z.number().int();

/** How many devices there are, and how many of them fit what was asked for. */
export const deviceCountsSchema = z.object({
  all: z.object({
    total: count,
    sites: z.array(z.string()),
    kinds: z.array(z.enum(kinds)),
    standings: z.array(z.object({ standing: z.enum(standings), devices: count })),
  }),
  fitting: z.object({
    total: count,
    targeted: count,
    behind: count,
    /** Behind their target, and free to be planned. */
    plannable: count,
  }),
});
export type DeviceCounts = z.infer<typeof deviceCountsSchema>;

/** As much of a device as is needed to choose it. */
export const deviceNameSchema = z.object({ id: z.string(), name: z.string(), network: z.string() });
export type DeviceName = z.infer<typeof deviceNameSchema>;

/** Devices that stand alike: of one family, with one target and one version. */
export const standingGroupSchema = z.object({
  /** By which a list of devices is narrowed to it. */
  group: z.string(),
  family: z.string().nullable(),
  target: z.string().nullable(),
  distance: z.enum(distances),
  standing: z.enum(standings),
  firmware: z.string().nullable(),
  devices: count,
  /** Names of those that have to take something first, as many as a line holds. */
  after: z.array(z.string()),
});
export type StandingGroup = z.infer<typeof standingGroupSchema>;
