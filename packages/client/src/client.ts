import { createParser } from 'eventsource-parser';
import {
  aboutSchema,
  approvalResult,
  waitingHostSchema,
  advisoryDetailSchema,
  advisorySchema,
  carriedSchema,
  imageDetailSchema,
  pinSchema,
  rankedSchema,
  standingSchema,
  takenSchema,
  uploadSchema,
  type RecordedOver,
  type ImageNoteInput,
  type MappingInput,
  type PinInput,
  type TakeInput,
  type UploadInput,
  backupSchema,
  restoredSchema,
  swappedSchema,
  type SwapInput,
  foretoldSchema,
  expectedSchema,
  expectedSeenSchema,
  soakSchema,
  timelineSchema,
  credentialSchema,
  deviceDetailSchema,
  deviceCountsSchema,
  deviceNameSchema,
  deviceSchema,
  discoverySchema,
  familyAddedSchema,
  familySummarySchema,
  familyTrialSchema,
  recordingAnswerSchema,
  recordingSchema,
  type DraftQuery,
  healthSchema,
  historySchema,
  imageSchema,
  importResult,
  liveEventSchema,
  mapSchema,
  networkSchema,
  offerSchema,
  pageOf,
  problemSchema,
  rehearsalSchema,
  reportSchema,
  rolloutChangesSchema,
  deedsSchema,
  lastPlanSchema,
  noticesSchema,
  planFile,
  receiverSchema,
  retentionSchema,
  rolloutSchema,
  wayBackAheadSchema,
  rolloutSummarySchema,
  runDetailSchema,
  targetComparisonSchema,
  targetPreviewSchema,
  targetSchema,
  tokenSchema,
  transferSchema,
  transferStorySchema,
  deliveryPlanSchema,
  deliverySchema,
  dhcpSchema,
  siteSchema,
  storeCheckSchema,
  type DeliveryInput,
  type SiteInput,
  type About,
  type CredentialInput,
  type Device,
  type DeviceChange,
  type DeviceEntry,
  type DeviceOnly,
  type HostToApprove,
  type LiveEvent,
  type NetworkChange,
  type NetworkInput,
  type MailServerInput,
  type PlanInput,
  type ReceiverInput,
  type RetentionView,
  type Problem,
  standingGroupSchema,
  type Distance,
  type Standing,
  type TargetInput,
  type TokenInput,
} from '@barrow/core';
import { z } from 'zod';

/** The service answered with a problem document. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(`${problem.title}: ${problem.detail}`);
  }
}

/** The service cannot be reached, or what answered is not it. */
export class UnreachableError extends Error {
  constructor(
    readonly url: string,
    readonly why: string,
    /** Whether it was to change something: that may have been done or not. */
    readonly changes = false,
  ) {
    super(`${url}: ${why}`);
  }
}

export interface ClientOptions {
  readonly url: string;
  readonly token: string;
  readonly fetch?: typeof globalThis.fetch;
}

export interface DeviceQuery {
  /** These, with commas between them, and all that are handled through them. */
  ids?: string;
  text?: string;
  site?: string;
  kind?: string;
  family?: string;
  standing?: Standing;
  maker?: string;
  model?: string;
  firmware?: string;
  network?: string;
  tag?: string;
  parent?: string;
  only?: DeviceOnly;
  /** Digest of an image: who may run it, runs it, or passes it on the way to its target. */
  mayRun?: string;
  runs?: string;
  passes?: string;
  distance?: Distance;
  /** As a standing group names itself. */
  group?: string;
  /** Behind their target, and free to be planned. */
  plannable?: boolean;
  /** A column, with a minus before it the other way round. */
  sort?: string;
  offset?: number;
  limit?: number;
  cursor?: string;
}

export interface ImageUpload {
  readonly file: string;
  readonly body: BodyInit;
  readonly family?: string;
  readonly model?: string;
  readonly hardwareRevision?: string;
  readonly version?: string;
  readonly sha256?: string;
}

/** The service sends something every ten seconds. */
const longestSilence = 30_000;

const listOf = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item) });
const devicePage = pageOf(deviceSchema).extend({ total: z.number() });
const verified = listOf(z.object({ sha256: z.string(), file: z.string(), sound: z.boolean(), detail: z.string() }));
const comparison = z.object({ same: z.boolean(), added: z.number(), removed: z.number(), lines: z.array(z.string()), cut: z.number() });
const removed = z.object({ removed: z.string() });

export type DevicePage = z.infer<typeof devicePage>;

type Query = Record<string, string | number | boolean | undefined | null>;

/** On one machine an answer is carried as fast as it is written: packing it costs both ends more than it saves. */
const isNear = (url: string): boolean => /^https?:\/\/(127\.|localhost\b|\[::1\])/.test(url);

/** The typed client of Barrow's HTTP interface; every answer is checked against its shape. */
export class BarrowClient {
  readonly url: string;
  readonly #token: string;
  readonly #fetch: typeof globalThis.fetch;

  constructor(options: ClientOptions) {
    this.url = options.url.replace(/\/+$/, '');
    this.#token = options.token;
    this.#fetch = options.fetch ?? globalThis.fetch.bind(globalThis);
  }

  /** @throws ProblemError, UnreachableError */
  async raw(
    method: string,
    path: string,
    use: { query?: Query; body?: BodyInit; headers?: Record<string, string>; signal?: AbortSignal } = {},
  ): Promise<Response> {
    const query = new URLSearchParams();
    for (const [key, value] of Object.entries(use.query ?? {}))
      if (value !== undefined && value !== null && value !== '') query.set(key, String(value));
    const url = `${this.url}/api/v1${path}${query.size > 0 ? `?${query}` : ''}`;
    let response: Response;
    try {
      response = await this.#fetch(url, {
        method,
        body: use.body,
        signal: use.signal,
        headers: {
          authorization: `Bearer ${this.#token}`,
          ...(isNear(this.url) ? { 'accept-encoding': 'identity' } : {}),
          ...use.headers,
        },
        ...(use.body !== undefined && typeof use.body !== 'string' ? { duplex: 'half' } : {}),
      } as RequestInit);
    } catch (error) {
      if (use.signal?.aborted) throw error;
      const cause = (error as { cause?: { code?: string; message?: string } }).cause;
      throw new UnreachableError(this.url, cause?.code ?? cause?.message ?? 'Nothing answers there', method !== 'GET');
    }
    if (response.ok) return response;
    const text = await response.text();
    let problem: Problem | null = null;
    try {
      problem = problemSchema.parse(JSON.parse(text));
    } catch {
      // Something else than Barrow answered.
    }
    if (problem) throw new ProblemError(problem);
    throw new UnreachableError(this.url, `it answered ${response.status} in a way that Barrow does not`, method !== 'GET');
  }

  async #json<T extends z.ZodType>(
    schema: T,
    method: string,
    path: string,
    use: { query?: Query; json?: unknown } = {},
  ): Promise<z.output<T>> {
    const response = await this.raw(method, path, {
      query: use.query,
      ...(use.json === undefined ? {} : { body: JSON.stringify(use.json), headers: { 'content-type': 'application/json' } }),
    });
    return schema.parse(await response.json());
  }

  health = () => this.#json(healthSchema, 'GET', '/health');
  about = (): Promise<About> => this.#json(aboutSchema, 'GET', '/about');

  networks = async () => (await this.#json(listOf(networkSchema), 'GET', '/networks')).items;
  addNetwork = (json: NetworkInput) => this.#json(networkSchema, 'POST', '/networks', { json });
  changeNetwork = (id: string, json: NetworkChange) => this.#json(networkSchema, 'PUT', `/networks/${encodeURIComponent(id)}`, { json });
  removeNetwork = (id: string) => this.#json(removed, 'DELETE', `/networks/${encodeURIComponent(id)}`);
  credentials = async () => (await this.#json(listOf(credentialSchema), 'GET', '/credentials')).items;
  addCredential = (json: CredentialInput) => this.#json(credentialSchema, 'POST', '/credentials', { json });
  /** Puts another secret into a credential of the same kind. */
  replaceCredential = ({ name, ...json }: CredentialInput) =>
    this.#json(credentialSchema, 'PUT', `/credentials/${encodeURIComponent(name)}`, { json });
  removeCredential = (id: string) => this.#json(removed, 'DELETE', `/credentials/${encodeURIComponent(id)}`);
  families = async () => (await this.#json(listOf(familySummarySchema), 'GET', '/families')).items;
  familySchema = () => this.#json(z.record(z.string(), z.unknown()), 'GET', '/family-schema');
  /** A family file to begin with, from what a device answered. */
  familyDraft = (device: string, query: DraftQuery = {}) =>
    this.#json(z.object({ family: z.string(), text: z.string() }), 'GET', `/devices/${encodeURIComponent(device)}/family-draft`, {
      query: { ...query },
    });
  tryFamily = (text: string, procedure: string, device: string, mayChange = false) =>
    this.#json(familyTrialSchema, 'POST', '/family-trials', { json: { text, procedure, device, mayChange } });
  record = (device: string, over: RecordedOver = 'shell') => this.#json(recordingSchema, 'POST', '/recordings', { json: { device, over } });
  sayIn = (recording: string, text: string | null, headers: Readonly<Record<string, string>> = {}) =>
    this.#json(recordingAnswerSchema, 'POST', `/recordings/${encodeURIComponent(recording)}/say`, { json: { text, headers } });

  endRecording = (recording: string) =>
    this.#json(z.object({ ended: z.string() }), 'DELETE', `/recordings/${encodeURIComponent(recording)}`);
  tokens = async () => (await this.#json(listOf(tokenSchema), 'GET', '/tokens')).items;
  addToken = (json: TokenInput) => this.#json(tokenSchema.extend({ token: z.string() }), 'POST', '/tokens', { json });
  removeToken = (id: string) => this.#json(removed, 'DELETE', `/tokens/${encodeURIComponent(id)}`);

  /** `sure`: also when it would ask more than 65,536 addresses. */
  discover = (networks: string[] = [], sure = false) => this.#json(discoverySchema, 'POST', '/discoveries', { json: { networks, sure } });
  discovery = (id = 'latest') => this.#json(discoverySchema, 'GET', `/discoveries/${encodeURIComponent(id)}`);
  stopDiscovery = () => this.#json(z.object({ stopped: z.boolean() }), 'DELETE', '/discoveries/running');

  devicePage = (query: DeviceQuery = {}) => this.#json(devicePage, 'GET', '/devices', { query: { ...query } });
  deviceCounts = (query: DeviceQuery = {}) => this.#json(deviceCountsSchema, 'GET', '/device-counts', { query: { ...query } });
  deviceNames = async (query: DeviceQuery = {}) =>
    (await this.#json(z.object({ items: z.array(deviceNameSchema) }), 'GET', '/device-names', { query: { ...query } })).items;
  standingGroups = async (query: DeviceQuery = {}) =>
    (await this.#json(z.object({ items: z.array(standingGroupSchema) }), 'GET', '/standing/groups', { query: { ...query } })).items;
  /** All devices that fit, page by page. */
  async devices(query: DeviceQuery = {}): Promise<Device[]> {
    const all: Device[] = [];
    let cursor = query.cursor;
    do {
      const page = await this.devicePage({ ...query, limit: 2000, cursor });
      all.push(...page.items);
      cursor = page.next ?? undefined;
    } while (cursor);
    return all;
  }
  device = (id: string) => this.#json(deviceDetailSchema, 'GET', `/devices/${encodeURIComponent(id)}`);
  enterDevice = (json: DeviceEntry) => this.#json(deviceSchema, 'POST', '/devices', { json });
  setDevice = (id: string, json: DeviceChange) => this.#json(deviceSchema, 'PUT', `/devices/${encodeURIComponent(id)}`, { json });
  removeDevice = (id: string) => this.#json(removed, 'DELETE', `/devices/${encodeURIComponent(id)}`);
  deviceHistory = async (id: string) =>
    (await this.#json(listOf(historySchema), 'GET', `/devices/${encodeURIComponent(id)}/history`)).items;
  locate = (id: string, seconds: number) =>
    this.#json(z.object({ device: z.string(), seconds: z.number() }), 'POST', `/devices/${encodeURIComponent(id)}/locate`, {
      json: { seconds },
    });
  acceptHostKey = (id: string, accept: string) =>
    this.#json(deviceSchema, 'POST', `/devices/${encodeURIComponent(id)}/host-key`, { json: { accept } });
  /** Hosts that get no password until they are approved. */
  waitingHosts = async () => (await this.#json(listOf(waitingHostSchema), 'GET', '/approvals')).items;
  approveHosts = (hosts: HostToApprove[]) => this.#json(approvalResult, 'POST', '/approvals', { json: { hosts } });
  exportDevices = async (form: 'csv' | 'json', query: DeviceQuery = {}) =>
    (await this.raw('GET', `/devices/export.${form}`, { query: { ...query } })).text();
  importDevices = (form: 'csv' | 'json', text: string, dryRun: boolean) =>
    this.#json(importResult, 'POST', '/devices/import', { json: { form, text, dryRun } });
  map = () => this.#json(mapSchema, 'GET', '/map');

  images = async () => (await this.#json(listOf(imageSchema), 'GET', '/images')).items;
  image = (id: string) => this.#json(imageDetailSchema, 'GET', `/images/${encodeURIComponent(id)}`);
  setNote = (id: string, json: ImageNoteInput) => this.#json(imageDetailSchema, 'PUT', `/images/${encodeURIComponent(id)}/note`, { json });
  /** Keeps that one has read its notes. */
  readNotes = (id: string) => this.#json(imageDetailSchema, 'POST', `/images/${encodeURIComponent(id)}/read`);
  beginUpload = (json: UploadInput) => this.#json(uploadSchema, 'POST', '/uploads', { json });
  upload = (id: string) => this.#json(uploadSchema, 'GET', `/uploads/${encodeURIComponent(id)}`);
  /** Sends what follows `offset`; what arrives before a break stays there. */
  async sendUpload(id: string, offset: number, body: BodyInit, signal?: AbortSignal) {
    const response = await this.raw('PUT', `/uploads/${encodeURIComponent(id)}`, {
      query: { offset },
      body,
      signal,
      headers: { 'content-type': 'application/octet-stream' },
    });
    return uploadSchema.parse(await response.json());
  }
  dropUpload = (id: string) => this.#json(removed, 'DELETE', `/uploads/${encodeURIComponent(id)}`);
  take = (json: TakeInput) => this.#json(takenSchema, 'POST', '/images/take', { json });
  /** Images with notes, families and targets as one archive, as it streams. */
  async exportImages(images: readonly string[] = []) {
    const query = images.map((i) => `image=${encodeURIComponent(i)}`).join('&');
    return (await this.raw('GET', `/images/carry${query ? `?${query}` : ''}`)).body!;
  }
  async importImages(body: BodyInit, dryRun = false) {
    const response = await this.raw('POST', '/images/carry', { query: dryRun ? { dryRun: 'true' } : {}, body });
    return carriedSchema.parse(await response.json());
  }
  async addImage({ body, ...query }: ImageUpload) {
    const response = await this.raw('POST', '/images', { query, body, headers: { 'content-type': 'application/octet-stream' } });
    return { image: imageSchema.parse(await response.json()), isNew: response.status === 201 };
  }
  verifyImages = async () => (await this.#json(verified, 'POST', '/images/verify')).items;
  removeImage = (id: string) => this.#json(removed, 'DELETE', `/images/${encodeURIComponent(id)}`);

  targets = async () => (await this.#json(listOf(targetSchema), 'GET', '/targets')).items;
  setTarget = (json: TargetInput) => this.#json(targetSchema, 'PUT', '/targets', { json });
  pins = async () => (await this.#json(listOf(pinSchema), 'GET', '/pins')).items;
  setPin = (json: PinInput) => this.#json(pinSchema, 'PUT', '/pins', { json });
  removePin = (device: string) => this.#json(removed, 'DELETE', `/pins/${encodeURIComponent(device)}`);
  standing = (query: { site?: string; family?: string } = {}) => this.#json(standingSchema, 'GET', '/standing', { query });

  advisories = async () => (await this.#json(listOf(advisorySchema), 'GET', '/advisories')).items;
  addAdvisory = (text: string) => this.#json(advisorySchema.extend({ isNew: z.boolean() }), 'POST', '/advisories', { json: { text } });
  advisory = (id: string) => this.#json(advisoryDetailSchema, 'GET', `/advisories/${encodeURIComponent(id)}`);
  rankByAdvisories = async () => (await this.#json(rankedSchema, 'GET', '/advisories/ranking')).items;
  mapProduct = (json: MappingInput) => this.#json(z.object({ mapped: z.string() }), 'PUT', '/advisories/products', { json });
  removeAdvisory = (id: string) => this.#json(removed, 'DELETE', `/advisories/${encodeURIComponent(id)}`);

  previewTarget = (json: TargetInput) => this.#json(targetPreviewSchema, 'POST', '/targets/preview', { json });
  /** The file of a set of versions, as text, against the fleet. */
  compareTargets = (text: string) => this.#json(targetComparisonSchema, 'POST', '/targets/compare', { json: { text } });
  setTargets = (text: string) =>
    this.#json(z.object({ set: z.string(), items: z.array(targetSchema) }), 'PUT', '/targets/set', { json: { text } });
  /** The targets as they are, as the file of a set. */
  targetsAsSet = async (name?: string) =>
    (await this.#json(z.object({ text: z.string() }), 'GET', '/targets/set', { query: { name } })).text;
  removeTarget = (id: string) => this.#json(removed, 'DELETE', `/targets/${encodeURIComponent(id)}`);

  offers = async () => (await this.#json(listOf(offerSchema), 'GET', '/offers')).items;
  putOffer = async (image: string, devices: string[]) =>
    (await this.#json(listOf(offerSchema), 'POST', '/offers', { json: { image, devices } })).items;
  dropOffer = (image: string, device?: string) =>
    this.#json(z.object({ dropped: z.number() }), 'DELETE', `/offers/${encodeURIComponent(image)}`, { query: { device } });
  dhcp = async () => (await this.#json(dhcpSchema, 'GET', '/offers/dhcp')).items;
  checkStores = (devices: readonly string[] = []) => this.#json(storeCheckSchema, 'POST', '/stores/check', { json: { devices } });
  deliveries = async (limit = 500) => (await this.#json(listOf(deliverySchema), 'GET', '/deliveries', { query: { limit } })).items;
  deliver = async (input: DeliveryInput) => (await this.#json(listOf(deliverySchema), 'POST', '/deliveries', { json: input })).items;
  planDelivery = async (input: DeliveryInput) => (await this.#json(deliveryPlanSchema, 'POST', '/deliveries/plan', { json: input })).items;
  tellDelivery = (id: string, verb: 'stop' | 'retry') =>
    this.#json(deliverySchema, 'POST', `/deliveries/${encodeURIComponent(id)}/${verb}`, { json: {} });
  disarm = (device: string) =>
    this.#json(z.object({ device: z.string(), disarmed: z.string() }), 'POST', `/devices/${encodeURIComponent(device)}/disarm`, {
      json: {},
    });
  transfers = async (limit = 100, filter: { state?: string | undefined; device?: string | undefined } = {}) =>
    (await this.#json(listOf(transferSchema), 'GET', '/transfers', { query: { limit, ...filter } })).items;
  transfer = (id: string) => this.#json(transferStorySchema, 'GET', `/transfers/${encodeURIComponent(id)}`);
  /** The packets of a transfer as a pcapng file. */
  packets = async (id: string): Promise<Uint8Array> =>
    new Uint8Array(await (await this.raw('GET', `/transfers/${encodeURIComponent(id)}/packets.pcapng`)).arrayBuffer());
  stopTransfer = (id: string) => this.#json(transferSchema, 'POST', `/transfers/${encodeURIComponent(id)}/stop`, { json: {} });
  claimTransfer = (id: string, device: string) =>
    this.#json(z.object({ device: z.string(), address: z.string() }), 'POST', `/transfers/${encodeURIComponent(id)}/claim`, {
      json: { device },
    });
  sites = async () => (await this.#json(listOf(siteSchema), 'GET', '/sites')).items;
  setSite = (name: string, input: SiteInput) => this.#json(siteSchema, 'PUT', `/sites/${encodeURIComponent(name)}`, { json: input });

  backups = async (device?: string) => (await this.#json(listOf(backupSchema), 'GET', '/backups', { query: { device } })).items;
  takeBackup = (device: string) => this.#json(backupSchema, 'POST', '/backups', { json: { device } });
  backup = (id: string) =>
    this.#json(z.object({ id: z.string(), device: z.string(), text: z.string() }), 'GET', `/backups/${encodeURIComponent(id)}`);
  compareBackups = (before: string, after: string) =>
    this.#json(comparison, 'GET', `/backups/${encodeURIComponent(before)}/compare`, { query: { with: after } });

  expect = (id: string, run: string, json: { accept: boolean }) =>
    this.#json(expectedSeenSchema, 'POST', `/rollouts/${encodeURIComponent(id)}/runs/${encodeURIComponent(run)}/expect`, { json });
  expected = async () => (await this.#json(listOf(expectedSchema), 'GET', '/expected-differences')).items;
  forgetExpected = async (json: { family: string; from: string; to: string }) =>
    (await this.#json(listOf(expectedSchema), 'POST', '/expected-differences/forget', { json })).items;
  soaks = async (id: string) => (await this.#json(listOf(soakSchema), 'GET', `/rollouts/${encodeURIComponent(id)}/soaks`)).items;
  timeline = (id: string) => this.#json(timelineSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/timeline`);
  foretold = (id: string) => this.#json(foretoldSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/foretold`);
  swapDevice = (id: string, json: SwapInput) => this.#json(swappedSchema, 'POST', `/devices/${encodeURIComponent(id)}/swap`, { json });
  restoreBackup = (id: string, json: { look: boolean }) =>
    this.#json(restoredSchema, 'POST', `/backups/${encodeURIComponent(id)}/restore`, { json });

  rollouts = async () => (await this.#json(listOf(rolloutSummarySchema), 'GET', '/rollouts')).items;
  plan = (json: PlanInput) => this.#json(rolloutSchema, 'POST', '/rollouts', { json });
  /** How the whole of a plan could be taken back again. */
  wayBackAhead = (id: string) => this.#json(wayBackAheadSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/way-back`);
  /** For how long backups are kept; null: for ever. */
  backupRetention = async () =>
    (await this.#json(z.object({ retention: retentionSchema.nullable() }), 'GET', '/backup-retention')).retention;
  setBackupRetention = async (retention: RetentionView | null) =>
    (await this.#json(z.object({ retention: retentionSchema.nullable() }), 'PUT', '/backup-retention', { json: { retention } })).retention;
  familyFile = (family: string) =>
    this.#json(z.object({ family: z.string(), text: z.string() }), 'GET', `/families/${encodeURIComponent(family)}/file`);
  /** @param conversations what was said while it was taught, by procedure (YAML); absent: those that are there stay */
  addFamily = (text: string, replace = false, conversations?: Readonly<Record<string, string>>) =>
    this.#json(familyAddedSchema, 'PUT', '/families', {
      json: { text, replace, ...(conversations === undefined ? {} : { conversations }) },
    });
  /** @param archive a tar, in base64 (RFC 4648) */
  addFamilyArchive = (archive: string, replace = false) =>
    this.#json(familyAddedSchema, 'POST', '/families/archive', { json: { archive, replace } });
  /** A family file with what was said while it was taught, as a tar. */
  familyArchive = async (family: string) => (await this.raw('GET', `/families/${encodeURIComponent(family)}/archive`)).arrayBuffer();
  removeFamily = (family: string) => this.#json(removed, 'DELETE', `/families/${encodeURIComponent(family)}`);
  /** The public key by which the service signs its reports. */
  lastPlan = () => this.#json(lastPlanSchema, 'GET', '/last-plan');
  reportKey = async () => (await this.#json(z.object({ publicKey: z.string() }), 'GET', '/report-key')).publicKey;
  /** Who did what, newest first. */
  deeds = (query: { who?: string; before?: number; most?: number } = {}) => this.#json(deedsSchema, 'GET', '/deeds', { query });
  /** Who is told of what happens in rollouts. */
  notices = () => this.#json(noticesSchema, 'GET', '/notices');
  addReceiver = (json: ReceiverInput) =>
    this.#json(receiverSchema.extend({ secret: z.string().nullable() }), 'POST', '/notices/receivers', { json });
  removeReceiver = (id: string) => this.#json(removed, 'DELETE', `/notices/receivers/${encodeURIComponent(id)}`);
  tryReceiver = (id: string) =>
    this.#json(
      z.object({ name: z.string(), sent: z.boolean(), trouble: z.string().nullable() }),
      'POST',
      `/notices/receivers/${encodeURIComponent(id)}/trial`,
    );
  setMailServer = (json: MailServerInput) => this.#json(noticesSchema, 'PUT', '/notices/mail-server', { json });
  setHeartbeat = (json: { url: string | null; everySeconds?: number }) => this.#json(noticesSchema, 'PUT', '/notices/heartbeat', { json });
  setNoticeAddress = (url: string | null) => this.#json(noticesSchema, 'PUT', '/notices/address', { json: { url } });
  /** A plan as a file, to be kept or planned anew. */
  planFile = (id: string) => this.#json(planFile, 'GET', `/rollouts/${encodeURIComponent(id)}/plan`);
  planFromFile = (json: z.input<typeof planFile>) => this.#json(rolloutSchema, 'POST', '/rollouts/from-file', { json });
  rollout = (id: string) => this.#json(rolloutSchema, 'GET', `/rollouts/${encodeURIComponent(id)}`);
  /** What has changed since a rollout was looked at; `withChanges` puts it in. */
  rolloutChanges = (id: string, since: string) =>
    this.#json(rolloutChangesSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/changes`, { query: { since } });
  /** @param fails devices that are imagined to fail: DEVICE, DEVICE@STEP or DEVICE@STEP:CAUSE */
  rehearsal = (id: string, fails: readonly string[] = [], goesOn = false) =>
    this.#json(rehearsalSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/rehearsal`, {
      query: { fails: fails.join(','), ...(goesOn ? { goesOn } : {}) },
    });
  discardRollout = (id: string) => this.#json(removed, 'DELETE', `/rollouts/${encodeURIComponent(id)}`);
  say = (id: string, word: 'start' | 'start-not' | 'hold' | 'continue' | 'stop' | 'approve' | 'note', json: object = {}) =>
    this.#json(rolloutSchema, 'POST', `/rollouts/${encodeURIComponent(id)}/${word}`, { json });
  sayRun = (
    id: string,
    run: string,
    word: 'retry' | 'skip' | 'take-over' | 'release' | 'take-back' | 'done' | 'answer',
    json: object = {},
  ) => this.#json(rolloutSchema, 'POST', `/rollouts/${encodeURIComponent(id)}/runs/${encodeURIComponent(run)}/${word}`, { json });
  run = (id: string, run: string) =>
    this.#json(runDetailSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/runs/${encodeURIComponent(run)}`);
  report = (id: string) => this.#json(reportSchema, 'GET', `/rollouts/${encodeURIComponent(id)}/report`);
  reportAs = async (id: string, form: 'html' | 'csv') =>
    (await this.raw('GET', `/rollouts/${encodeURIComponent(id)}/report.${form}`)).text();

  /** The night on paper, as one printable page (HTML). */
  atSite = async (id: string, run: string) =>
    (await this.raw('GET', `/rollouts/${encodeURIComponent(id)}/runs/${encodeURIComponent(run)}/at-site.html`)).text();
  sheet = async (id: string) => (await this.raw('GET', `/rollouts/${encodeURIComponent(id)}/sheet.html`)).text();

  /**
   * What happens, live. It comes back by itself after a lost connection and misses no journal entry, beginning
   * after `after`, or now. `onState` tells whether it is connected; a connection on which nothing comes for `silentMs` is
   * none, since the service sends something every ten seconds.
   */
  async *events(
    use: { after?: number; signal?: AbortSignal; onState?: (connected: boolean) => void; retryMs?: number; silentMs?: number } = {},
  ): AsyncGenerator<LiveEvent> {
    let last = use.after === undefined ? undefined : String(use.after);
    const aborted = (): boolean => use.signal?.aborted ?? false;
    while (!aborted()) {
      const silent = new AbortController();
      let watch = setTimeout(() => silent.abort(), use.silentMs ?? longestSilence);
      const heard = (): void => {
        clearTimeout(watch);
        watch = setTimeout(() => silent.abort(), use.silentMs ?? longestSilence);
      };
      try {
        const response = await this.raw('GET', '/events', {
          signal: use.signal ? AbortSignal.any([use.signal, silent.signal]) : silent.signal,
          headers: last === undefined ? {} : { 'last-event-id': last },
        });
        use.onState?.(true);
        const ready: LiveEvent[] = [];
        const parser = createParser({
          onEvent: (event) => {
            if (event.id !== undefined) last = event.id;
            if (event.event === 'hello') return;
            const parsed = liveEventSchema.safeParse(JSON.parse(event.data));
            if (parsed.success) ready.push(parsed.data);
          },
        });
        const decoder = new TextDecoder();
        for await (const chunk of response.body as unknown as AsyncIterable<Uint8Array>) {
          heard();
          parser.feed(decoder.decode(chunk, { stream: true }));
          while (ready.length > 0) yield ready.shift()!;
        }
      } catch (error) {
        if (aborted()) return;
        if (error instanceof ProblemError) throw error;
      } finally {
        clearTimeout(watch);
      }
      use.onState?.(false);
      await new Promise<void>((resolve) => {
        const timer = setTimeout(resolve, use.retryMs ?? 500);
        use.signal?.addEventListener('abort', () => (clearTimeout(timer), resolve()), { once: true });
      });
    }
  }
}
