import { CauseError, describeMismatches, mismatches, safeText, type Delivery, type ImageScope, type Place } from '@barrow/core';
import { asCause } from '@barrow/families';
import { rfc3339, rfc3339OrNull, type Context } from '../context.js';
import { DeliveryEntity, DeviceEntity, type DeliveryRow, type DeviceRow, type ImageRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import type { DeliveryParts } from './delivery-parts.js';
import { DeliveryQueue } from './delivery-queue.js';
import { carryOut, type DeliveryWork } from './delivery-work.js';
import type { Told } from './offers.js';
import { causeView } from './transfers.js';
import { steadyNow, whileMeasured } from '../steady.js';

const tellEvery = 250;

/** A delivery in memory while it is under way. */
interface Working {
  readonly row: DeliveryRow;
  readonly abort: AbortController;
  readonly done: Promise<void>;
  readonly begunAt: number;
  toldAt: number;
}

/** Brings images ahead of rollouts to where their devices can take them: to the device, its parent, or the store of its site. */
export class Deliveries {
  /** All that have not ended, and those that ended, by id. */
  readonly #rows = new Map<string, DeliveryRow>();
  readonly #working = new Map<string, Working>();
  readonly #queue: DeliveryQueue;
  #resumed = false;

  constructor(
    private readonly context: Context,
    readonly parts: DeliveryParts,
  ) {
    whileMeasured(() => this.#working.size > 0);
    this.#queue = new DeliveryQueue(parts.holdings, (id) => this.#begin(this.#rows.get(id)!));
    // A link that is shared from now on is shared by those that wait as well.
    context.live.listen((event) => {
      if (event.kind === 'changed' && event.what === 'sites') void this.#waitAnew();
    });
  }

  async #waitAnew(): Promise<void> {
    const rows = this.#queue.takeOut(() => true).map((id) => this.#rows.get(id)!);
    await this.#await(rows);
  }

  /** Lets some wait for their turn. */
  async #await(rows: readonly DeliveryRow[]): Promise<void> {
    if (rows.length === 0) return;
    const { under } = await this.parts.map.guards();
    const holders = rows.flatMap((r) => r.holder ?? []);
    const known = holders.length === 0 ? [] : await this.context.db.find(DeviceEntity, { id: { $in: holders } });
    const nameOf = new Map(known.map((d) => [d.id, d.name]));
    this.#queue.add(
      // They may have been stopped meanwhile.
      rows
        .filter((row) => row.state === 'waiting')
        .map(({ id, holder, site, image }) => ({
          id,
          name: holder === null ? `the filling of the store of ${site}` : `the staging on ${nameOf.get(holder) ?? holder}`,
          holder: holder ?? `store of ${site}`,
          site,
          image,
          under: holder === null ? [] : (under.get(holder) ?? [holder]),
          overLink: this.parts.sites.linkOf(site) !== null,
        })),
    );
    if (this.#resumed) this.#queue.look();
  }

  async load(): Promise<void> {
    for (const row of await this.context.db.find(DeliveryEntity, {}, { orderBy: { createdAt: 'asc' } })) {
      // The service was stopped while it was under way: it goes on from where the other side is.
      if (row.state === 'moving' || row.state === 'verifying') row.state = 'waiting';
      this.#rows.set(row.id, row);
    }
    await this.#await([...this.#rows.values()].filter((r) => r.state === 'waiting'));
  }

  /** Takes up again what waits. */
  resume(): void {
    this.#resumed = true;
    this.#queue.look();
  }

  /** @throws Refusal when the image does not fit, or the place cannot keep it. */
  async put(image: ImageRow, devices: readonly DeviceRow[], place: Place, makeRoom: boolean, by: string): Promise<DeliveryRow[]> {
    const groups = await this.group(image, devices, place);
    const rows = groups.map(({ holder, site, devices }): DeliveryRow => ({
      id: newId('dl'),
      image: image.sha256,
      place,
      holder: holder?.id ?? null,
      site,
      devices: devices.map((d) => d.id),
      state: 'waiting',
      makeRoom,
      bytes: 0,
      cause: null,
      detail: null,
      removed: [],
      digestThere: null,
      transfers: [],
      createdAt: steadyNow(),
      createdBy: by,
      endedAt: null,
    }));
    await this.context.db.write(async (em) => em.insertMany(DeliveryEntity, rows));
    for (const row of rows) this.#rows.set(row.id, row);
    await this.#await(rows);
    this.context.live.changed('deliveries');
    return rows;
  }

  /** Who would hold it: each device, each parent, or the store of each site. @throws Refusal */
  async group(
    image: ImageRow,
    devices: readonly DeviceRow[],
    place: Place,
  ): Promise<{ holder: DeviceRow | null; site: string; devices: DeviceRow[] }[]> {
    const refuse = (code: string, why: string, next: string): Refusal => new Refusal(422, code, 'Nothing was staged', why, next);
    const groups = new Map<string, { holder: DeviceRow | null; site: string; devices: DeviceRow[] }>();
    const parents = new Map<string, DeviceRow | null>();
    for (const device of devices) {
      const found = mismatches(image as ImageScope, this.parts.devices.hardwareOf(device));
      if (found.length > 0)
        throw refuse(
          'image-does-not-fit',
          `${image.file} is not for ${device.name}: ${describeMismatches(found)}.`,
          'Stage the image that is for this hardware.',
        );
      let holder: DeviceRow | null = null;
      if (place === 'parent') {
        if (device.parent && !parents.has(device.parent))
          parents.set(device.parent, await this.context.db.findOne(DeviceEntity, { id: device.parent }));
        holder = (device.parent && parents.get(device.parent)) || null;
        const staging = this.context.families.get(holder?.family ?? '')?.staging;
        if (!holder || staging?.keeps !== 'children' || !staging.children.includes(device.family ?? ''))
          throw refuse(
            'place-unfit',
            holder
              ? `${holder.name} keeps no images for ${device.name}, as far as its family says.`
              : `${device.name} has no parent that Barrow knows.`,
            'Stage it on the device or in a store.',
          );
      } else if (place === 'device') {
        const family = this.context.families.get(device.family ?? '');
        if (!family?.staging || family.staging.keeps !== 'own')
          throw refuse(
            'place-unfit',
            `${device.name} cannot take an image ahead of its upgrade, as far as ${family ? `the family ${family.family}` : 'Barrow'} says.`,
            'Stage it in a store: `barrow staging put IMAGE DEVICE`.',
          );
        holder = device;
      } else if (!this.parts.sites.get(device.site).store)
        throw refuse(
          'place-unfit',
          `${device.site} has no store of its own.`,
          'Say where it is: `barrow site set SITE --serve URL --fill URL --credential NAME`.',
        );
      const key = holder?.id ?? device.site;
      const group = groups.get(key);
      if (group) group.devices.push(device);
      else groups.set(key, { holder, site: holder?.site ?? device.site, devices: [device] });
    }
    return [...groups.values()];
  }

  /** Whether a delivery that is under way, or that devices may count on, needs this content. */
  needs(sha256: string, except?: string): boolean {
    for (const row of this.#rows.values())
      if (row.image === sha256 && row.id !== except && row.state !== 'failed' && row.state !== 'stopped') return true;
    return false;
  }

  /** The delivery that speaks to a device now, or null. */
  busyWith(device: string): string | null {
    for (const { row } of this.#working.values()) if (row.holder === device) return row.id;
    return null;
  }

  /** Why an image must stay until it has been brought to where it goes, or null. */
  underWay(sha256: string): string | null {
    for (const row of this.#rows.values())
      if (row.image === sha256 && row.endedAt === null) return 'it is being brought ahead to its devices';
    return null;
  }

  /** Where a device of a site with a store of its own is told to fetch from, once the image is there. */
  fromSite(device: Pick<DeviceRow, 'site'>, image: ImageRow, name: string): Told | null {
    const { store } = this.parts.sites.get(device.site);
    if (!store) return null;
    const there = [...this.#rows.values()].some(
      (r) => r.place === 'site-store' && r.site === device.site && r.image === image.sha256 && r.state === 'verified',
    );
    if (!there) return null;
    const url = new URL(store.serve);
    const tftp = url.protocol === 'tftp:';
    const folder = url.pathname.replace(/^\/|\/$/g, '');
    const path = folder === '' ? name : `${folder}/${name}`;
    return {
      address: url.hostname.replace(/^\[|\]$/g, ''),
      port: Number(url.port) || (tftp ? 69 : 80),
      url: `${url.protocol}//${url.host}/${path}`,
      name: path,
    };
  }

  /** @throws Refusal */
  get(id: string): DeliveryRow {
    const row = this.#rows.get(id);
    if (!row) throw notFound('delivery', id, '`barrow staging list` shows those that are under way or done.');
    return row;
  }

  /** Stops one that waits or is under way. @throws Refusal when it has ended. */
  async stopOne(id: string): Promise<void> {
    const row = this.get(id);
    if (row.endedAt !== null)
      throw new Refusal(
        409,
        'delivery-ended',
        'Nothing was stopped',
        `It has ended: ${row.state}.`,
        '`barrow staging list` shows how they stand.',
      );
    const working = this.#working.get(id);
    working?.abort.abort();
    if (working) await working.done;
    else this.#queue.leave(id, 'stopped by a person');
    if (row.endedAt === null) await this.#end(row, 'stopped', null, 'stopped by a person');
  }

  /** Begins one anew that failed or was stopped. @throws Refusal */
  async retry(id: string): Promise<void> {
    const row = this.get(id);
    if (row.state !== 'failed' && row.state !== 'stopped')
      throw new Refusal(
        409,
        'delivery-not-failed',
        'Nothing was begun anew',
        `It is ${row.state}.`,
        'Only what failed or was stopped is begun anew.',
      );
    Object.assign(row, { state: 'waiting', cause: null, detail: null, endedAt: null, bytes: 0 });
    await this.#save(row);
    await this.#await([row]);
  }

  async stop(): Promise<void> {
    this.#queue.stop();
    for (const { abort } of this.#working.values()) abort.abort();
    await Promise.all([...this.#working.values()].map((w) => w.done));
  }

  #begin(row: DeliveryRow): void {
    const abort = new AbortController();
    const work: DeliveryWork = {
      context: this.context,
      parts: this.parts,
      deliveries: this,
      row,
      signal: abort.signal,
      state: (state) => {
        row.state = state;
        void this.#save(row);
      },
      progress: (bytes) => {
        row.bytes = Math.min(bytes, Number.MAX_SAFE_INTEGER);
        this.#tell(row, false);
      },
    };
    const done = (async () => {
      try {
        row.state = 'moving';
        await this.#save(row);
        const { digest, comparedBy } = await carryOut(work);
        row.digestThere = digest;
        // The word stands only behind a comparison of the content.
        if (comparedBy === 'digest') await this.#end(row, 'verified', null, null);
        else {
          const word = comparedBy === 'size' ? 'its size is ours, and it cannot tell a digest' : 'it cannot tell what it holds';
          await this.#end(row, 'brought', null, word);
        }
      } catch (error) {
        const cause = asCause(error);
        if (abort.signal.aborted) {
          // Stopped with the service, it goes on at the next start; stopped by a person, that is said by who stopped it.
          row.state = 'waiting';
          await this.#save(row);
        } else if (cause instanceof CauseError) await this.#end(row, 'failed', cause.code, safeText(cause.detail, 1000));
        else {
          this.context.log.error({ error, delivery: row.id }, 'a delivery failed by a fault of Barrow');
          await this.#end(row, 'failed', 'service-fault', safeText(cause.message, 400));
        }
      }
    })()
      .catch((error: unknown) => this.context.log.error({ error, delivery: row.id }, 'a delivery could not be written down'))
      .then(() => {
        this.#working.delete(row.id);
        if (row.state === 'waiting') this.#queue.leave(row.id, 'stopped');
        else this.#queue.ended(row.id, row.cause);
      });
    this.#working.set(row.id, { row, abort, done, begunAt: steadyNow(), toldAt: 0 });
  }

  async #end(row: DeliveryRow, state: DeliveryRow['state'], cause: string | null, detail: string | null): Promise<void> {
    Object.assign(row, { state, cause, detail, endedAt: steadyNow() });
    await this.#save(row);
    this.context.log.info({ delivery: row.id, state, cause, detail }, 'delivery ended');
    this.context.live.changed('deliveries');
  }

  async #save(row: DeliveryRow): Promise<void> {
    await this.context.db.writeSurely(async (em) => {
      const { id, ...rest } = row;
      return em.nativeUpdate(DeliveryEntity, { id }, rest);
    });
    this.#tell(row, true);
  }

  #tell(row: DeliveryRow, always: boolean): void {
    const working = this.#working.get(row.id);
    const now = steadyNow();
    if (!always && working && now - working.toldAt < tellEvery) return;
    if (working) working.toldAt = now;
    void this.view([row])
      .then(([delivery]) => delivery && this.context.live.tell({ kind: 'delivery', delivery }))
      .catch((error: unknown) => this.context.log.error({ error }, 'a delivery could not be told'));
  }

  /** What waits or moves for a site, and how long that takes at what the site is given. */
  waitingFor(site: string): { bytes: number; secondsLeft: number | null } {
    let bytes = 0;
    for (const row of this.#rows.values()) if (row.site === site) bytes += this.#leftOf(row);
    const rate = this.#rateAt(site);
    return { bytes, secondsLeft: bytes === 0 || rate === null ? null : Math.ceil(bytes / rate) };
  }

  readonly #sizes = new Map<string, number>();

  #leftOf(row: DeliveryRow): number {
    return row.endedAt !== null ? 0 : Math.max(0, (this.#sizes.get(row.image) ?? 0) - row.bytes);
  }

  /** Octets in a second: what its link is given, or what its deliveries lately moved. */
  #rateAt(site: string): number | null {
    const link = this.parts.sites.linkOf(site);
    const measured = this.parts.transfers.rateAt(site);
    if (measured === 0) return link?.octetsPerSecond ?? null;
    return link ? Math.min(link.octetsPerSecond, measured) : measured;
  }

  /** For each that has not ended: the octets that go to its site before it is there, its own among them. */
  #ahead(): Map<string, number> {
    const perSite = new Map<string, number>();
    const ahead = new Map<string, number>();
    for (const row of this.#rows.values()) {
      if (row.endedAt !== null) continue;
      const sum = (perSite.get(row.site) ?? 0) + this.#leftOf(row);
      perSite.set(row.site, sum);
      ahead.set(row.id, sum);
    }
    return ahead;
  }

  async view(rows: readonly DeliveryRow[]): Promise<Delivery[]> {
    const { devices, images } = this.parts;
    const [known, all] = await Promise.all([devices.all(), images.list()]);
    const nameOf = new Map(known.map((d) => [d.row.id, d.row.name]));
    const imageOf = new Map(all.map((i) => [i.sha256, i]));
    for (const image of all) this.#sizes.set(image.sha256, image.bytes);
    const ahead = this.#ahead();
    return rows.map((row) => {
      const image = imageOf.get(row.image);
      const working = this.#working.get(row.id);
      const rate = working && row.bytes > 0 ? Math.round((row.bytes * 1000) / Math.max(1, steadyNow() - working.begunAt)) : 0;
      const siteRate = this.#rateAt(row.site);
      return {
        id: row.id,
        image: row.image,
        file: image?.file ?? '(removed)',
        family: image?.family ?? '',
        version: image?.version ?? '',
        totalBytes: image?.bytes ?? 0,
        place: row.place,
        holder: { id: row.holder, name: row.holder === null ? row.site : (nameOf.get(row.holder) ?? '(removed)') },
        site: row.site,
        devices: row.devices.map((id) => ({ id, name: nameOf.get(id) ?? '(removed)' })),
        state: row.state,
        bytes: row.bytes,
        rate,
        secondsLeft: row.endedAt === null && siteRate !== null && siteRate > 0 ? Math.ceil((ahead.get(row.id) ?? 0) / siteRate) : null,
        cause: row.cause === null ? null : causeView(row.cause),
        detail: row.state === 'waiting' ? (this.#queue.waits(row.id) ?? row.detail) : row.detail,
        removed: [...row.removed],
        digestThere: row.digestThere,
        transfers: [...row.transfers],
        createdAt: rfc3339(row.createdAt),
        createdBy: row.createdBy,
        endedAt: rfc3339OrNull(row.endedAt),
      };
    });
  }

  /** The newest first. */
  async list(limit = 500): Promise<Delivery[]> {
    return this.view([...this.#rows.values()].reverse().slice(0, limit));
  }
}
