import { createHash, randomBytes } from 'node:crypto';
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { nearestNames, type Dhcp, type Offer, type StoreProtocol } from '@barrow/core';
import type { Context } from '../context.js';
import { DeviceEntity, ImageEntity, NetworkEntity, OfferEntity, type DeviceRow, type ImageRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound } from '../errors.js';
import { addressesOf, hostsOf, isOwn, routeTo } from './addresses.js';
import type { Sites } from './sites.js';

type Fetcher = Pick<
  DeviceRow,
  'id' | 'name' | 'address' | 'addresses' | 'fetchesFrom' | 'site' | 'network' | 'family' | 'model' | 'variant'
>;

/** One file, offered to one device. */
export interface Offered {
  readonly image: ImageRow;
  readonly file: { readonly file: string; readonly sha256: string; readonly bytes: number };
  /** The exact name that the device asks for. */
  readonly name: string;
  readonly device: Fetcher;
  /** The part of the HTTP address that nobody can guess; the same for all files of an image for this device. */
  readonly secret: string;
  /** Who wants it offered: rollouts, deliveries, or the id of a person's offer. */
  readonly owners: Set<string>;
}

/** A text that is laid for one device, in a file of its own. */
export interface LaidText {
  readonly path: string;
  readonly bytes: number;
  readonly sha256: string;
  readonly device: Fetcher;
  readonly name: string;
}

/** Where a device is told to fetch from. */
export interface Told {
  readonly address: string;
  readonly port: number;
  readonly url: string;
  readonly name: string;
}

/** What is offered, where, and to whom: a file under one name, to the addresses of one device. */
export class Offers {
  /** By the address of the device, then by the name asked for. */
  readonly #byAddress = new Map<string, Map<string, Offered>>();
  /** How many devices are offered a name; what strangers ask for is looked up here. */
  readonly #names = new Map<string, number>();

  /** Texts laid for devices, by address and name. */
  readonly #texts = new Map<string, LaidText>();

  constructor(
    private readonly context: Context,
    private readonly sites: Sites,
    private readonly ports: () => { readonly tftp: number; readonly http: number; readonly secure: boolean },
  ) {}

  /** Takes up again what persons had staged before the service was stopped. */
  async load(): Promise<void> {
    const { db } = this.context;
    // What was laid by a process that was killed is given to nobody; who needs it lays it again.
    rmSync(this.#laidFolder, { recursive: true, force: true });
    const [offers, images, devices] = await Promise.all([db.find(OfferEntity), db.find(ImageEntity), db.find(DeviceEntity)]);
    const imageOf = new Map(images.map((i) => [i.sha256, i]));
    const deviceOf = new Map(devices.map((d) => [d.id, d]));
    for (const offer of offers) {
      const image = imageOf.get(offer.image);
      const device = deviceOf.get(offer.device);
      if (image && device) this.offer(image, device, offer.id);
    }
  }

  /** The exact name under which a device of this family asks for a file. */
  nameFor(image: ImageRow, file: { readonly file: string }, device: Pick<Fetcher, 'family' | 'model' | 'variant'>): string {
    const rule = this.context.families.get(device.family ?? image.family)?.asks.name;
    if (rule === undefined || image.files.length > 1) return file.file;
    const parts: Record<string, string> = {
      file: file.file,
      version: image.version,
      model: device.model ?? '',
      variant: device.variant ?? '',
    };
    return rule.replace(/\{(file|version|model|variant)\}/g, (_, part: string) => parts[part]!);
  }

  protocolFor(device: Pick<Fetcher, 'family'>): StoreProtocol {
    const family = this.context.families.get(device.family ?? '');
    return (family?.staging?.by ?? (family?.travel?.how === 'device-pulls' ? family.travel.protocol : null)) === 'http' ? 'http' : 'tftp';
  }

  /** Every file of the image, to this device alone. */
  offer(image: ImageRow, device: Fetcher, owner: string): Offered[] {
    const secret = [...(this.#byAddress.get(device.address)?.values() ?? [])].find((o) => o.image.sha256 === image.sha256)?.secret;
    const shared = secret ?? randomBytes(16).toString('hex');
    const made = image.files.map((file): Offered => {
      const name = this.nameFor(image, file, device);
      const known = this.#byAddress.get(device.address)?.get(name);
      if (known?.file.sha256 === file.sha256) {
        known.owners.add(owner);
        return known;
      }
      if (known) this.#forget(known);
      const entry: Offered = { image, file, name, device, secret: shared, owners: new Set([owner]) };
      for (const address of addressesOf(device)) {
        let files = this.#byAddress.get(address);
        if (!files) this.#byAddress.set(address, (files = new Map()));
        files.set(name, entry);
      }
      this.#names.set(name, (this.#names.get(name) ?? 0) + 1);
      return entry;
    });
    this.context.live.changed('offers');
    return made;
  }

  /** Takes one owner's wish back; the offer goes when nobody wants it any more. */
  withdraw(image: ImageRow, device: Fetcher, owner: string): void {
    for (const file of image.files) {
      const entry = this.#byAddress.get(device.address)?.get(this.nameFor(image, file, device));
      if (!entry) continue;
      entry.owners.delete(owner);
      if (entry.owners.size === 0) this.#forget(entry);
    }
    this.context.live.changed('offers');
  }

  #forget(entry: Offered): void {
    for (const address of addressesOf(entry.device)) {
      const files = this.#byAddress.get(address);
      if (files?.get(entry.name) !== entry) continue;
      files.delete(entry.name);
      if (files.size === 0) this.#byAddress.delete(address);
    }
    const left = (this.#names.get(entry.name) ?? 1) - 1;
    if (left === 0) this.#names.delete(entry.name);
    else this.#names.set(entry.name, left);
  }

  /** The device fetches from this address too: what is offered to it is offered there. */
  also(device: Fetcher, address: string): void {
    const files = this.#byAddress.get(device.address);
    if (!files) return;
    let there = this.#byAddress.get(address);
    if (!there) this.#byAddress.set(address, (there = new Map()));
    for (const [name, entry] of files) {
      entry.device.fetchesFrom.push(address);
      there.set(name, entry);
    }
  }

  get #laidFolder(): string {
    return join(this.context.options.dataFolder, 'laid');
  }

  /** Lays a text for a device alone, under the exact name that it asks for; answers how to take it away again. */
  lay(device: Fetcher, name: string, text: string): () => void {
    mkdirSync(this.#laidFolder, { recursive: true, mode: 0o700 });
    const path = join(this.#laidFolder, device.id);
    const content = Buffer.from(text);
    writeFileSync(path, content, { mode: 0o600 });
    const sha256 = createHash('sha256').update(content).digest('hex');
    const laid: LaidText = { path, bytes: content.length, sha256, device, name };
    const keys = addressesOf(device).map((address) => `${address} ${name}`);
    for (const key of keys) this.#texts.set(key, laid);
    return () => {
      for (const key of keys) if (this.#texts.get(key) === laid) this.#texts.delete(key);
      if (![...this.#texts.values()].some((t) => t.path === path)) rmSync(path, { force: true });
    };
  }

  textFor(address: string, name: string): LaidText | null {
    return this.#texts.get(`${address} ${name}`) ?? null;
  }

  find(address: string, name: string): Offered | null {
    return this.#byAddress.get(address)?.get(name) ?? null;
  }

  /** What an HTTP path asks for: `/get/SECRET/NAME`, or the name alone where the family allows nothing longer. */
  findPath(address: string, path: string): Offered | null {
    const [, secret, name] = /^\/get\/([0-9a-f]{32})\/(.+)$/.exec(path) ?? [];
    if (secret !== undefined) {
      const entry = this.find(address, name!);
      return entry?.secret === secret ? entry : null;
    }
    const entry = this.find(address, path.replace(/^\//, ''));
    return entry && !this.#longAddress(entry.device) ? entry : null;
  }

  /** The device whose offers an address may fetch. */
  deviceAt(address: string): Fetcher | null {
    return this.#byAddress.get(address)?.values().next().value?.device ?? null;
  }

  namesFor(address: string): string[] {
    return [...(this.#byAddress.get(address)?.keys() ?? [])];
  }

  /** Whether an asked-for file is one that the device asks for by habit. */
  isHabit(device: Fetcher, name: string, matches: (source: string, text: string) => boolean): boolean {
    return (this.context.families.get(device.family ?? '')?.asks.byHabit ?? []).some((source) => matches(source, name));
  }

  /** Why a request gets nothing; staged names are told only to who has something staged. */
  whyNot(address: string, name: string): { known: boolean; why: string } {
    const names = this.namesFor(address);
    if (names.length === 0) return { known: false, why: 'nothing is staged for this address' };
    const near = nearestNames(name, names)
      .map((n) => `${n.name} (${n.how})`)
      .join(', ');
    return { known: true, why: `not staged under this name; staged: ${near}` };
  }

  #longAddress(device: Pick<Fetcher, 'family'>): boolean {
    return this.context.families.get(device.family ?? '')?.asks.longAddress ?? true;
  }

  /** Stages an image for devices by a person's wish; it stays until it is dropped. */
  async put(image: ImageRow, devices: readonly DeviceRow[], by: string): Promise<void> {
    const rows = devices.map((d) => ({ id: newId('o'), image: image.sha256, device: d.id, createdAt: Date.now(), createdBy: by }));
    await this.context.db.write(async (em) => {
      for (const row of rows) await em.nativeDelete(OfferEntity, { image: row.image, device: row.device });
      await em.insertMany(OfferEntity, rows);
    });
    devices.forEach((device, i) => this.offer(image, device, rows[i]!.id));
  }

  /** Drops a person's offer of an image, for one device or for all. @throws Refusal when there is none. */
  async drop(image: ImageRow, device: DeviceRow | null): Promise<number> {
    const where = { image: image.sha256, ...(device ? { device: device.id } : {}) };
    const rows = await this.context.db.find(OfferEntity, where);
    if (rows.length === 0) throw notFound('offer', image.file, '`barrow staging list` shows what is offered.');
    await this.context.db.write(async (em) => em.nativeDelete(OfferEntity, where));
    const ids = new Set(rows.map((r) => r.id));
    for (const entry of this.#entries())
      for (const owner of entry.owners) if (ids.has(owner)) this.withdraw(entry.image, entry.device, owner);
    return rows.length;
  }

  #entries(): Set<Offered> {
    return new Set([...this.#byAddress.values()].flatMap((files) => [...files.values()]));
  }

  /** Whether anybody is still offered this content. */
  wants(sha256: string): boolean {
    for (const entry of this.#entries()) if (entry.image.sha256 === sha256 || entry.file.sha256 === sha256) return true;
    return false;
  }

  /** The address that a device is told to fetch from. */
  async storeAddressFor(device: Pick<DeviceRow, 'address' | 'network' | 'site'>, protocol: StoreProtocol = 'tftp'): Promise<string> {
    const network = await this.context.db.keptOne(NetworkEntity, 'name', device.network);
    const { options } = this.context;
    const told = network?.storeAddress ?? this.sites.get(device.site).storeAddress ?? options.storeAddress;
    if (told) return told;
    const listen = protocol === 'tftp' ? options.tftpListen : options.httpStoreListen;
    const hosts = hostsOf(listen);
    if (hosts.length === 1) return hosts[0]!;
    const route = await routeTo(device.address);
    return hosts.includes(route) ? route : hosts[0]!;
  }

  /** Whether an address is one of this machine at which that store does not listen. */
  isElsewhere(address: string, protocol: StoreProtocol): boolean {
    const { options } = this.context;
    const hosts = hostsOf(protocol === 'tftp' ? options.tftpListen : options.httpStoreListen);
    return isOwn(address) && !hosts.includes(address);
  }

  /** What a device is told, for the first file of what it is offered. */
  async told(offered: Pick<Offered, 'name' | 'secret'> & { readonly device: DeviceRow | Fetcher }, protocol: StoreProtocol): Promise<Told> {
    const address = await this.storeAddressFor(offered.device, protocol);
    const { tftp, http, secure } = this.ports();
    const port = protocol === 'tftp' ? tftp : http;
    const host = address.includes(':') ? `[${address}]` : address;
    const path = this.#longAddress(offered.device) ? `get/${offered.secret}/${offered.name}` : offered.name;
    const url = protocol === 'tftp' ? `tftp://${host}:${port}/${offered.name}` : `http${secure ? 's' : ''}://${host}:${port}/${path}`;
    return { address, port, url, name: offered.name };
  }

  /** The addresses that devices are told, asked for once for each network and site. */
  #addresses(): (device: Fetcher, protocol: StoreProtocol) => Promise<string> {
    const known = new Map<string, string>();
    return async (device, protocol) => {
      const from = `${device.network}|${device.site}|${protocol}`;
      let address = known.get(from);
      if (address === undefined) known.set(from, (address = await this.storeAddressFor(device, protocol)));
      return address;
    };
  }

  async list(): Promise<Offer[]> {
    const addressOf = this.#addresses();
    const grouped = new Map<string, { entry: Offered; devices: Fetcher[]; rollout: string | null; url: string; protocol: StoreProtocol }>();
    for (const entry of this.#entries()) {
      const rollout = [...entry.owners].find((o) => !o.startsWith('o-')) ?? null;
      const protocol = this.protocolFor(entry.device);
      const address = await addressOf(entry.device, protocol);
      const { tftp, http, secure } = this.ports();
      const url =
        protocol === 'tftp'
          ? `tftp://${address}:${tftp}/${entry.name}`
          : `http${secure ? 's' : ''}://${address}:${http}/${this.#longAddress(entry.device) ? 'get/…/' : ''}${entry.name}`;
      const key = `${entry.file.sha256}|${entry.name}|${rollout}|${url}`;
      const group = grouped.get(key);
      if (group) group.devices.push(entry.device);
      else grouped.set(key, { entry, devices: [entry.device], rollout, url, protocol });
    }
    return [...grouped].map(([id, { entry, devices, rollout, url, protocol }]) => ({
      id,
      image: entry.image.sha256,
      file: entry.name,
      protocol,
      url,
      sha256: entry.file.sha256,
      bytes: entry.file.bytes,
      devices: devices
        .map(({ id, name, address }) => ({ id, name, address }))
        .sort((a, b) => a.name.localeCompare(b.name, 'en', { numeric: true })),
      rollout,
    }));
  }

  /** What to enter into a DHCP server for what is staged: RFC 2132 options 66 and 67, RFC 5859 option 150. */
  async dhcp(): Promise<Dhcp> {
    const items = new Map<string, Dhcp['items'][number]>();
    const addressOf = this.#addresses();
    for (const entry of this.#entries()) {
      const { device, name } = entry;
      const address = await addressOf(device, 'tftp');
      const key = `${device.site}|${name}|${address}`;
      const known = items.get(key);
      if (known) {
        known.devices.push(device.name);
        continue;
      }
      const family = this.context.families.get(device.family ?? '');
      const warnings = [];
      if (family?.kind === 'phone' || family?.kind === 'base-station')
        warnings.push(
          'These devices fetch their settings from the server that is named here as well: without them there, they may lose their accounts.',
        );
      if (family?.asks.toldBy !== 'dhcp')
        warnings.push('Barrow tells these devices itself where to fetch from; they may not look at DHCP.');
      if (this.ports().tftp !== 69)
        warnings.push(`These options name no port: the devices ask at 69, and the store listens at ${this.ports().tftp}.`);
      for (const habit of family?.asks.byHabit ?? [])
        warnings.push(`They also ask for files like ${habit}; that those are not there is no fault.`);
      items.set(key, {
        site: device.site,
        devices: [device.name],
        file: name,
        options: [
          { code: 66, name: 'TFTP server name', value: address },
          { code: 67, name: 'boot file name', value: name },
          { code: 150, name: 'TFTP server address', value: address },
        ],
        warnings,
      });
    }
    return { items: [...items.values()].sort((a, b) => (a.site + a.file < b.site + b.file ? -1 : 1)) };
  }
}
