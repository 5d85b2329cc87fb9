import { z } from 'zod';
import { kinds } from '../units.js';
import { standings } from '../standing/standing.js';
import { outcomes, rolloutPhases, runPhases, wavePhases } from '../scheduler/state.js';
import { windowInput } from './windows.js';
import { hazardCodes } from '../plan/hazards/kinds.js';
import { rungMeans } from '../plan/plan.js';
import { rolloutEventSchema, soakFindingSchema } from '../scheduler/events.js';
import { surenesses } from '../topology/topology.js';
import { components, resettable } from '../images/note.js';
import { services, toldSchema } from '../records/told.js';
import { addressOrHost, causeShape, moment, nameText, sha256Text as sha256 } from './common.js';
import { armedSchema, deliverySchema, transferSchema } from './staging.js';

export const roles = ['viewer', 'operator', 'admin'] as const;
export type Role = (typeof roles)[number];

/** RFC 9457 problem document, with a stable code and what to do next. */
export const problemSchema = z.object({
  type: z.string(),
  title: z.string(),
  status: z.number().int(),
  detail: z.string(),
  code: z.string(),
  next: z.string(),
});
export type Problem = z.infer<typeof problemSchema>;

export const probeNames = ['snmp', 'ssh', 'http', 'onvif', 'sip'] as const;
export type ProbeName = (typeof probeNames)[number];
const port = z.number().int().min(1).max(65535);

export const networkInput = z.strictObject({
  name: nameText(60),
  site: nameText(60),
  ranges: z.array(z.string().min(1).max(100)).min(1).max(200),
  exclude: z.array(z.string().min(1).max(100)).max(200).default([]),
  snmpPort: port.default(161),
  sshPort: port.default(22),
  httpPort: port.default(80),
  httpsPort: port.default(443),
  wsDiscoveryPort: port.default(3702),
  sipPort: port.default(5060),
  /** What is tried there. */
  probes: z
    .array(z.enum(probeNames))
    .min(1)
    .default([...probeNames]),
  credentials: z.array(z.string()).max(20).default([]),
  packetsPerSecond: z.number().int().min(1).max(20_000).default(500),
  storeAddress: addressOrHost.nullable().default(null),
  /** What the next discovery of it finds is approved as it is, passwords included; false again once that has ended. */
  trustNow: z.boolean().default(false),
});
export const networkSchema = networkInput.extend({ id: z.string(), name: z.string(), site: z.string(), addresses: z.number().int() });
export type NetworkInput = z.input<typeof networkInput>;
export type Network = z.infer<typeof networkSchema>;

/** What a person may change of a network that is there. */
export const networkChange = z.strictObject({
  site: nameText(60).optional(),
  ranges: z.array(z.string().min(1).max(100)).min(1).max(200).optional(),
  exclude: z.array(z.string().min(1).max(100)).max(200).optional(),
  snmpPort: port.optional(),
  sshPort: port.optional(),
  httpPort: port.optional(),
  httpsPort: port.optional(),
  wsDiscoveryPort: port.optional(),
  sipPort: port.optional(),
  probes: z.array(z.enum(probeNames)).min(1).optional(),
  credentials: z.array(z.string()).max(20).optional(),
  packetsPerSecond: z.number().int().min(1).max(20_000).optional(),
  storeAddress: addressOrHost.nullable().optional(),
  trustNow: z.boolean().optional(),
});
export type NetworkChange = z.input<typeof networkChange>;

export const credentialKinds = [
  'snmp-v2c',
  'snmp-v3',
  'ssh-password',
  'ssh-key',
  'http-basic',
  'http-digest',
  'http-token',
  'onvif',
] as const;
export type CredentialKind = (typeof credentialKinds)[number];

export const credentialInput = z.strictObject({
  name: nameText(60),
  kind: z.enum(credentialKinds),
  /** The user to log in as; absent for SNMP v2c and tokens. */
  user: z.string().max(100).nullable().default(null),
  /** Community, authentication key, password, private key or token. */
  secret: z.string().min(1).max(20_000),
  /** SNMP v3: the privacy key. SSH key: its passphrase. SSH password: the second word that gives more rights. */
  second: z.string().min(1).max(1000).nullable().default(null),
  /** SSH key: the second word that gives more rights. */
  raise: z.string().min(1).max(1000).nullable().default(null),
  /** SNMP v3 authentication: SHA-1 or SHA-256. */
  auth: z.enum(['sha1', 'sha256']).nullable().default(null),
});
export const credentialSchema = credentialInput.omit({ secret: true, second: true, raise: true }).extend({
  id: z.string(),
  name: z.string(),
  hasSecond: z.boolean(),
  createdAt: moment,
  networks: z.array(z.string()),
  devices: z.number().int(),
});
export type CredentialInput = z.input<typeof credentialInput>;
export type Credential = z.infer<typeof credentialSchema>;

const byHandEnd = z.object({ device: z.string(), port: z.string().nullable() });

export const pathStepSchema = z.object({
  sha256,
  file: z.string(),
  version: z.string(),
  component: z.enum(components),
  /** What runs before this step. */
  from: z.string(),
  /** The partner that takes it; null: the device itself. */
  on: z.object({ id: z.string(), name: z.string() }).nullable(),
  /** What the device loses by it. */
  resets: z.array(z.enum(resettable)),
  notices: z.array(z.string()),
});
export type PathStepView = z.infer<typeof pathStepSchema>;

export const deviceSchema = z.object({
  id: z.string(),
  name: z.string(),
  /** null: it has none of its own, and is known only through its parent. */
  address: z.string().nullable(),
  kind: z.enum(kinds),
  maker: z.string().nullable(),
  model: z.string().nullable(),
  hardwareRevision: z.string().nullable(),
  variant: z.string().nullable(),
  serial: z.string().nullable(),
  mac: z.string().nullable(),
  firmware: z.string().nullable(),
  /** Why the firmware is not known, and how one could find out. */
  firmwareNote: z.string().nullable(),
  bootLoader: z.string().nullable(),
  /** It takes another version at its next reset, whatever causes that; null when it does not, as far as is known. */
  armed: armedSchema.nullable(),
  family: z.string().nullable(),
  familyEvidence: z.string().nullable(),
  /** Whether Barrow can upgrade it, not only record it. */
  upgradable: z.boolean(),
  site: z.string(),
  network: z.string(),
  parent: z.string().nullable(),
  parentName: z.string().nullable(),
  tags: z.array(z.string()),
  note: z.string(),
  /** Since when it is out of service, on whose word, and which device took its place; null: it is in service. */
  retired: z.object({ at: moment, by: z.string(), replacedBy: z.string().nullable() }).nullable(),
  flags: z.array(z.object({ flag: z.string(), detail: z.string(), other: z.string().nullable(), at: moment })),
  upSince: moment.nullable(),
  firstSeen: moment,
  lastSeen: moment,
  standing: z.enum(standings),
  target: z.string().nullable(),
  standingReason: z.string().nullable(),
  /** By which rule the target is what it is, in words; null without one. */
  targetWhy: z.string().nullable(),
  /** Whether a person keeps it at its version, and until when that is not asked again. */
  pin: z.object({ version: z.string(), reason: z.string(), askAgain: z.string(), due: z.boolean() }).nullable(),
  /** The images to pass on the way to the target, in order; those that a partner takes first say so. */
  path: z.array(pathStepSchema),
  /** What the whole way costs, the partner's part among it. */
  pathReboots: z.number().int(),
  pathBytes: z.number().int(),
  /** What the store would have to have, when it is blocked by that. */
  lacking: z.string().nullable(),
  /** The rollout that is upgrading it now. */
  rollout: z.string().nullable(),
});
export type Device = z.infer<typeof deviceSchema>;

export const observationSchema = z.object({
  probe: z.string(),
  address: z.string(),
  at: moment,
  /** The same was heard again until then, `times` in all. */
  lastAt: moment,
  times: z.number().int(),
  raw: z.record(z.string(), z.unknown()),
  parsed: z.record(z.string(), z.unknown()),
});
export type Observation = z.infer<typeof observationSchema>;

const mapEnd = z.object({ device: z.string(), name: z.string(), port: z.string().nullable() });
const evidenceShape = z.array(z.object({ how: z.string(), sure: z.enum(surenesses) }));
export const linkSchema = z.object({
  a: mapEnd,
  b: mapEnd,
  medium: z.enum(['wired', 'wireless']),
  speedMbps: z.number().nullable(),
  bundled: z.number().int(),
  sure: z.enum(surenesses),
  evidence: evidenceShape,
});
export const feedSchema = z.object({ from: mapEnd, to: mapEnd, sure: z.enum(surenesses), evidence: evidenceShape });
export const strangerSchema = z.object({
  name: z.string().nullable(),
  description: z.string().nullable(),
  mac: z.string().nullable(),
  addresses: z.array(z.string()),
  heardBy: z.string(),
  port: z.string().nullable(),
});
export const mapSchema = z.object({
  devices: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      kind: z.enum(kinds),
      site: z.string(),
      address: z.string().nullable(),
      model: z.string().nullable(),
      firmware: z.string().nullable(),
      parent: z.string().nullable(),
      ports: z.number().int(),
      noUplink: z.boolean(),
      noFeed: z.boolean(),
      flagged: z.boolean(),
      /** Where its serial console is plugged in. */
      console: mapEnd.nullable(),
      /** What it gives that others need to come back, and to whom, in words. */
      gives: z.string().nullable(),
    }),
  ),
  /** Who is there, by site; a site of which nobody said is left out. */
  contacts: z.record(z.string(), z.string()),
  links: z.array(linkSchema),
  feeds: z.array(feedSchema),
  strangers: z.array(strangerSchema),
  unknownFeeds: z.array(mapEnd),
});
export type DeviceMap = z.infer<typeof mapSchema>;

/** Lists of devices that want a look. */
export const deviceOnly = ['flagged', 'awaiting-approval', 'unrecognised', 'firmware-unknown', 'by-hand'] as const;
export type DeviceOnly = (typeof deviceOnly)[number];

/** One device with everything that is known of it. */
export const deviceDetailSchema = deviceSchema.extend({
  hostKey: z.string().nullable(),
  /** A key that it showed instead of the pinned one, to be accepted knowingly. */
  shownHostKey: z.string().nullable(),
  /** By whom, when and as what it was approved, so that passwords may be sent to it; null: not yet. */
  approved: z
    .object({ at: moment, by: z.string(), address: z.string(), hostKey: z.string().nullable(), family: z.string().nullable() })
    .nullable(),
  addresses: z.array(z.string()),
  members: z.array(
    z.object({
      name: z.string().nullable(),
      serial: z.string().nullable(),
      model: z.string().nullable(),
      firmware: z.string().nullable(),
      hardwareRevision: z.string().nullable(),
    }),
  ),
  /** Which probe told each field. */
  believedBy: z.record(z.string(), z.string()),
  byHand: z.array(z.string()),
  feedByHand: byHandEnd.nullable(),
  uplinkByHand: byHandEnd.nullable(),
  /** What a person told of it besides, and the access points beside it by name. */
  told: toldSchema,
  radioNames: z.array(z.string()),
  /** The same in words, with what it showed itself; `by`: whether a person told it. */
  also: z.array(z.object({ what: z.string(), text: z.string(), by: z.enum(['hand', 'device']) })),
  credentials: z.record(z.string(), z.string()),
  canLocate: z.boolean(),
  /** What a family file would need to know of it, when none fits. */
  familyWouldNeed: z.array(z.string()),
  children: z.array(
    z.object({ id: z.string(), name: z.string(), kind: z.enum(kinds), firmware: z.string().nullable(), present: z.boolean() }),
  ),
  links: z.array(linkSchema),
  feeds: z.array(feedSchema),
  strangers: z.array(strangerSchema),
  /** What goes dark if this reboots. */
  dark: z.array(
    z.object({
      device: z.string(),
      name: z.string(),
      kind: z.enum(kinds),
      site: z.string(),
      why: z.enum(['power', 'connection', 'parent']),
      through: z.string(),
    }),
  ),
  observations: z.array(observationSchema),
});
export type DeviceDetail = z.infer<typeof deviceDetailSchema>;

/** A host as it showed itself, named in full by who approves it: nobody approves what they have not seen. */
export const hostToApprove = z.strictObject({
  device: z.string().min(1),
  address: z.string(),
  hostKey: z.string().nullable(),
  family: z.string().nullable(),
});
export type HostToApprove = z.infer<typeof hostToApprove>;
/** A host that gets no password until a person has approved it. */
export const waitingHostSchema = hostToApprove.extend({
  name: z.string(),
  site: z.string(),
  network: z.string(),
  /** By what it was recognised. */
  familyEvidence: z.string().nullable(),
  /** What waits, in words. */
  detail: z.string(),
  since: moment,
});
export type WaitingHost = z.infer<typeof waitingHostSchema>;
export const approvalResult = z.object({
  approved: z.array(z.string()),
  /** What was not approved, and why. */
  left: z.array(z.object({ device: z.string(), why: z.string() })),
});
export type ApprovalResult = z.infer<typeof approvalResult>;

export const historySchema = z.object({
  at: moment,
  field: z.string(),
  before: z.string().nullable(),
  after: z.string().nullable(),
  probe: z.string(),
});
export type HistoryEntry = z.infer<typeof historySchema>;

/** What a person may set of a device; what is absent stays, null gives it back to the probes. */
export const deviceChange = z.strictObject({
  name: nameText(120).nullable().optional(),
  site: nameText(60).nullable().optional(),
  kind: z.enum(kinds).nullable().optional(),
  /** By whose procedures it is handled, when no probe recognises it rightly. */
  family: z.string().min(1).max(120).nullable().optional(),
  /** Version and hardware as a person read them off the device. A later discovery replaces them. */
  firmware: z.string().min(1).max(80).nullable().optional(),
  hardwareRevision: z.string().min(1).max(40).nullable().optional(),
  /** `plain`: it is none of the variants that its family has. */
  variant: z.string().min(1).max(40).nullable().optional(),
  /** Whether it is out of service: it stays in the records, and is in no plan. */
  retired: z.boolean().optional(),
  tags: z.array(z.string().min(1).max(40)).max(50).optional(),
  /** These besides those that it has, and without these. */
  addTags: z.array(z.string().min(1).max(40)).max(50).optional(),
  removeTags: z.array(z.string().min(1).max(40)).max(50).optional(),
  note: z.string().max(2000).optional(),
  /** Another device by id, name, address, serial or MAC. */
  parent: z.string().nullable().optional(),
  /** `DEVICE` or `DEVICE:PORT`. */
  feed: z.string().nullable().optional(),
  uplink: z.string().nullable().optional(),
  /** Where its serial console is plugged in: `DEVICE` or `DEVICE:PORT`. */
  console: z.string().nullable().optional(),
  /** What it gives to others, that they need to come back, and to which sites: to its own when absent, to all when there is none. */
  serves: z.array(z.enum(services)).max(services.length).nullable().optional(),
  servesSites: z.array(z.string().min(1).max(60)).max(500).nullable().optional(),
  /** The access points, by name, that reach where it reaches; none when nobody else does. */
  radio: z.array(z.string().min(1).max(120)).max(100).nullable().optional(),
  /** Who decides on its firmware. */
  decidedBy: z.string().min(1).max(200).nullable().optional(),
  /** The last day of its licence. */
  licenceUntil: z.iso.date().nullable().optional(),
  supplies: z.number().int().min(1).max(64).nullable().optional(),
});
export type DeviceChange = z.input<typeof deviceChange>;

/** A device entered by hand. */
export const deviceEntry = deviceChange.extend({
  name: nameText(120),
  site: z.string().min(1).max(60),
  kind: z.enum(kinds).default('other'),
  address: z.string().max(60).nullable().default(null),
  maker: z.string().max(120).nullable().default(null),
  model: z.string().max(120).nullable().default(null),
  serial: z.string().max(120).nullable().default(null),
  mac: z.string().max(40).nullable().default(null),
  firmware: z.string().max(120).nullable().default(null),
  hardwareRevision: z.string().max(40).nullable().default(null),
});
export type DeviceEntry = z.input<typeof deviceEntry>;

export const importInput = z.strictObject({
  form: z.enum(['csv', 'json']),
  text: z.string().max(20_000_000),
  dryRun: z.boolean().default(false),
});
export const importResult = z.object({
  dryRun: z.boolean(),
  rows: z.array(
    z.object({
      row: z.number().int(),
      device: z.string().nullable(),
      name: z.string(),
      what: z.enum(['new', 'changed', 'same', 'refused']),
      /** What would change, or why it is refused. */
      detail: z.array(z.string()),
    }),
  ),
  written: z.number().int(),
});
export type ImportResult = z.infer<typeof importResult>;

export const discoverySchema = z.object({
  id: z.string(),
  state: z.enum(['running', 'done', 'stopped', 'failed']),
  /** What it does now: asks by datagram, tries connections, reads what answered, follows neighbours, settles who is who. */
  stage: z.enum(['asking', 'connecting', 'reading', 'following', 'settling', 'ended']),
  startedAt: moment,
  endedAt: moment.nullable(),
  startedBy: z.string(),
  networks: z.array(z.string()),
  addresses: z.number().int(),
  /** Addresses in other networks that devices name as their neighbours (LLDP); part of `addresses`. */
  neighbours: z.number().int().default(0),
  /** Addresses whose turn has come. */
  asked: z.number().int(),
  /** Addresses that answered anything. */
  answered: z.number().int(),
  /** Datagrams from addresses that were not asked, or that could not be read. */
  strangeDatagrams: z.number().int(),
  /** What is being read at this moment. */
  trying: z.array(z.string()),
  counts: z.object({
    new: z.number().int(),
    changed: z.number().int(),
    moved: z.number().int(),
    same: z.number().int(),
    unrecognised: z.number().int(),
  }),
  /** Live events carry only the last of them; the whole list comes with the discovery itself. */
  found: z.array(
    z.object({
      device: z.string(),
      name: z.string(),
      address: z.string().nullable(),
      what: z.enum(['new', 'changed', 'moved', 'same']),
      recognised: z.boolean(),
      kind: z.enum(kinds),
      detail: z.string(),
      flags: z.array(z.string()),
    }),
  ),
  silent: z.array(z.object({ device: z.string(), name: z.string(), address: z.string().nullable(), lastSeen: moment })),
  /** Neighbours that were named and are not in the records: outside of the networks, or they did not answer. */
  seen: z.array(
    z.object({
      name: z.string().nullable(),
      address: z.string().nullable(),
      mac: z.string().nullable(),
      heardBy: z.string(),
      port: z.string().nullable(),
      why: z.enum(['out-of-range', 'no-answer']),
    }),
  ),
  /** What answered and would not let us in, or could not be read. */
  troubles: z.array(z.object({ address: z.string(), probe: z.string(), cause: z.string(), detail: z.string() })),
  problems: z.array(z.string()),
});
export type Discovery = z.infer<typeof discoverySchema>;

export const familySummarySchema = z.object({
  family: z.string(),
  title: z.string(),
  maker: z.string(),
  kind: z.enum(kinds),
  models: z.array(z.object({ model: z.string(), variant: z.string(), revisions: z.array(z.string()) })),
  upgradable: z.boolean(),
  recognisedBy: z.array(z.string()),
  procedures: z.array(z.string()),
  /** null for a family that is only recorded. */
  storage: z.string().nullable(),
  travel: z.string().nullable(),
  /** How it takes images; none when it is only recorded. */
  ways: z.array(
    z.object({
      name: z.string(),
      component: z.string(),
      /** The versions from which it leads, in words; null: from every one. */
      from: z.string().nullable(),
      steps: z.array(z.string()),
      pointOfNoReturn: z.string(),
    }),
  ),
  devices: z.number().int(),
  /** Whether its file was added here; the others came with Barrow. */
  added: z.boolean(),
  /** What works with it, and what is missing for more, in sentences. */
  works: z.array(z.string()).default([]),
  /** Of a family that was added here: models of which none was upgraded and verified yet. */
  unproven: z.array(z.string()).default([]),
});
export type FamilySummary = z.infer<typeof familySummarySchema>;

/** A family file that was taken in. */
export const familyAddedSchema = z.object({
  family: z.string(),
  title: z.string(),
  what: z.enum(['added', 'replaced', 'the same']),
  works: z.array(z.string()),
  /** What does not fit together in it, and what is not as it was recorded. */
  remarks: z.array(z.string()),
  /** So many conversations came with it, and are kept beside it. */
  conversations: z.number().int(),
});
export type FamilyAdded = z.infer<typeof familyAddedSchema>;

const waveName = nameText(60);
const soakSeconds = z
  .number()
  .int()
  .min(0)
  .max(30 * 86_400);
const failureLimit = z.number().int().min(1).max(10_000);

export const planInput = z.strictObject({
  name: nameText(100).optional(),
  /** Device ids, names, addresses or serials; all that are behind when empty. */
  devices: z.array(z.string()).max(20_000).default([]),
  site: z.string().nullable().default(null),
  family: z.string().nullable().default(null),
  model: z.string().nullable().default(null),
  kind: z.enum(kinds).nullable().default(null),
  tag: z.string().nullable().default(null),
  /** Waves that go before all others, in this order, with devices by id, name, address or serial. */
  waves: z
    .array(z.strictObject({ name: waveName, devices: z.array(z.string()).min(1).max(20_000) }))
    .max(50)
    .default([]),
  /** How many go first of those that no wave was named for; one of each family and model when not said and no wave was. */
  first: z.number().int().min(0).max(1000).optional(),
  /** How the others are divided into waves: one for each site, kind or family, or these hundredths of them in turn. */
  by: z
    .union([z.enum(['site', 'kind', 'family']), z.array(z.number().min(1).max(100)).min(1).max(20)])
    .nullable()
    .default(null),
  /** What of the gate after a wave is otherwise than of all, by its name. */
  gates: z
    .record(
      waveName,
      z.strictObject({
        soakSeconds: soakSeconds.optional(),
        failureLimit: failureLimit.optional(),
        failureShare: z.number().min(1).max(100).optional(),
        absentLimit: z.number().int().min(0).max(10_000).optional(),
        approval: z.boolean().optional(),
      }),
    )
    .default({}),
  atOnce: z.number().int().min(1).max(1000).default(4),
  perSite: z.number().int().min(0).max(1000).default(0),
  /** How far apart devices of one site begin to go down: inrush, registrations. */
  apartSeconds: z.number().int().min(0).max(86_400).default(0),
  soakSeconds: soakSeconds.optional(),
  failureLimit: failureLimit.default(1),
  /** Which share of a wave, in hundredths, holds the rollout as well. */
  failureShare: z.number().min(1).max(100).optional(),
  /** How many absent ones at the end of a wave are too many to go on. */
  absentLimit: z.number().int().min(0).max(10_000).optional(),
  approval: z.boolean().default(false),
  unsaved: z.enum(['hold', 'save']).default('hold'),
  /** Whether a device that fails past its point of no return is taken back at once to what it ran. */
  wayBack: z.boolean().default(false),
  /** When devices may go down; at any time when absent. */
  window: windowInput.nullable().default(null),
  /** Whether each device is looked at again after the soak, and its other copy then brought level, where its family can. */
  level: z.boolean().default(false),
  /** A rollout whose verified devices go back to what they ran before it; their targets do not count then. */
  backFrom: z.string().nullable().default(null),
  /** Also plans the way down for devices that run something newer than their target; they must be named. */
  down: z.boolean().default(false),
});
export type PlanInput = z.input<typeof planInput>;

export const runViewSchema = z.object({
  id: z.string(),
  device: z.string(),
  name: z.string(),
  address: z.string(),
  site: z.string(),
  family: z.string(),
  serial: z.string(),
  from: z.string(),
  target: z.string(),
  /** The image of the last leg. */
  image: sha256,
  file: z.string(),
  /** The images on its way, in their order; each is checked before the next. */
  legs: z.array(z.object({ image: sha256, file: z.string(), component: z.string(), from: z.string(), to: z.string() })),
  /** Index of the leg that it is in, or that is next. */
  leg: z.number().int(),
  /** Index into the passages of the rollout. */
  passage: z.number().int(),
  /** What has to be known before it begins. */
  notices: z.array(z.string()),
  wave: z.number().int(),
  phase: z.enum(runPhases),
  /** Of its legs: the one that it is in or before, or at which it failed. */
  step: z.string(),
  stepIndex: z.number().int(),
  stepCount: z.number().int(),
  stepBegunAt: moment.nullable(),
  attempt: z.number().int(),
  pastReturn: z.boolean(),
  /** What is tried, or tried next, since it failed; null while nothing is. */
  rung: z
    .object({ means: z.enum(rungMeans), text: z.string(), step: z.string(), stepIndex: z.number().int(), stepCount: z.number().int() })
    .nullable(),
  /** What was tried since it failed, and failed too. */
  tried: z.array(z.object({ means: z.enum(rungMeans), text: z.string(), step: z.string(), cause: causeShape, detail: z.string() })),
  /** What failed in this attempt, and by which rung it stands again; `unsure`: why nobody knows whether that was done. */
  mended: z.array(z.object({ text: z.string(), cause: causeShape, detail: z.string(), unsure: z.string().nullable() })),
  /** What would be tried if a person said so; null when nothing can be. */
  takeBack: z.string().nullable(),
  /** Who would lose their power if it were started anew by cutting its own, which a person may accept; null: nobody, or it cannot be. */
  cutsOff: z.array(z.string()).nullable(),
  outcome: z.enum(outcomes).nullable(),
  cause: causeShape.nullable(),
  detail: z.string().nullable(),
  begunAt: moment.nullable(),
  endedAt: moment.nullable(),
  /** It failed where it may still be down or writing: until it is seen, retried or released, nothing that it hangs on goes down. */
  guarded: z.boolean(),
  /** Who asked to leave it out, and why; obeyed as soon as the step in hand may be left. */
  /** What a person is asked to do now, and says when it is done; null when nothing is. */
  asks: z.string().nullable().default(null),
  /** It is answered in words, rather than said to be done. */
  asksToTell: z.boolean().default(false),
  wish: z.object({ by: z.string(), reason: z.string() }).nullable(),
  /** Why nothing happens to it now, as it is said after its name, and until when where that is known; null while something does. */
  waits: z.object({ text: z.string(), until: moment.nullable() }).nullable(),
  /** 0 to 100 while bytes move to the device; null otherwise. */
  percent: z.number().nullable(),
  /** Usual time that the device is down. */
  downMs: z.number().int(),
  /** Usual time of the whole run. */
  typicalMs: z.number().int(),
});
export type RunView = z.infer<typeof runViewSchema>;

const totals = z.record(z.enum([...outcomes, 'waiting', 'under-way']), z.number().int());

/** What keeps the service itself from working, in three parts. */
export const troubleShape = z.object({ code: z.string(), what: z.string(), why: z.string(), next: z.string(), since: moment.nullable() });
export type ServiceTrouble = z.infer<typeof troubleShape>;

/** How the service is: nothing, or what keeps it from working. */
export const healthSchema = z.object({ troubles: z.array(troubleShape) });
export type Health = z.infer<typeof healthSchema>;

export const rolloutSummarySchema = z.object({
  id: z.string(),
  name: z.string(),
  phase: z.enum(rolloutPhases),
  heldBecause: z.string().nullable(),
  heldBy: z.string().nullable(),
  createdAt: moment,
  createdBy: z.string(),
  startedAt: moment.nullable(),
  startedBy: z.string().nullable(),
  endedAt: moment.nullable(),
  devices: z.number().int(),
  totals,
  /** When it begins by itself, and by when it is to be done; null: nothing was said of that. */
  begins: z
    .object({
      /** null: it has begun. */
      at: moment.nullable(),
      /** After this it does not begin any more. */
      latest: moment.nullable(),
      doneBy: moment.nullable(),
      by: z.string(),
      /** Why it did not begin; null: it may still. */
      missed: z.string().nullable(),
    })
    .nullable()
    .default(null),
  /** Why it cannot go on although nobody holds it; null when it can. Absent in what was kept before. */
  trouble: troubleShape.nullable().default(null),
});
export type RolloutSummary = z.infer<typeof rolloutSummarySchema>;

/** What of a rollout changes while it runs, its runs left out. */
const moving = rolloutSummarySchema.extend({
  /** When its devices may go down, and when that is next, or until when it is now; null: at any time. */
  window: z.object({ text: z.string(), next: z.object({ from: moment, until: moment }).nullable() }).nullable(),
  /** All of them, where sites have windows of their own: each with how many devices go down in it. */
  windows: z
    .array(z.object({ text: z.string(), next: z.object({ from: moment, until: moment }).nullable(), devices: z.number().int() }))
    .default([]),
  currentWave: z.number().int(),
  waves: z.array(
    z.object({
      index: z.number().int(),
      name: z.string(),
      phase: z.enum(wavePhases),
      gate: z.object({
        soakMs: z.number().int(),
        failureLimit: z.number().int(),
        /** Which share of the wave, in hundredths, holds the rollout as well. */
        failureShare: z.number().optional(),
        /** How many absent ones at its end are too many. */
        absentLimit: z.number().int().optional(),
        approval: z.boolean(),
        /** Whether its devices are looked at while they soak. */
        watch: z.literal(true).optional(),
      }),
      approvedBy: z.string().nullable(),
      /** A person has it not opened, whatever the gate before it says. */
      heldBack: z.object({ by: z.string(), reason: z.string() }).nullable().default(null),
      /** Whether what its devices showed while they soaked was judged, and what of it got worse; null: nothing. */
      soak: z.object({ judged: z.boolean(), worse: z.string().nullable() }).default({ judged: false, worse: null }),
      /** When the soak ends; null unless it soaks. */
      soaksUntil: moment.nullable(),
      totals,
    }),
  ),
  /** The journal entry that this view includes. */
  journal: z.number().int(),
  /** By what later changes are asked for: a word of this service alone. */
  stand: z.string(),
});

export const rolloutSchema = moving.extend({
  unsaved: z.enum(['hold', 'save']),
  wayBack: z.boolean(),
  limits: z.record(z.string(), z.number().int()),
  /** How far apart devices of one site begin to go down; 0: no matter. */
  apartMs: z.number().int(),
  /** What runs pass through; runs share them. */
  /** How many devices' usual durations come from what it took here before, and from how many times at least and at most. */
  learned: z.object({ devices: z.number().int(), least: z.number().int(), most: z.number().int() }).nullable(),
  passages: z.array(
    z.object({
      steps: z.array(
        z.object({
          step: z.string(),
          leg: z.number().int(),
          meaning: z.string(),
          pastReturn: z.boolean(),
          afterSoak: z.boolean(),
          /** How long it usually takes. */
          usualMs: z.number(),
          /** What it took here at most of late, and how often it was seen to; null: its duration is that of the family file. */
          seen: z.object({ mostMs: z.number(), count: z.number().int() }).nullable(),
        }),
      ),
      /** What can be tried after a failure, in order; `steps` are those of its own, by the leg under which events name them. */
      rungs: z.array(
        z.object({ means: z.enum(rungMeans), text: z.string(), steps: z.array(z.object({ step: z.string(), leg: z.number().int() })) }),
      ),
    }),
  ),
  runs: z.array(runViewSchema),
  /** What a person has to be told of what they asked for. */
  remarks: z.array(z.string()),
  /** What could hurt, those first that have to be accepted before the start. */
  hazards: z
    .array(
      z.object({
        code: z.enum(hazardCodes),
        what: z.string(),
        accept: z.boolean(),
        groups: z.array(
          z.object({
            /** As it is said after the names. */
            words: z.string(),
            forMs: z.number().nullable(),
            devices: z.array(z.string()),
          }),
        ),
      }),
    )
    .default([]),
  leftOut: z.array(z.object({ device: z.string(), name: z.string(), reason: z.string() })),
});
export type Rollout = z.infer<typeof rolloutSchema>;

/** What has changed in a rollout since it was last looked at: what always may, and the runs that did, or all of them when that is not known. */
export const rolloutChangesSchema = moving.extend({ runs: z.array(runViewSchema) });
export type RolloutChanges = z.infer<typeof rolloutChangesSchema>;

const playedRunShape = z.object({
  run: z.string(),
  name: z.string(),
  wave: z.number().int(),
  beginsAt: moment,
  endsAt: moment,
  downFrom: moment.nullable(),
  downUntil: moment.nullable(),
  downs: z.number().int(),
  downMs: z.number().int(),
  /** The stretches that it is in, and why it was not in one at once. */
  parts: z.array(z.object({ name: z.string(), from: moment, until: moment, waited: z.string().nullable() })),
  /** When it is down. */
  dark: z.array(z.object({ from: moment, until: moment })),
  /** When it is cut off, or without power, because another of the plan is down. */
  cut: z.array(z.object({ from: moment, until: moment, by: z.string() })),
  outcome: z.enum(outcomes).nullable(),
  cause: z.string().nullable(),
  /** By which it would be tried to be taken back. */
  rungs: z.array(z.string()),
});
const playedWaveShape = z.object({ wave: z.number().int(), opensAt: moment, endsAt: moment });

export const rehearsalSchema = z.object({
  beginsAt: moment,
  endsAt: moment,
  totalMs: z.number().int(),
  mostAtOnce: z.number().int(),
  mostDown: z.number().int(),
  approvals: z.array(z.number().int()),
  /** What was imagined to go wrong, in words. */
  ifs: z.array(z.string()),
  /** When it would be held, and why. */
  holds: z.array(z.object({ at: moment, because: z.string() })),
  devices: z.number().int(),
  totals,
  /** Why it never comes to its end; null when it does. */
  stuck: z.string().nullable(),
  waves: z.array(playedWaveShape),
  runs: z.array(playedRunShape),
  /** What makes it as long as it is, first to last: devices that follow each other for one reason are one. Gaps are soaks. */
  chain: z.array(
    z.object({ names: z.array(z.string()), parts: z.array(z.string()), from: moment, until: moment, waited: z.string().nullable() }),
  ),
  /** The least that the same work could take under the limits of the plan, in whatever order; windows are left out of it. */
  leastMs: z.number().int(),
  /** When it may begin at the latest so that it is over by then; null: nothing bounds it, or it is not played for so many. */
  latest: z.object({ begin: moment, by: moment }).nullable(),
});
export type RehearsalView = z.infer<typeof rehearsalSchema>;

export const journalEntrySchema = z.object({ seq: z.number().int(), rollout: z.string(), event: rolloutEventSchema });
export type JournalEntry = z.infer<typeof journalEntrySchema>;

const checkShape = z.object({
  name: z.string(),
  result: z.enum(['passed', 'failed']),
  before: z.string(),
  after: z.string(),
  evidence: z.array(z.string()),
  cause: z.string().nullable(),
});

export const reportSchema = z.object({
  rollout: rolloutSummarySchema,
  madeAt: moment,
  /** The version of Barrow that made it. */
  madeBy: z.string().optional(),
  images: z.array(z.object({ sha256, file: z.string(), version: z.string(), bytes: z.number().int() })),
  runs: z.array(
    z.object({
      device: z.string(),
      name: z.string(),
      address: z.string(),
      site: z.string(),
      serial: z.string(),
      outcome: z.enum(outcomes).nullable(),
      cause: causeShape.nullable(),
      detail: z.string().nullable(),
      before: z.string(),
      /** The version it reported after its checks; null when it was not asked. */
      after: z.string().nullable(),
      target: z.string(),
      image: sha256,
      /** The digest that the device itself told of the image. */
      digestOnDevice: z.string().nullable(),
      backup: sha256.nullable(),
      begunAt: moment.nullable(),
      endedAt: moment.nullable(),
      /** From the reboot being sent until it answered again. */
      downMs: z.number().int().nullable(),
      steps: z.array(
        z.object({ step: z.string(), leg: z.number().int(), begunAt: moment, endedAt: moment.nullable(), result: z.string() }),
      ),
      checks: z.array(checkShape),
      attempts: z.number().int(),
      /** The attempts before the last: why each failed first, and which steps that change the device it had begun. */
      earlier: z.array(z.object({ at: moment, cause: causeShape, detail: z.string(), changed: z.array(z.string()) })).optional(),
      /** What was tried after its failure, and failed too. */
      tried: z.array(z.object({ text: z.string(), step: z.string(), cause: causeShape, detail: z.string() })),
      /** Every rung that was begun with: for what, and on whose word where it took one. `failed`: what came of it; null: it worked, once it has ended. */
      rungs: z.array(
        z.object({
          text: z.string(),
          for: z.object({ cause: causeShape, detail: z.string() }),
          by: z.string().nullable(),
          begunAt: moment,
          endedAt: moment.nullable(),
          failed: z.object({ cause: causeShape, detail: z.string() }).nullable(),
          /** Why nobody knows whether it was done; null where that is known. */
          unsure: z.string().nullable(),
        }),
      ),
    }),
  ),
  leftOut: z.array(z.object({ device: z.string(), name: z.string(), reason: z.string() })),
  deeds: z.array(z.object({ at: moment, by: z.string(), what: z.string() })),
  /**
   * Predicted and actual time in milliseconds, as a whole and of each wave. `withFailuresMs`: predicted with the failures that happened;
   * absent where none did, or where the simulation with them does not come to its end.
   */
  beside: z
    .object({
      rehearsedMs: z.number().int(),
      withFailuresMs: z.number().int().optional(),
      tookMs: z.number().int(),
      waves: z.array(
        z.object({
          wave: z.string(),
          rehearsedMs: z.number().int(),
          withFailuresMs: z.number().int().optional(),
          tookMs: z.number().int().nullable(),
        }),
      ),
    })
    .optional(),
  /** The hazards of the plan that a person accepted to begin, with who it was. */
  accepted: z
    .array(z.object({ hazard: z.string(), what: z.string(), by: z.string(), devices: z.number().int(), reason: z.string().optional() }))
    .optional(),
  /** What devices showed while they soaked, in words. */
  soaks: z
    .array(z.object({ wave: z.string(), at: moment, looks: z.number().int(), worse: z.string().nullable(), findings: z.array(z.string()) }))
    .optional(),
  /** What shows that nothing of it was changed since: the digest of each line, and of the journal's head, signed by this service. */
  proof: z
    .object({
      /** Ed25519 (RFC 8032), as SubjectPublicKeyInfo in base64 (RFC 8410). */
      publicKey: z.string(),
      /** The digest over all entries of the rollout's journal, to its last; null for one of before. */
      journal: z.object({ last: z.number().int(), head: z.string().nullable() }),
      /** The number of lines. */
      count: z.number().int(),
      /** SHA-256 of the report without its proof, as one text. */
      whole: z.string(),
      lines: z.array(z.object({ group: z.string(), digest: z.string() })),
      /** Over all of the above but the key, as RFC 8785 writes it; base64. */
      signature: z.string(),
    })
    .optional(),
});
export type Report = z.infer<typeof reportSchema>;

/** Which plan "latest" means for whoever asks. */
export const lastPlanSchema = z.object({ rollout: z.string().nullable(), asked: z.boolean() });

/** Something that somebody asked for and that was done, or a secret that was shown to them. */
export const deedSchema = z.object({
  id: z.number().int(),
  at: moment,
  who: z.string(),
  role: z.string(),
  /** In words. */
  what: z.string(),
  path: z.string(),
  /** The name of what it was about, where that is still known. */
  subject: z.string().nullable(),
  /** The changed values, before and after. Secrets are hidden. */
  changes: z.array(z.object({ field: z.string(), from: z.string().nullable(), to: z.string().nullable() })),
});
export type DeedView = z.infer<typeof deedSchema>;
export const deedsSchema = z.object({ items: z.array(deedSchema), more: z.boolean() });

export const runDetailSchema = z.object({
  run: runViewSchema,
  events: z.array(journalEntrySchema),
  checks: z.array(checkShape),
  conversations: z.array(z.object({ step: z.string(), at: moment, text: z.string() })),
});
export type RunDetail = z.infer<typeof runDetailSchema>;

/** For how long backups are kept: those older than so many days go, but of each device so many newest stay. */
export const retentionSchema = z.strictObject({
  days: z.number().int().min(1).max(36_500),
  least: z.number().int().min(1).max(1000),
});
export type RetentionView = z.infer<typeof retentionSchema>;

export const backupSchema = z.object({
  id: z.string(),
  sha256,
  device: z.string(),
  deviceName: z.string(),
  takenAt: moment,
  rollout: z.string().nullable(),
  bytes: z.number().int(),
  firmware: z.string().nullable(),
});
export type Backup = z.infer<typeof backupSchema>;

/** When a rollout under way comes to its end, as it stands, and when it would have by its rehearsal. */
/** How a whole rollout could be taken back again, before it has begun: how many of its devices, how long that takes, and who cannot. */
export const wayBackAheadSchema = z.object({
  devices: z.number().int(),
  takesMs: z.number(),
  /** Why it would not come to its end; null when it would. */
  stuck: z.string().nullable(),
  leftOut: z.array(z.object({ name: z.string(), reason: z.string() })),
});
export type WayBackAhead = z.infer<typeof wayBackAheadSchema>;

const versionStep = { family: z.string(), from: z.string(), to: z.string() };
/** Which differences of settings come with a version step, as a person has accepted them; secrets hidden. */
export const expectedSchema = z.object({ ...versionStep, lines: z.array(z.string()), by: z.string(), at: moment });
export type ExpectedView = z.infer<typeof expectedSchema>;
export const expectedSeenSchema = z.object({ ...versionStep, lines: z.array(z.string()), accepted: z.boolean() });
export type ExpectedSeen = z.infer<typeof expectedSeenSchema>;

/** What devices showed while they soaked, wave by wave. */
export const soakSchema = z.object({
  wave: z.number().int(),
  name: z.string(),
  at: moment,
  /** What got worse, and held the gate; null when nothing did. */
  worse: z.string().nullable(),
  /** How often the upgraded ones were looked at, all together. */
  looks: z.number().int(),
  findings: z.array(soakFindingSchema),
});
export type SoakView = z.infer<typeof soakSchema>;

export const foretoldSchema = z.object({
  endsAt: moment,
  plannedEndsAt: moment,
  /** The waves whose gates wait for a person, who is taken to say so at once. */
  approvals: z.array(z.string()),
  /** Why it never comes to its end as it stands; null when it does. */
  stuck: z.string().nullable(),
  /** A person holds it; it is taken to go on now. */
  held: z.boolean(),
});
export type ForetoldView = z.infer<typeof foretoldSchema>;

/** What happened in a rollout until now and is foretold of the rest, beside what its rehearsal said. */
export const timelineSchema = z.object({
  now: moment,
  beginsAt: moment,
  endsAt: moment,
  runs: z.array(playedRunShape),
  waves: z.array(playedWaveShape),
  rehearsed: z.object({ endsAt: moment, runs: z.array(z.object({ run: z.string(), beginsAt: moment, endsAt: moment })) }),
  stuck: z.string().nullable(),
});
export type TimelineView = z.infer<typeof timelineSchema>;

/** What became of settings that were to be put back: from what the device has to what was saved, and what it did not take. */
export const restoredSchema = z.object({
  device: z.string(),
  deviceName: z.string(),
  same: z.boolean(),
  added: z.number().int(),
  removed: z.number().int(),
  lines: z.array(z.string()),
  cut: z.number().int(),
  /** In the words of the device. */
  refused: z.array(z.string()),
  /** The backup of what it had before; null: nothing was changed. */
  before: z.string().nullable(),
});
export type RestoredView = z.infer<typeof restoredSchema>;

/** A spare takes the place of a device; without `backup` it gets the settings that were saved last. `look`: nothing is changed. */
export const swapInput = z.strictObject({
  spare: z.string().min(1),
  backup: z.string().min(1).nullable().default(null),
  look: z.boolean(),
});
export type SwapInput = z.input<typeof swapInput>;
export const swappedSchema = restoredSchema.extend({
  spare: z.string(),
  spareName: z.string(),
  /** The serial by which the spare is known. */
  spareSerial: z.string().nullable(),
  /** Whose settings it gets, and the version that wrote them. */
  backup: z.string(),
  firmware: z.string().nullable(),
  address: z.string(),
  done: z.boolean(),
});
export type SwappedView = z.infer<typeof swappedSchema>;

export const tokenInput = z.strictObject({ name: nameText(60), role: z.enum(roles) });
export const tokenSchema = tokenInput.extend({ id: z.string(), createdAt: moment, lastUsed: moment.nullable() });
export type TokenInput = z.input<typeof tokenInput>;
export type Token = z.infer<typeof tokenSchema>;

export const aboutSchema = z.object({
  name: z.literal('Barrow'),
  version: z.string(),
  role: z.enum(roles),
  who: z.string(),
  tftp: z.string(),
  startedAt: moment,
});
export type About = z.infer<typeof aboutSchema>;

/** What is told live. Entries of the journal carry its number and can be resumed; the rest is only true for now. */
export const liveEventSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('journal'), entry: journalEntrySchema }),
  z.object({ kind: z.literal('progress'), rollout: z.string(), run: z.string(), percent: z.number() }),
  z.object({ kind: z.literal('transfer'), transfer: transferSchema }),
  z.object({ kind: z.literal('delivery'), delivery: deliverySchema }),
  z.object({ kind: z.literal('discovery'), discovery: discoverySchema }),
  z.object({
    kind: z.literal('changed'),
    what: z.enum([
      'notices',
      'devices',
      'networks',
      'credentials',
      'images',
      'targets',
      'advisories',
      'families',
      'offers',
      'deliveries',
      'sites',
      'rollouts',
      'backups',
      'health',
    ]),
    /** What of it has changed, where it is only a few. */
    ids: z.array(z.string()).optional(),
  }),
]);
export type LiveEvent = z.infer<typeof liveEventSchema>;

/** A page of a list; `next` is the cursor of the page after it. */
export const pageOf = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item), next: z.string().nullable() });
