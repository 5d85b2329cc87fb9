import { defineEntity, p, type EntitySchema, type InferEntity } from '@mikro-orm/core';
import type { Plan, RolloutEvent, RolloutSummary, Role } from '@barrow/core';

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
  },
});
export type DeviceRow = Row<typeof DeviceEntity>;

export const ObservationEntity = defineEntity({
  name: 'Observation',
  tableName: 'observation',
  properties: {
    id: p.integer().primary().autoincrement(),
    device: p.string(),
    probe: p.string(),
    address: p.string(),
    at: moment(),
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
  },
});
export type TargetRow = Row<typeof TargetEntity>;

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
  },
});
export type TransferRow = Row<typeof TransferEntity>;

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
    plan: p.json<Plan>(),
    ended: p.boolean(),
    /** How it ended, so that a list need not fold its journal; null until then. */
    summary: p.json<RolloutSummary>().nullable(),
  },
});

export const JournalEntity = defineEntity({
  name: 'Journal',
  tableName: 'journal',
  properties: { seq: p.integer().primary(), rollout: p.string(), at: moment(), event: p.json<RolloutEvent>() },
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
    sealed: p.text(),
  },
});
export type BackupRow = Row<typeof BackupEntity>;

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
  },
});

export const entities = [
  NetworkEntity,
  CredentialEntity,
  DeviceEntity,
  ObservationEntity,
  ImageEntity,
  TargetEntity,
  OfferEntity,
  TransferEntity,
  DiscoveryEntity,
  RolloutEntity,
  JournalEntity,
  ConversationEntity,
  BackupEntity,
  TokenEntity,
  DeedEntity,
];
