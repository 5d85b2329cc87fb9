import { standingOf, TargetFinder, type Device, type Kind, type KnownImage, type StandingResult, type TargetRule } from '@barrow/core';
import { rfc3339, rfc3339OrNull, type Context } from '../context.js';
import { DeviceEntity, ImageEntity, ObservationEntity, TargetEntity, type DeviceRow } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';

export interface DeviceFilter {
  readonly text?: string | undefined;
  readonly site?: string | undefined;
  readonly kind?: string | undefined;
  readonly family?: string | undefined;
  readonly standing?: string | undefined;
}

export interface KnownDevice {
  readonly row: DeviceRow;
  readonly target: TargetRule | null;
  readonly standing: StandingResult;
}

/** The records of devices, each with its standing; read once and again only after something changed. */
export class Devices {
  #known: Promise<KnownDevice[]> | null = null;

  constructor(
    private readonly context: Context,
    /** The rollout that holds a device now. */
    private readonly rolloutOf: (device: string) => string | null,
  ) {
    context.live.listen((event) => {
      if (event.kind === 'changed' && (event.what === 'devices' || event.what === 'images' || event.what === 'targets')) this.#known = null;
    });
  }

  /** All devices by site and name. */
  all(): Promise<KnownDevice[]> {
    this.#known ??= this.#read();
    return this.#known;
  }

  async #read(): Promise<KnownDevice[]> {
    const { db, families } = this.context;
    const [rows, images, rules] = await Promise.all([db.find(DeviceEntity), db.find(ImageEntity), db.find(TargetEntity)]);
    const byFamily = new Map<string, KnownImage[]>();
    for (const image of images) {
      const list = byFamily.get(image.family);
      if (list) list.push(image);
      else byFamily.set(image.family, [image]);
    }
    const finder = new TargetFinder(rules);
    // Solved once for each distinct state of hardware, firmware and target, not once for each device.
    const solved = new Map<string, StandingResult>();
    const known = rows.map((row): KnownDevice => {
      const target = finder.for(row);
      const { family, model, hardwareRevision, variant, firmware } = row;
      const key = JSON.stringify([family, model, hardwareRevision, variant, firmware, target?.version]);
      let standing = solved.get(key);
      if (!standing) {
        standing = standingOf({
          hardware: { family, model, hardwareRevision, variant },
          firmware,
          target: target?.version ?? null,
          scheme: family === null ? null : (families.get(family)?.versions ?? null),
          images: family === null ? [] : (byFamily.get(family) ?? []),
        });
        solved.set(key, standing);
      }
      return { row, target, standing };
    });
    return known.sort((a, b) => a.row.site.localeCompare(b.row.site) || a.row.name.localeCompare(b.row.name, 'en', { numeric: true }));
  }

  async list(filter: DeviceFilter): Promise<KnownDevice[]> {
    const text = filter.text?.toLowerCase();
    return (await this.all()).filter(
      ({ row, standing }) =>
        (!filter.site || row.site === filter.site) &&
        (!filter.kind || row.kind === filter.kind) &&
        (!filter.family || row.family === filter.family) &&
        (!filter.standing || standing.standing === filter.standing) &&
        (!text ||
          [row.name, row.address, row.serial, row.mac, row.model, row.firmware, row.id].some((field) =>
            field?.toLowerCase().includes(text),
          )),
    );
  }

  /** Finds one device by id, name, address, serial or MAC. @throws Refusal when there is none, or more than one. */
  async get(asked: string): Promise<KnownDevice> {
    const all = await this.all();
    const lower = asked.toLowerCase();
    const found = all.filter(
      ({ row }) =>
        row.id === asked ||
        row.address === asked ||
        row.name.toLowerCase() === lower ||
        row.serial?.toLowerCase() === lower ||
        row.mac === lower,
    );
    if (found.length === 1) return found[0]!;
    if (found.length > 1)
      throw new Refusal(
        409,
        'device-ambiguous',
        'More than one device is meant',
        `"${asked}" fits ${found.map((f) => f.row.id).join(', ')}.`,
        'Give the id, which `barrow device list` shows.',
      );
    throw notFound('device', asked, '`barrow device list` shows what is known; `barrow discover` looks for more.');
  }

  view({ row, target, standing }: KnownDevice): Device {
    const {
      id,
      name,
      address,
      maker,
      model,
      hardwareRevision,
      variant,
      serial,
      mac,
      firmware,
      bootLoader,
      family,
      familyEvidence,
      site,
      network,
    } = row;
    return {
      id,
      name,
      address,
      kind: row.kind as Kind,
      maker,
      model,
      hardwareRevision,
      variant,
      serial,
      mac,
      firmware,
      bootLoader,
      family,
      familyEvidence,
      site,
      network,
      parent: null,
      upSince: rfc3339OrNull(row.upSince),
      firstSeen: rfc3339(row.firstSeen),
      lastSeen: rfc3339(row.lastSeen),
      standing: standing.standing,
      target: target?.version ?? null,
      standingReason: standing.reason,
      path: standing.path.map(({ sha256, file, version }) => ({ sha256, file, version })),
      rollout: this.rolloutOf(id),
    };
  }

  /** Writes what was observed of a device, and what is now believed of it. */
  async observe(
    device: Pick<DeviceRow, 'id'> & Partial<DeviceRow>,
    observation: { probe: string; address: string; at: number; raw: Record<string, unknown>; parsed: Record<string, unknown> },
    isNew: boolean,
  ): Promise<void> {
    await this.context.db.write(async (em) => {
      if (isNew) await em.insert(DeviceEntity, device as never);
      else await em.nativeUpdate(DeviceEntity, { id: device.id }, device as never);
      await em.insert(ObservationEntity, { device: device.id, ...observation } as never);
      // The latest hundred say what is believed and how it came about; older ones would only grow.
      await em
        .getConnection()
        .execute(
          'delete from observation where device = ? and id <= (select id from observation where device = ? order by id desc limit 1 offset 100)',
          [device.id, device.id],
          'run',
          em.getTransactionContext(),
        );
    });
    this.#known = null;
    this.context.live.changed('devices');
  }
}
