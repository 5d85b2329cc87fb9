import {
  standingOf,
  TargetFinder,
  type Device,
  type DeviceOnly,
  type Kind,
  type KnownImage,
  type StandingResult,
  type TargetRule,
} from '@barrow/core';
import { isUpgradable } from '@barrow/families';
import { rfc3339, rfc3339OrNull, type Context } from '../context.js';
import { DeviceEntity, HistoryEntity, ImageEntity, ObservationEntity, TargetEntity, type DeviceRow } from '../data/entities.js';
import { DeviceBook } from './book.js';

/** What a list may be narrowed by; every part that is given must hold. */
export interface DeviceFilter {
  readonly text?: string | undefined;
  readonly site?: string | undefined;
  readonly kind?: string | undefined;
  readonly family?: string | undefined;
  readonly standing?: string | undefined;
  readonly maker?: string | undefined;
  readonly model?: string | undefined;
  readonly firmware?: string | undefined;
  readonly network?: string | undefined;
  readonly tag?: string | undefined;
  /** Id or name of the parent. */
  readonly parent?: string | undefined;
  /** `flagged`, `unrecognised`, `firmware-unknown`, `by-hand`. */
  readonly only?: DeviceOnly | undefined;
}

export interface KnownDevice {
  readonly row: DeviceRow;
  readonly parentName: string | null;
  /** Everything that a search looks through, in small letters. */
  readonly searched: string;
  readonly target: TargetRule | null;
  readonly standing: StandingResult;
}

const collate = new Intl.Collator('en', { numeric: true });

/** The records of devices, each with its standing; read once and again only after something changed. */
export class Devices {
  #known: Promise<KnownDevice[]> | null = null;
  #book: { readonly of: KnownDevice[]; readonly book: DeviceBook; readonly byId: ReadonlyMap<string, KnownDevice> } | null = null;

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
    const names = new Map(rows.map((r) => [r.id, r.name]));
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
      const searched = [
        row.name,
        row.address,
        row.serial,
        row.mac,
        row.maker,
        row.model,
        row.firmware,
        row.id,
        row.note,
        ...row.tags,
        ...row.addresses,
      ]
        .filter(Boolean)
        .join('\n')
        .toLowerCase();
      return { row, target, standing, searched, parentName: row.parent === null ? null : (names.get(row.parent) ?? null) };
    });
    return known.sort((a, b) => collate.compare(a.row.site, b.row.site) || collate.compare(a.row.name, b.row.name));
  }

  async list(filter: DeviceFilter): Promise<KnownDevice[]> {
    const text = filter.text?.toLowerCase();
    const is = (wanted: string | undefined, has: string | null): boolean => !wanted || wanted === has;
    const only: Record<DeviceOnly, (row: DeviceRow) => boolean> = {
      flagged: (row) => row.flags.length > 0,
      unrecognised: (row) => row.family === null,
      'firmware-unknown': (row) => row.firmware === null,
      'by-hand': (row) => row.byHand.length > 0 || row.feedByHand !== null || row.uplinkByHand !== null,
    };
    return (await this.all()).filter(
      ({ row, standing, searched, parentName }) =>
        is(filter.site, row.site) &&
        is(filter.kind, row.kind) &&
        is(filter.family, row.family) &&
        is(filter.standing, standing.standing) &&
        is(filter.maker, row.maker) &&
        is(filter.model, row.model) &&
        is(filter.firmware, row.firmware) &&
        is(filter.network, row.network) &&
        (!filter.tag || row.tags.includes(filter.tag)) &&
        (!filter.parent || row.parent === filter.parent || parentName === filter.parent) &&
        (!filter.only || only[filter.only](row)) &&
        (!text || searched.includes(text)),
    );
  }

  /** Finds one device by id, name, address, serial or MAC. @throws Refusal when there is none, or more than one. */
  async get(asked: string): Promise<KnownDevice> {
    const all = await this.all();
    if (this.#book?.of !== all)
      this.#book = { of: all, book: new DeviceBook(all.map((d) => d.row)), byId: new Map(all.map((d) => [d.row.id, d])) };
    return this.#book.byId.get(this.#book.book.get(asked).id)!;
  }

  view({ row, target, standing, parentName }: KnownDevice): Device {
    const { id, name, maker, model, hardwareRevision, variant, serial, mac, firmware, firmwareNote, bootLoader, family, familyEvidence } =
      row;
    const { site, network, parent, tags, note } = row;
    const known = family === null ? undefined : this.context.families.get(family);
    return {
      id,
      name,
      address: row.address === '' ? null : row.address,
      kind: row.kind as Kind,
      maker,
      model,
      hardwareRevision,
      variant,
      serial,
      mac,
      firmware,
      firmwareNote,
      bootLoader,
      family,
      familyEvidence,
      upgradable: known !== undefined && isUpgradable(known),
      site,
      network,
      parent,
      parentName,
      tags,
      note,
      flags: row.flags.map((f) => ({ ...f, at: rfc3339(f.at) })),
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

  /** Writes what a run observed of a device, what is now believed of it, and what changed by it. */
  async observe(
    device: Pick<DeviceRow, 'id'> & Partial<DeviceRow>,
    observation: { probe: string; address: string; at: number; raw: Record<string, unknown>; parsed: Record<string, unknown> },
  ): Promise<void> {
    const { db } = this.context;
    const before = await db.findOne(DeviceEntity, { id: device.id });
    const { at, probe } = observation;
    const history = (
      [
        ['firmware', 'firmware'],
        ['bootLoader', 'boot loader'],
        ['hardwareRevision', 'hardware revision'],
      ] as const
    ).flatMap(([key, field]) =>
      before && device[key] !== undefined && device[key] !== before[key]
        ? [{ device: device.id, at, field, before: before[key], after: device[key], probe }]
        : [],
    );
    await db.write(async (em) => {
      await em.nativeUpdate(DeviceEntity, { id: device.id }, device as never);
      await em.insert(ObservationEntity, { device: device.id, ...observation, lastAt: at, times: 1, digest: '' } as never);
      if (history.length > 0) await em.insertMany(HistoryEntity, history as never);
    });
    this.#known = null;
    this.context.live.changed('devices');
  }
}
