import { addressesOf, entityTable, physicalAddresses, recordFromSnmp, systemObjects, type Discovery, type SnmpRecord } from '@barrow/core';
import { recogniseSnmp } from '@barrow/families';
import { sweep, type SnmpTarget } from '@barrow/wire';
import { rfc3339, type Context } from '../context.js';
import { CredentialEntity, DiscoveryEntity, type CredentialRow, type DeviceRow, type NetworkRow } from '../data/entities.js';
import { digestOf, newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import type { Devices } from '../devices/devices.js';

const sweepTries = 3;
const sweepWaitMs = 400;
/** Devices that are read at once; a read is a few packets to each. */
const readsAtOnce = 32;
const networksAtOnce = 8;

/** What the searches of one discovery share. */
interface Search {
  readonly view: Discovery;
  readonly credentials: ReadonlyMap<string, CredentialRow>;
  readonly index: IdentityIndex;
  readonly seen: Set<string>;
  readonly signal: AbortSignal;
}

interface Running {
  readonly view: Discovery;
  readonly stop: AbortController;
  readonly ended: Promise<void>;
}

/** Looks for devices in the configured networks, and only there. */
export class DiscoveryService {
  #running: Running | null = null;

  constructor(
    private readonly context: Context,
    private readonly devices: Devices,
  ) {}

  /** @throws Refusal when one is running already, or there is nowhere to look. */
  async start(networks: readonly NetworkRow[], by: string): Promise<Discovery> {
    if (this.#running)
      throw new Refusal(
        409,
        'discovery-running',
        'A discovery is running already',
        `It was started by ${this.#running.view.startedBy}.`,
        'Wait for it to end, or stop it.',
      );
    if (networks.length === 0)
      throw new Refusal(
        422,
        'no-networks',
        'There is nowhere to look',
        'No network is configured, and nothing else is ever scanned.',
        'Add one with `barrow network add`.',
      );
    const view: Discovery = {
      id: newId('f'),
      state: 'running',
      startedAt: rfc3339(Date.now()),
      endedAt: null,
      startedBy: by,
      networks: networks.map((n) => n.name),
      addresses: 0,
      asked: 0,
      answered: 0,
      strangeDatagrams: 0,
      found: [],
      silent: [],
      problems: [],
    };
    const stop = new AbortController();
    const ended = this.#run(view, networks, stop.signal).catch((error: unknown) => {
      view.state = 'failed';
      view.problems.push(error instanceof Error ? error.message : String(error));
      this.context.log.error({ error }, 'discovery failed');
    });
    const running = { view, stop, ended: ended.then(() => this.#finish(view)) };
    this.#running = running;
    return view;
  }

  /** Told as ended only once it is kept and the next may begin. */
  async #finish(view: Discovery): Promise<void> {
    const ended: Discovery = { ...view, endedAt: rfc3339(Date.now()), state: view.state === 'running' ? 'done' : view.state };
    await this.context.db.write(async (em) =>
      em.insert(DiscoveryEntity, { id: view.id, startedAt: Date.parse(view.startedAt), result: ended }),
    );
    Object.assign(view, ended);
    this.#running = null;
    this.context.live.tell({ kind: 'discovery', discovery: view });
    this.context.live.changed('devices');
  }

  async stop(): Promise<void> {
    this.#running?.stop.abort();
    await this.#running?.ended;
  }

  /** @throws Refusal */
  async get(id: string): Promise<Discovery> {
    if (this.#running && (id === 'latest' || this.#running.view.id === id)) return this.#running.view;
    const row = await this.context.db.findOne(DiscoveryEntity, id === 'latest' ? {} : { id }, { orderBy: { startedAt: 'desc' } });
    if (!row) throw notFound('discovery', id, 'Start one with `barrow discover`.');
    return row.result as Discovery;
  }

  async #run(view: Discovery, networks: readonly NetworkRow[], signal: AbortSignal): Promise<void> {
    const credentials = new Map((await this.context.db.find(CredentialEntity)).map((c) => [c.id, c]));
    const before = new Map((await this.devices.all()).map((d) => [d.row.id, d.row]));
    const seen = new Set<string>();
    const plans = networks.map((network) => ({ network, addresses: addressesOf(network.ranges, network.exclude) }));
    view.addresses = plans.reduce((sum, p) => sum + p.addresses.length, 0);
    const index = new IdentityIndex(before.values());
    const queue = [...plans];
    const searcher = async (): Promise<void> => {
      for (let plan = queue.shift(); plan !== undefined && !signal.aborted; plan = queue.shift())
        await this.#search(plan.network, plan.addresses, { view, credentials, index, seen, signal });
    };
    // Each network has its own packet rate; together they wait only as long as the slowest.
    await Promise.all(Array.from({ length: Math.min(networksAtOnce, plans.length) }, searcher));
    if (signal.aborted) {
      view.state = 'stopped';
      return;
    }
    const names = new Set(networks.map((n) => n.name));
    for (const row of before.values())
      if (names.has(row.network) && !seen.has(row.id))
        view.silent.push({ device: row.id, name: row.name, address: row.address, lastSeen: rfc3339(row.lastSeen) });
  }

  async #search(network: NetworkRow, addresses: readonly string[], all: Search): Promise<void> {
    const { view, credentials, signal } = all;
    const communities = network.credentials.map((id) => credentials.get(id)).filter((c): c is CredentialRow => c?.kind === 'snmp-v2c');
    if (communities.length === 0) {
      view.problems.push(`network ${network.name} has no SNMP credential, so nothing in it could be asked`);
      return;
    }
    let left = [...addresses];
    let counted = 0;
    const count = (asked: number): void => {
      view.asked += Math.max(0, asked - counted);
      counted = Math.max(counted, asked);
      this.#tell(view);
    };
    for (const credential of communities) {
      const answers = new Set<string>();
      const result = await sweep({
        addresses: left,
        port: network.snmpPort,
        community: this.context.sealer.open(credential.sealed),
        oids: [systemObjects.description, systemObjects.objectId],
        packetsPerSecond: network.packetsPerSecond,
        tries: sweepTries,
        waitMs: sweepWaitMs,
        signal,
        onAnswer: ({ address }) => {
          answers.add(address);
          view.answered++;
        },
        onProgress: (asked) => count(Math.min(left.length, asked)),
      });
      view.strangeDatagrams += result.strange;
      await this.#readAll([...answers], network, credential, all);
      left = left.filter((a) => !answers.has(a));
    }
    if (!signal.aborted) count(addresses.length);
  }

  #toldAt = 0;
  #tell(view: Discovery): void {
    const now = Date.now();
    if (now - this.#toldAt < 200) return;
    this.#toldAt = now;
    this.context.live.tell({ kind: 'discovery', discovery: view });
  }

  async #readAll(addresses: readonly string[], network: NetworkRow, credential: CredentialRow, all: Search): Promise<void> {
    const { view, index, seen, signal } = all;
    const queue = [...addresses];
    const reader = async (): Promise<void> => {
      for (let address = queue.shift(); address !== undefined && !signal.aborted; address = queue.shift())
        try {
          const found = await this.#read(address, network, credential, index);
          seen.add(found.device);
          view.found.push(found);
          this.#tell(view);
        } catch (error) {
          view.problems.push(`${address} answered the sweep and then could not be read: ${(error as Error).message}`);
        }
    };
    await Promise.all(Array.from({ length: Math.min(readsAtOnce, addresses.length) }, reader));
  }

  async #read(address: string, network: NetworkRow, credential: CredentialRow, index: IdentityIndex): Promise<Discovery['found'][number]> {
    const target: SnmpTarget = { address, port: network.snmpPort, community: this.context.sealer.open(credential.sealed) };
    const raw = await readSnmp(this.context, target);
    const at = Date.now();
    const parsed = recordFromSnmp(raw);
    const recognised = recogniseSnmp(this.context.families.values(), parsed);
    const known = index.find(parsed, address);
    const model = recognised?.family.models.find((m) => m.model === parsed.model);
    const id = known?.id ?? `d-${digestOf(identityOf(parsed, address)).slice(0, 10)}`;
    const row: Partial<DeviceRow> & Pick<DeviceRow, 'id'> = {
      id,
      name: parsed.name ?? address,
      address,
      kind: recognised?.family.kind ?? 'other',
      maker: parsed.maker ?? recognised?.family.maker ?? null,
      model: parsed.model,
      hardwareRevision: parsed.hardwareRevision,
      variant: model?.variant ?? (parsed.model === null ? null : ''),
      serial: parsed.serial,
      mac: parsed.mac,
      engineId: parsed.engineId,
      firmware: parsed.firmware,
      bootLoader: parsed.bootLoader,
      family: recognised?.family.family ?? null,
      familyEvidence: recognised?.evidence ?? null,
      site: network.site,
      network: network.name,
      snmpCredential: credential.id,
      upSince: parsed.agentUptime === null ? null : at - parsed.agentUptime / this.context.options.timeScale,
      lastSeen: at,
    };
    if (!known) Object.assign(row, { firstSeen: at, hostKey: null });
    index.add(row as DeviceRow);
    await this.devices.observe(row, { probe: 'SNMP v2c', address, at, raw: Object.fromEntries(raw), parsed: { ...parsed } }, !known);
    const changes = known ? differences(known, row) : [];
    const what = !recognised
      ? 'unrecognised'
      : !known
        ? 'new'
        : known.address !== address
          ? 'moved'
          : changes.length > 0
            ? 'changed'
            : 'same';
    return {
      device: id,
      name: row.name!,
      address,
      what,
      detail: !known
        ? [parsed.maker, parsed.model, parsed.firmware].filter(Boolean).join(' ') || (parsed.description ?? 'answers SNMP')
        : changes.join(', '),
    };
  }
}

/** Reads the standard objects that say what a device is. */
export async function readSnmp(context: Pick<Context, 'snmp'>, target: SnmpTarget): Promise<Map<string, string | number>> {
  const system = await context.snmp.get(target, Object.values(systemObjects));
  const [entities, macs] = await Promise.all([
    context.snmp.walk(target, entityTable, 500),
    context.snmp.walk(target, physicalAddresses, 200),
  ]);
  const all = new Map<string, string | number>();
  for (const value of [...system.values(), ...entities, ...macs]) all.set(value.oid, value.value);
  return all;
}

/** What a device is known by: its serial, else its MAC, else its engine ID; an address only when it tells none of them. */
function identityOf(record: Pick<SnmpRecord, 'serial' | 'maker' | 'mac' | 'engineId'>, address: string): string {
  if (record.serial) return `serial/${record.maker ?? ''}/${record.serial}`;
  if (record.mac) return `mac/${record.mac}`;
  if (record.engineId) return `engine/${record.engineId}`;
  return `address/${address}`;
}

class IdentityIndex {
  readonly #byIdentity = new Map<string, DeviceRow>();
  constructor(rows: Iterable<DeviceRow>) {
    for (const row of rows) this.add(row);
  }
  add(row: DeviceRow): void {
    this.#byIdentity.set(identityOf(row, row.address), row);
  }
  find(record: SnmpRecord, address: string): DeviceRow | null {
    return this.#byIdentity.get(identityOf(record, address)) ?? null;
  }
}

const compared = [
  ['address', 'address'],
  ['name', 'name'],
  ['model', 'model'],
  ['hardwareRevision', 'hardware revision'],
  ['firmware', 'firmware'],
  ['bootLoader', 'boot loader'],
  ['site', 'site'],
] as const;

function differences(before: DeviceRow, after: Partial<DeviceRow>): string[] {
  return compared.flatMap(([key, word]) =>
    before[key] === after[key] ? [] : [`${word} ${before[key] ?? 'not known'} → ${after[key] ?? 'not known'}`],
  );
}
