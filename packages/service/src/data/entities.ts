import { defineEntity, p, type EntitySchema, type InferEntity } from '@mikro-orm/core';
import type {
  Advisory,
  Approval,
  AuditChange,
  Around,
  Channel,
  ComparedBy,
  Component,
  Delivery,
  Flag,
  ImageNote,
  KeptPacket,
  Place,
  RolloutEvent,
  RolloutSummary,
  Shows,
  Told,
  Role,
  SiteStore,
  WindowInput,
  StackMember,
  Transfer,
  TransferFinding,
} from '@barrow/core';

/** Any table of ours. */
// eslint-disable-next-line @typescript-eslint/no-explicit-any -- the library's own bound for "any entity"
export type Entity = EntitySchema<any>;

/** A row as it is read: every column is there, and what is absent is null. */
export type Row<E extends Entity> = {
  [K in keyof InferEntity<E> as K extends string ? K : never]-?: Exclude<InferEntity<E>[K], undefined>;
};

/** Moments are milliseconds since 1970 in every table. */
const moment = () => p.bigint('number');

export const NetworkEntity = defineEntity({
  name: 'Network',
  tableName: 'network',
  properties: {
    id: p.string().primary(),
    name: p.string().unique(),
    site: p.string(),
    ranges: p.json<string[]>(),
    exclude: p.json<string[]>(),
    snmpPort: p.integer(),
    sshPort: p.integer(),
    credentials: p.json<string[]>(),
    packetsPerSecond: p.integer(),
    storeAddress: p.string().nullable(),
    httpPort: p.integer(),
    httpsPort: p.integer(),
    wsDiscoveryPort: p.integer(),
    sipPort: p.integer(),
    /** What is tried there, besides credentials. */
    probes: p.json<string[]>(),
    /** What its next discovery finds is approved. */
    trustNow: p.boolean(),
  },
});
export type NetworkRow = Row<typeof NetworkEntity>;

export const CredentialEntity = defineEntity({
  name: 'Credential',
  tableName: 'credential',
  properties: {
    id: p.string().primary(),
    name: p.string().unique(),
    kind: p.string(),
    user: p.string().nullable(),
    sealed: p.text(),
    /** The privacy key of SNMP v3, the passphrase of a key, the second word of a password that gives more rights. */
    second: p.text().nullable(),
    /** The second word that goes with a key. */
    raise: p.text().nullable(),
    settings: p.json<{ auth?: 'sha1' | 'sha256' }>(),
    createdAt: moment(),
  },
});
export type CredentialRow = Row<typeof CredentialEntity>;

export const DeviceEntity = defineEntity({
  name: 'Device',
  tableName: 'device',
  properties: {
    id: p.string().primary(),
    name: p.string(),
    address: p.string(),
    kind: p.string(),
    maker: p.string().nullable(),
    model: p.string().nullable(),
    hardwareRevision: p.string().nullable(),
    variant: p.string().nullable(),
    serial: p.string().nullable(),
    mac: p.string().nullable(),
    engineId: p.string().nullable(),
    firmware: p.string().nullable(),
    bootLoader: p.string().nullable(),
    family: p.string().nullable(),
    familyEvidence: p.string().nullable(),
    site: p.string(),
    network: p.string(),
    snmpCredential: p.string().nullable(),
    hostKey: p.string().nullable(),
    upSince: moment().nullable(),
    firstSeen: moment(),
    lastSeen: moment(),
    /** Since when it is out of service, on whose word, and which device took its place; null: it is in service. */
    retired: p.json<{ at: number; by: string; replacedBy: string | null }>().nullable(),
    /** Other addresses of its own. */
    addresses: p.json<string[]>(),
    /** Members of a stack. */
    members: p.json<StackMember[]>(),
    parent: p.string().nullable(),
    onParent: p.json<OnParent | null>().nullable(),
    outlets: p.json<{ outlet: string; label: string }[]>(),
    /** Which probe told each field. */
    believedBy: p.json<Record<string, string>>(),
    /** Why the firmware is not known, and how one could find out. */
    firmwareNote: p.text().nullable(),
    flags: p.json<DeviceFlag[]>(),
    /** Fields that a person set and no probe changes. */
    byHand: p.json<string[]>(),
    tags: p.json<string[]>(),
    note: p.text(),
    feedByHand: p.json<ByHandEnd | null>().nullable(),
    uplinkByHand: p.json<ByHandEnd | null>().nullable(),
    /** The credential that worked last, by protocol. */
    credentials: p.json<Record<string, string>>(),
    /** A key that it showed instead of the pinned one. */
    shownHostKey: p.string().nullable(),
    /** It takes this at its next reset, whatever causes that. */
    armed: p.json<{ version: string; at: number; by: string } | null>().nullable(),
    /** Addresses from which it fetches, as a person said. */
    fetchesFrom: p.json<string[]>(),
    /** Whether passwords may be sent to it. */
    approved: p.json<Approval | null>().nullable(),
    /** What a person told of it besides. */
    told: p.json<Told | null>().nullable(),
    /** What it showed of itself besides. */
    shows: p.json<Shows | null>().nullable(),
  },
});
export type DeviceRow = Row<typeof DeviceEntity>;
export interface OnParent {
  readonly port: string | null;
  readonly link: 'wired' | 'wireless' | 'none';
  readonly powered: boolean;
  /** Whether the parent says that it is there. */
  readonly present: boolean;
}
export interface ByHandEnd {
  readonly device: string;
  readonly port: string | null;
}
export interface DeviceFlag {
  readonly flag: Flag['flag'] | 'host-key' | 'displaced' | 'awaiting-approval';
  readonly detail: string;
  readonly other: string | null;
  readonly at: number;
}

/** What a device's own tables told last of what is around it. */
export const SurroundingsEntity = defineEntity({
  name: 'Surroundings',
  tableName: 'surroundings',
  properties: { device: p.string().primary(), at: moment(), data: p.json<Around>() },
});

/** What changed in a record, when, and by which probe it was seen. */
export const HistoryEntity = defineEntity({
  name: 'History',
  tableName: 'history',
  properties: {
    id: p.integer().primary().autoincrement(),
    device: p.string(),
    at: moment(),
    field: p.string(),
    before: p.text().nullable(),
    after: p.text().nullable(),
    probe: p.string(),
  },
});

/** A credential that an address refused: it is not tried there again for a while, or the account might be locked. */
export const RefusalEntity = defineEntity({
  name: 'Refusal',
  tableName: 'refusal',
  properties: { id: p.string().primary(), credential: p.string(), address: p.string(), at: moment() },
});

export const ObservationEntity = defineEntity({
  name: 'Observation',
  tableName: 'observation',
  properties: {
    id: p.integer().primary().autoincrement(),
    device: p.string(),
    probe: p.string(),
    address: p.string(),
    at: moment(),
    /** The same answers were heard again until then, this often. */
    lastAt: moment(),
    times: p.integer(),
    digest: p.string(),
    raw: p.json<Record<string, unknown>>(),
    parsed: p.json<Record<string, unknown>>(),
  },
});

export const ImageEntity = defineEntity({
  name: 'Image',
  tableName: 'image',
  properties: {
    sha256: p.string().primary(),
    file: p.string(),
    family: p.string(),
    maker: p.string(),
    models: p.json<string[]>(),
    hardwareRevisions: p.json<string[]>(),
    variant: p.string(),
    version: p.string(),
    bytes: p.bigint('number'),
    addedAt: moment(),
    addedBy: p.string(),
    component: p.string().$type<Component>(),
    channel: p.string().$type<Channel>(),
    files: p.json<{ file: string; sha256: string; bytes: number }[]>(),
    note: p.json<ImageNote>(),
    /** By what of what was published it was compared, when it came; null: by nothing. */
    compared: p.string().$type<'strong' | 'weak'>().nullable(),
    /** Who said that they have read its notes. */
    read: p.json<{ by: string; at: number }[]>(),
  },
});
export type ImageRow = Row<typeof ImageEntity>;

export const TargetEntity = defineEntity({
  name: 'Target',
  tableName: 'target',
  properties: {
    id: p.string().primary(),
    family: p.string(),
    version: p.string(),
    model: p.string().nullable(),
    site: p.string().nullable(),
    device: p.string().nullable(),
    setAt: moment(),
    setBy: p.string(),
    fromFamilies: p.json<string[]>(),
    hardwareRevision: p.string().nullable(),
    tag: p.string().nullable(),
    acceptUnreleased: p.boolean(),
  },
});
export type TargetRow = Row<typeof TargetEntity>;

/** A device that a person keeps where it is. */
export const PinEntity = defineEntity({
  name: 'Pin',
  tableName: 'pin',
  properties: {
    device: p.string().primary(),
    version: p.string(),
    reason: p.text(),
    askAgain: p.string(),
    setAt: moment(),
    setBy: p.string(),
  },
});
export type PinRow = Row<typeof PinEntity>;

export const AdvisoryEntity = defineEntity({
  name: 'Advisory',
  tableName: 'advisory',
  properties: { id: p.string().primary(), addedAt: moment(), addedBy: p.string(), data: p.json<Advisory>() },
});
export type AdvisoryRow = Row<typeof AdvisoryEntity>;

/** What a person said a product of an advisory is. */
export const MappingEntity = defineEntity({
  name: 'Mapping',
  tableName: 'mapping',
  properties: {
    id: p.string().primary(),
    vendor: p.string(),
    product: p.string(),
    family: p.string().nullable(),
    models: p.json<string[]>(),
    confirmedAt: moment(),
    confirmedBy: p.string(),
  },
});
export type MappingRow = Row<typeof MappingEntity>;

export const OfferEntity = defineEntity({
  name: 'Offer',
  tableName: 'offer',
  properties: { id: p.string().primary(), image: p.string(), device: p.string(), createdAt: moment(), createdBy: p.string() },
});

export const TransferEntity = defineEntity({
  name: 'Transfer',
  tableName: 'transfer',
  properties: {
    id: p.string().primary(),
    device: p.string().nullable(),
    deviceName: p.string().nullable(),
    peer: p.string(),
    file: p.string(),
    image: p.string().nullable(),
    state: p.string(),
    askedAt: moment(),
    endedAt: moment().nullable(),
    askedOptions: p.json<Record<string, string>>(),
    blockSize: p.integer().nullable(),
    windowSize: p.integer().nullable(),
    bytes: p.bigint('number'),
    totalBytes: p.bigint('number'),
    rate: p.float(),
    block: p.integer(),
    resent: p.integer(),
    detail: p.text().nullable(),
    site: p.string().nullable(),
    protocol: p.string().$type<Transfer['protocol']>(),
    rates: p.json<number[]>(),
    verified: p.boolean().nullable(),
    /** By what it was compared with what the device holds; null: not looked at. */
    comparedBy: p.string().$type<ComparedBy>().nullable(),
    cause: p.string().nullable(),
    evidence: p.json<string[]>(),
    /** All that was found, the cause first. */
    findings: p.json<TransferFinding[]>(),
    /** Its first and last packets. */
    packets: p.json<{ packets: KeptPacket[]; missing: number; port?: number | null } | null>().nullable(),
  },
});
export type TransferRow = Row<typeof TransferEntity>;

/** An image on its way to where its devices can take it, ahead of a rollout. */
export const DeliveryEntity = defineEntity({
  name: 'Delivery',
  tableName: 'delivery',
  properties: {
    id: p.string().primary(),
    image: p.string(),
    place: p.string().$type<Place>(),
    /** Id of the device or its parent; null: the store of the site. */
    holder: p.string().nullable(),
    site: p.string(),
    devices: p.json<string[]>(),
    state: p.string().$type<Delivery['state']>(),
    makeRoom: p.boolean(),
    bytes: p.bigint('number'),
    cause: p.string().nullable(),
    detail: p.text().nullable(),
    removed: p.json<string[]>(),
    digestThere: p.string().nullable(),
    transfers: p.json<string[]>(),
    createdAt: moment(),
    createdBy: p.string(),
    endedAt: moment().nullable(),
  },
});
export type DeliveryRow = Row<typeof DeliveryEntity>;

/** What is said of a site as a whole. */
export const SiteEntity = defineEntity({
  name: 'Site',
  tableName: 'site',
  properties: {
    name: p.string().primary(),
    linkKilobits: p.integer().nullable(),
    storeAddress: p.string().nullable(),
    store: p.json<SiteStore | null>().nullable(),
    /** When its devices may go down; null: at any time. */
    window: p.json<WindowInput | null>().nullable(),
    /** Who is there, and how they are reached. */
    contact: p.text().nullable(),
    /** What somebody there said of what lives hang on. */
    asked: p.text().nullable(),
  },
});
export type SiteRow = Row<typeof SiteEntity>;

export const DiscoveryEntity = defineEntity({
  name: 'Discovery',
  tableName: 'discovery',
  properties: { id: p.string().primary(), startedAt: moment(), result: p.json<unknown>() },
});

export const RolloutEntity = defineEntity({
  name: 'Rollout',
  tableName: 'rollout',
  properties: {
    id: p.string().primary(),
    name: p.string(),
    createdAt: moment(),
    createdBy: p.string(),
    /** As it was kept; `readPlan` reads it. */
    plan: p.json<unknown>(),
    ended: p.boolean(),
    /** How it ended, so that a list need not fold its journal; null until then. */
    summary: p.json<RolloutSummary>().nullable(),
  },
});

/** When a rollout begins by itself, and by when it is to be done, by the clock on the wall. */
export const AppointmentEntity = defineEntity({
  name: 'Appointment',
  tableName: 'appointment',
  properties: {
    rollout: p.string().primary(),
    /** null: it has begun. */
    at: moment().nullable(),
    /** After this it does not begin any more. */
    latest: moment().nullable(),
    doneBy: moment().nullable(),
    by: p.string(),
    /** The hazards that were accepted. */
    accept: p.json<string[]>(),
    /** Why they were accepted; null: no reason was given. */
    reason: p.text().nullable(),
    /** Why it did not begin; null: it may still. */
    missed: p.text().nullable(),
  },
});
export type AppointmentRow = Row<typeof AppointmentEntity>;

/** Who is told of what happens in rollouts. */
export const ReceiverEntity = defineEntity({
  name: 'Receiver',
  tableName: 'receiver',
  properties: {
    id: p.string().primary(),
    name: p.string().unique(),
    kind: p.string(),
    to: p.string(),
    on: p.json<string[]>(),
    /** The key by which requests to it are signed. */
    sealed: p.text().nullable(),
    createdAt: moment(),
    lastAt: moment().nullable(),
    trouble: p.text().nullable(),
  },
});
export type ReceiverRow = Row<typeof ReceiverEntity>;

/** A message that has not reached who is to be told. */
export const NoticeEntity = defineEntity({
  name: 'Notice',
  tableName: 'notice',
  properties: {
    id: p.integer().primary().autoincrement(),
    receiver: p.string(),
    rollout: p.string().nullable(),
    name: p.string().nullable(),
    kind: p.string(),
    subject: p.string(),
    lines: p.json<string[]>(),
    at: moment(),
    /** When it is tried next. */
    due: moment(),
    tries: p.integer(),
    trouble: p.text().nullable(),
  },
});
export type NoticeRow = Row<typeof NoticeEntity>;

/** How long a step took on a device, in thousandths of what its family file says. */
export const TookEntity = defineEntity({
  name: 'Took',
  tableName: 'took',
  properties: {
    id: p.integer().primary().autoincrement(),
    device: p.string(),
    family: p.string(),
    way: p.string(),
    step: p.string(),
    permille: p.integer(),
    at: moment(),
  },
});

export const JournalEntity = defineEntity({
  name: 'Journal',
  tableName: 'journal',
  properties: {
    seq: p.integer().primary(),
    rollout: p.string(),
    run: p.string().nullable(),
    at: moment(),
    event: p.json<RolloutEvent>(),
    /** The digest over the entry before it in its rollout, its number and what it says (`runner/chain.ts`). */
    chain: p.string().nullable(),
  },
});

/** The state of a rollout up to an entry of its journal, and of how many entries it is the fold. */
export const FoldEntity = defineEntity({
  name: 'Fold',
  tableName: 'fold',
  properties: {
    rollout: p.string().primary(),
    seq: p.integer(),
    count: p.integer(),
    state: p.json<unknown>(),
    /** That of the last entry that went into it. */
    chain: p.string().nullable(),
  },
});

export const ConversationEntity = defineEntity({
  name: 'Conversation',
  tableName: 'conversation',
  properties: {
    id: p.integer().primary().autoincrement(),
    rollout: p.string(),
    run: p.string(),
    step: p.string(),
    at: moment(),
    text: p.text(),
  },
});

export const BackupEntity = defineEntity({
  name: 'Backup',
  tableName: 'backup',
  properties: {
    id: p.string().primary(),
    sha256: p.string(),
    device: p.string(),
    takenAt: moment(),
    rollout: p.string().nullable(),
    bytes: p.integer(),
    firmware: p.string().nullable(),
  },
});
export type BackupRow = Row<typeof BackupEntity>;

/** The content of backups, sealed, by its digest: the same content is kept once, however often and of whichever device it was saved. */
export const SavedEntity = defineEntity({
  name: 'Saved',
  tableName: 'saved',
  properties: { sha256: p.string().primary(), sealed: p.text() },
});

export const TokenEntity = defineEntity({
  name: 'Token',
  tableName: 'token',
  properties: {
    id: p.string().primary(),
    name: p.string().unique(),
    role: p.string().$type<Role>(),
    digest: p.string().unique(),
    createdAt: moment(),
    lastUsed: moment().nullable(),
  },
});
export type TokenRow = Row<typeof TokenEntity>;

export const DeedEntity = defineEntity({
  name: 'Deed',
  tableName: 'deed',
  properties: {
    id: p.integer().primary().autoincrement(),
    at: moment(),
    who: p.string(),
    role: p.string(),
    method: p.string(),
    path: p.string(),
    status: p.integer(),
    /** What was changed, in a form that may be shown; null in entries of before. */
    detail: p.json<{ subject: string | null; changes: AuditChange[] }>().nullable(),
  },
});

/** Single values of the service itself, by name: a check value of the key, the process that has the database open. */
export const MarkEntity = defineEntity({
  name: 'Mark',
  tableName: 'mark',
  properties: { name: p.string().primary(), value: p.text() },
});

export const entities = [
  NetworkEntity,
  CredentialEntity,
  DeviceEntity,
  ObservationEntity,
  SurroundingsEntity,
  HistoryEntity,
  RefusalEntity,
  ImageEntity,
  TargetEntity,
  PinEntity,
  AdvisoryEntity,
  MappingEntity,
  OfferEntity,
  TransferEntity,
  DeliveryEntity,
  SiteEntity,
  DiscoveryEntity,
  RolloutEntity,
  AppointmentEntity,
  TookEntity,
  JournalEntity,
  FoldEntity,
  ConversationEntity,
  BackupEntity,
  SavedEntity,
  TokenEntity,
  DeedEntity,
  MarkEntity,
  NoticeEntity,
  ReceiverEntity,
];
