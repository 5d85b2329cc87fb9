import { z } from 'zod';
import { windowInput } from './windows.js';
import { addressOrHost, causeShape, moment, sha256Text as sha256 } from './common.js';

export const storeProtocols = ['tftp', 'http'] as const;
export type StoreProtocol = (typeof storeProtocols)[number];

const named = z.object({ id: z.string(), name: z.string(), address: z.string() });

export const offerSchema = z.object({
  id: z.string(),
  image: sha256,
  /** The exact name that the devices ask for. */
  file: z.string(),
  protocol: z.enum(storeProtocols),
  url: z.string(),
  sha256,
  bytes: z.number().int(),
  devices: z.array(named),
  /** The rollout or delivery it was staged by; null when a person staged it. */
  rollout: z.string().nullable(),
});
export type Offer = z.infer<typeof offerSchema>;

export const transferStates = ['awaited', 'moving', 'done', 'broken', 'refused'] as const;

export const transferSchema = z.object({
  id: z.string(),
  device: z.string().nullable(),
  deviceName: z.string().nullable(),
  site: z.string().nullable(),
  /** `tftp-write`: the device sends a file of its own. */
  protocol: z.enum([...storeProtocols, 'push', 'tftp-write']),
  peer: z.string(),
  file: z.string(),
  image: sha256.nullable(),
  /** `awaited`: the device was told to fetch, and has not asked yet. */
  state: z.enum(transferStates),
  askedAt: moment,
  endedAt: moment.nullable(),
  askedOptions: z.record(z.string(), z.string()),
  blockSize: z.number().int().nullable(),
  windowSize: z.number().int().nullable(),
  bytes: z.number().int(),
  totalBytes: z.number().int(),
  /** Octets in a second, lately. */
  rate: z.number(),
  /** Octets in a second, newest last, one for each stretch of its time; at most sixty. */
  rates: z.array(z.number()),
  /** Seconds until it is done at this rate; null when that cannot be said. */
  secondsLeft: z.number().nullable(),
  block: z.number().int(),
  resent: z.number().int(),
  /** Whether the device holds the very content, by its digest; null: not compared. */
  verified: z.boolean().nullable(),
  /** By what it was compared with what the device holds; `nothing`: the device cannot tell; null: not looked at. */
  comparedBy: z.enum(['digest', 'size', 'nothing']).nullable(),
  detail: z.string().nullable(),
  /** Why it does not go well, the first of what was found; null while nothing is wrong. */
  cause: causeShape.nullable(),
  evidence: z.array(z.string()),
});
export type Transfer = z.infer<typeof transferSchema>;

const packetSchema = z.object({
  /** Milliseconds after the first one. */
  afterMs: z.number(),
  from: z.enum(['barrow', 'device']),
  /** Octets of the UDP payload. */
  octets: z.number().int(),
  says: z.string(),
});

export const transferStorySchema = transferSchema.extend({
  /** All that was found, the cause first. */
  findings: z.array(z.object({ cause: causeShape, evidence: z.array(z.string()) })),
  /** The first twenty and the last two hundred packets; none of HTTP. */
  packets: z.array(packetSchema),
  /** Packets between the first and the last that were not kept. */
  packetsLeftOut: z.number().int(),
  /** Other requests and transfers of this device around that time. */
  around: z.array(transferSchema),
});
export type TransferStory = z.infer<typeof transferStorySchema>;

export const places = ['device', 'parent', 'site-store'] as const;
export type Place = (typeof places)[number];
export const deliveryStates = ['waiting', 'moving', 'verifying', 'verified', 'brought', 'failed', 'stopped'] as const;

/** An image on its way to where its devices can take it, or there. */
export const deliverySchema = z.object({
  id: z.string(),
  image: sha256,
  file: z.string(),
  family: z.string(),
  version: z.string(),
  totalBytes: z.number().int(),
  place: z.enum(places),
  /** The device, its parent, or the site whose store it is. */
  holder: z.object({ id: z.string().nullable(), name: z.string() }),
  site: z.string(),
  /** For whom. */
  devices: z.array(z.object({ id: z.string(), name: z.string() })),
  state: z.enum(deliveryStates),
  bytes: z.number().int(),
  rate: z.number(),
  /** Seconds until it is there, those that go before it on the same link counted; null when that cannot be said. */
  secondsLeft: z.number().nullable(),
  cause: causeShape.nullable(),
  detail: z.string().nullable(),
  /** What was removed there to make room. */
  removed: z.array(z.string()),
  /** The digest that the holder told, or that was read back. */
  digestThere: z.string().nullable(),
  /** The transfers of it, newest first. */
  transfers: z.array(z.string()),
  createdAt: moment,
  createdBy: z.string(),
  endedAt: moment.nullable(),
});
export type Delivery = z.infer<typeof deliverySchema>;

export const deliveryInput = z.strictObject({
  image: z.string(),
  /** Ids, names or addresses; for a site store they name its site. */
  devices: z.array(z.string()).min(1).max(10_000),
  place: z.enum(places),
  /** Remove what nobody needs, as the family allows, when there is not enough space. */
  makeRoom: z.boolean().default(false),
});
export type DeliveryInput = z.input<typeof deliveryInput>;

/** What a delivery would find and do, asked of the holder now. */
export const deliveryPlanSchema = z.object({
  items: z.array(
    z.object({
      holder: z.string(),
      devices: z.array(z.string()),
      totalBytes: z.number().int(),
      freeBytes: z.number().nullable(),
      holds: z.array(z.object({ file: z.string(), bytes: z.number().nullable(), use: z.string(), removable: z.boolean() })),
      alreadyThere: z.boolean(),
      wouldRemove: z.array(z.string()),
      fits: z.boolean().nullable(),
      seconds: z.number().nullable(),
      /** From then on its next reset brings the image. */
      arms: z.boolean(),
      problem: z.string().nullable(),
    }),
  ),
});
export type DeliveryPlan = z.infer<typeof deliveryPlanSchema>;

export const armedSchema = z.object({ version: z.string(), since: moment, by: z.string() });
export type Armed = z.infer<typeof armedSchema>;

/** A place at a site that its devices fetch from instead of Barrow's stores. */
export const siteStoreInput = z.strictObject({
  /** How its devices see it: `tftp://ADDRESS:PORT` or `http://ADDRESS:PORT/FOLDER`. */
  serve: z.string().regex(/^(tftp|http):\/\/[^/\s]+(\/[^\s]*)?$/, 'tftp://ADDRESS:PORT or http://ADDRESS:PORT/FOLDER'),
  /** How Barrow fills it: `sftp://ADDRESS:PORT/FOLDER` or `http://ADDRESS:PORT/FOLDER` (PUT). */
  fill: z.string().regex(/^(sftp|http|https):\/\/[^/\s]+\/[^\s]*$/, 'sftp://ADDRESS:PORT/FOLDER or http://ADDRESS:PORT/FOLDER'),
  credential: z.string().nullable().default(null),
  /** The SSH host key of an SFTP place, `SHA256:…`; null: the one seen first is pinned. */
  hostKey: z.string().max(100).nullable().default(null),
});
export type SiteStore = z.infer<typeof siteStoreInput>;

export const siteInput = z.strictObject({
  /** Kilobits in a second; null: as fast as it goes. */
  linkKilobits: z.number().int().min(1).max(100_000_000).nullable().optional(),
  /** The address at which its devices see Barrow's stores; null: the one that the stores listen at. */
  storeAddress: addressOrHost.nullable().optional(),
  store: siteStoreInput.nullable().optional(),
  /** When its devices may go down, where a plan says nothing else; null: at any time. */
  window: windowInput.nullable().optional(),
  /** Who is there, and how they are reached; null: nobody said. */
  contact: z.string().trim().min(1).max(200).nullable().optional(),
  /** What somebody there said when they were asked whether a lift, an alarm, a door or an emergency phone hangs on its devices. */
  asked: z.string().trim().min(1).max(300).nullable().optional(),
  /** The device of this site on which Barrow's own machine hangs, by name, address or id; null: what is seen counts. */
  here: z.string().trim().min(1).max(200).nullable().optional(),
});
export type SiteInput = z.input<typeof siteInput>;

export const siteSchema = z.object({
  name: z.string(),
  devices: z.number().int(),
  linkKilobits: z.number().int().nullable(),
  storeAddress: z.string().nullable(),
  store: siteStoreInput.nullable(),
  window: windowInput.nullable(),
  /** The same as it is said. */
  windowText: z.string().nullable(),
  /** Who is there, and how they are reached. */
  contact: z.string().nullable().default(null),
  /** What somebody there said of what lives hang on; null: nobody was asked. */
  asked: z.string().nullable().default(null),
  /** On which of its devices Barrow's own machine hangs, and whether a person said so; null: on none of them, as far as is known. */
  here: z.object({ device: z.string(), name: z.string(), told: z.boolean() }).nullable().default(null),
  /** Octets that wait or move for it now. */
  waitingBytes: z.number().int(),
  /** Seconds until all is staged there at what it is given; null when nothing waits, or that cannot be said. */
  secondsLeft: z.number().nullable(),
});
export type Site = z.infer<typeof siteSchema>;

/** What was found when the stores were tried. */
export const storeCheckSchema = z.object({
  stores: z.array(
    z.object({
      protocol: z.enum(storeProtocols),
      address: z.string(),
      port: z.number().int(),
      /** A file made for this was fetched whole. */
      works: z.boolean(),
      detail: z.string(),
    }),
  ),
  sites: z.array(z.object({ site: z.string(), address: z.string(), works: z.boolean().nullable(), detail: z.string() })),
  devices: z.array(z.object({ name: z.string(), address: z.string(), reaches: z.boolean().nullable(), detail: z.string() })),
});
export type StoreCheck = z.infer<typeof storeCheckSchema>;

/** What to enter into a DHCP server for devices that are told by it where to fetch from. */
export const dhcpSchema = z.object({
  items: z.array(
    z.object({
      site: z.string(),
      devices: z.array(z.string()),
      file: z.string(),
      /** RFC 2132 §9.4 (66) and §9.5 (67), RFC 5859 (150). */
      options: z.array(z.object({ code: z.number().int(), name: z.string(), value: z.string() })),
      warnings: z.array(z.string()),
    }),
  ),
});
export type Dhcp = z.infer<typeof dhcpSchema>;
