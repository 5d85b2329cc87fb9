import { createSocket } from 'node:dgram';
import type { Offer } from '@barrow/core';
import type { Context } from '../context.js';
import { DeviceEntity, ImageEntity, NetworkEntity, OfferEntity, type DeviceRow, type ImageRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound } from '../errors.js';

export interface OfferedDevice {
  readonly id: string;
  readonly name: string;
  readonly address: string;
}

interface Entry {
  readonly image: ImageRow;
  readonly device: OfferedDevice;
  /** Who wants it offered: rollouts, or the id of a person's offer. */
  readonly owners: Set<string>;
}

/** What is offered, where, and to whom: a file under one name, to one address. */
export class Offers {
  /** By the address of the device, then by file name. */
  readonly #byAddress = new Map<string, Map<string, Entry>>();

  constructor(
    private readonly context: Context,
    private readonly storePort: () => number,
  ) {}

  /** Takes up again what persons had staged before the service was stopped. */
  async load(): Promise<void> {
    const { db } = this.context;
    const [offers, images, devices] = await Promise.all([db.find(OfferEntity), db.find(ImageEntity), db.find(DeviceEntity)]);
    const imageOf = new Map(images.map((i) => [i.sha256, i]));
    const deviceOf = new Map(devices.map((d) => [d.id, d]));
    for (const offer of offers) {
      const image = imageOf.get(offer.image);
      const device = deviceOf.get(offer.device);
      if (image && device) this.offer(image, device, offer.id);
    }
  }

  offer(image: ImageRow, device: OfferedDevice, owner: string): void {
    let files = this.#byAddress.get(device.address);
    if (!files) this.#byAddress.set(device.address, (files = new Map()));
    const entry = files.get(image.file);
    if (entry?.image.sha256 === image.sha256) entry.owners.add(owner);
    else files.set(image.file, { image, device: { id: device.id, name: device.name, address: device.address }, owners: new Set([owner]) });
    this.context.live.changed('offers');
  }

  /** Takes one owner's wish back; the offer goes when nobody wants it any more. */
  withdraw(address: string, file: string, owner: string): void {
    const files = this.#byAddress.get(address);
    const entry = files?.get(file);
    if (!files || !entry) return;
    entry.owners.delete(owner);
    if (entry.owners.size === 0) files.delete(file);
    if (files.size === 0) this.#byAddress.delete(address);
    this.context.live.changed('offers');
  }

  find(address: string, file: string): Entry | null {
    return this.#byAddress.get(address)?.get(file) ?? null;
  }

  namesFor(address: string): string[] {
    return [...(this.#byAddress.get(address)?.keys() ?? [])];
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
    for (const [address, files] of [...this.#byAddress])
      for (const [file, entry] of [...files]) for (const owner of entry.owners) if (ids.has(owner)) this.withdraw(address, file, owner);
    return rows.length;
  }

  /** The address that a device is told to fetch from. */
  async storeAddressFor(device: Pick<DeviceRow, 'address' | 'network'>): Promise<string> {
    const network = await this.context.db.findOne(NetworkEntity, { name: device.network });
    const told = network?.storeAddress ?? this.context.options.storeAddress;
    if (told) return told;
    const { host } = this.context.options.tftpListen;
    return host === '0.0.0.0' || host === '::' ? routeTo(device.address) : host;
  }

  async list(): Promise<Offer[]> {
    const grouped = new Map<string, { entry: Entry; devices: OfferedDevice[]; rollout: string | null }>();
    for (const files of this.#byAddress.values())
      for (const entry of files.values()) {
        const rollout = [...entry.owners].find((o) => o.startsWith('r-')) ?? null;
        const key = `${entry.image.sha256}|${rollout}`;
        const group = grouped.get(key);
        if (group) group.devices.push(entry.device);
        else grouped.set(key, { entry, devices: [entry.device], rollout });
      }
    const { host } = this.context.options.tftpListen;
    return [...grouped].map(([id, { entry, devices, rollout }]) => ({
      id,
      image: entry.image.sha256,
      file: entry.image.file,
      protocol: 'tftp' as const,
      url: `tftp://${this.context.options.storeAddress ?? host}:${this.storePort()}/${entry.image.file}`,
      sha256: entry.image.sha256,
      bytes: entry.image.bytes,
      devices: devices.sort((a, b) => a.name.localeCompare(b.name, 'en', { numeric: true })),
      rollout,
    }));
  }
}

/** Our own address on the way to a device; connecting a UDP socket asks the routing table and sends nothing. */
function routeTo(address: string): Promise<string> {
  return new Promise((resolve, reject) => {
    const socket = createSocket(address.includes(':') ? 'udp6' : 'udp4');
    socket.on('error', reject);
    socket.connect(9, address, () => {
      resolve(socket.address().address);
      socket.close();
    });
  });
}
