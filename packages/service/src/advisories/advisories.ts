import {
  AdvisoryReader,
  AdvisoryUnreadable,
  exposures,
  mappingKey,
  proposeMapping,
  readAdvisory,
  type AdvisoryDetail,
  type AdvisoryView,
  type Exposure,
  type ExposureResult,
  type Kind,
  type MappingInput,
  type PathBook,
  type PathImage,
  type ProductMapping,
  type RankedFleet,
} from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { AdvisoryEntity, MappingEntity, type AdvisoryRow, type MappingRow } from '../data/entities.js';
import { MandatoryTests } from './mandatory.js';
import type { Devices, KnownDevice } from '../devices/devices.js';
import { notFound, Refusal } from '../errors.js';

/** How a device gets out of what an advisory says. */
interface WayOut {
  readonly version: string | null;
  readonly hops: number | null;
  readonly reboots: number;
  readonly inTarget: boolean;
  readonly why: string | null;
}

/** Security advisories, what their products are here, and whom they touch. */
export class Advisories {
  readonly #tests = new MandatoryTests();

  constructor(
    private readonly context: Context,
    private readonly devices: Devices,
  ) {}

  /** Takes an advisory in; a later edition takes the place of an earlier one. @throws Refusal */
  async add(text: string, by: string): Promise<{ view: AdvisoryView; isNew: boolean }> {
    let data;
    try {
      data = readAdvisory(text);
      const failed = await this.#tests.failed(JSON.parse(text));
      data = { ...data, fails: failed.length > 0 ? failed : (data.fails ?? []) };
    } catch (error) {
      if (!(error instanceof AdvisoryUnreadable)) throw error;
      throw new Refusal(
        422,
        'advisory-unreadable',
        'The advisory is refused',
        `${error.message}.`,
        'It must be a CSAF 2.0 document in JSON.',
      );
    }
    const before = await this.context.db.findOne(AdvisoryEntity, { id: data.id });
    if (before && before.data.releasedAt > data.releasedAt)
      throw new Refusal(
        409,
        'advisory-older',
        'The advisory is refused',
        `${data.id} is here in edition ${before.data.edition} of ${before.data.releasedAt}; this one is edition ${data.edition} of ${data.releasedAt}.`,
        'Nothing to do: the newer one stays.',
      );
    const row: AdvisoryRow = { id: data.id, addedAt: Date.now(), addedBy: by, data };
    await this.context.db.write(async (em) => {
      await em.nativeDelete(AdvisoryEntity, { id: data.id });
      await em.insert(AdvisoryEntity, row);
    });
    this.context.live.changed('advisories');
    return { view: (await this.#views([row]))[0]!, isNew: before === null };
  }

  async remove(id: string): Promise<string> {
    const row = await this.#get(id);
    await this.context.db.write(async (em) => em.nativeDelete(AdvisoryEntity, { id: row.id }));
    this.context.live.changed('advisories');
    return row.id;
  }

  async #get(id: string): Promise<AdvisoryRow> {
    const row = await this.context.db.findOne(AdvisoryEntity, { id });
    if (!row) throw notFound('advisory', id, '`barrow advisory list` shows them.');
    return row;
  }

  async #rows(): Promise<AdvisoryRow[]> {
    return this.context.db.find(AdvisoryEntity, {}, { orderBy: { addedAt: 'desc', id: 'asc' } });
  }

  async #mappings(): Promise<Map<string, MappingRow>> {
    return new Map((await this.context.db.find(MappingEntity)).map((m) => [m.id, m]));
  }

  async list(): Promise<AdvisoryView[]> {
    return this.#views(await this.#rows());
  }

  async #views(rows: readonly AdvisoryRow[]): Promise<AdvisoryView[]> {
    const mappings = await this.#mappings();
    const all = await this.devices.all();
    return rows.map((row) => this.#view(row, mappings, this.#exposure(row, mappings, all)));
  }

  #view(row: AdvisoryRow, mappings: ReadonlyMap<string, MappingRow>, found: readonly Found[]): AdvisoryView {
    const { id, title, publisher, edition, status, releasedAt, severity, products, vulnerabilities } = row.data;
    const scores = vulnerabilities.flatMap((v) => Object.values(v.scores));
    const devices = Object.fromEntries(exposures.map((e) => [e, 0])) as Record<Exposure, number>;
    for (const { result } of found) devices[result.exposure]++;
    const keys = new Set(products.map((p) => mappingKey(p.vendor, p.product)));
    return {
      id,
      title,
      publisher,
      edition,
      status,
      releasedAt,
      severity,
      score: scores.length > 0 ? Math.max(...scores) : null,
      addedAt: rfc3339(row.addedAt),
      addedBy: row.addedBy,
      unmapped: [...keys].filter((k) => !mappings.has(k)).length,
      fails: [...(row.data.fails ?? [])],
      devices,
    };
  }

  #exposure(row: AdvisoryRow, mappings: ReadonlyMap<string, ProductMapping>, all: readonly KnownDevice[]): Found[] {
    const reader = new AdvisoryReader(row.data, mappings, this.context.families);
    const families = reader.families;
    if (families.size === 0) return [];
    // Asked once for each distinct state.
    const asked = new Map<string, ExposureResult | null>();
    return all.flatMap((known) => {
      const { family, model, firmware } = known.row;
      if (family === null || !families.has(family)) return [];
      const key = JSON.stringify([family, model, firmware]);
      if (!asked.has(key)) asked.set(key, reader.of({ family, model, firmware }));
      const result = asked.get(key)!;
      return result ? [{ known, result, reader }] : [];
    });
  }

  async detail(id: string): Promise<AdvisoryDetail> {
    const row = await this.#get(id);
    const mappings = await this.#mappings();
    const found = this.#exposure(row, mappings, await this.devices.all());
    const ways = new Ways(await this.devices.book());
    const products = new Map<string, AdvisoryDetail['products'][number]>();
    for (const p of row.data.products) {
      const key = mappingKey(p.vendor, p.product);
      const mapping = mappings.get(key) ?? null;
      let entry = products.get(key);
      if (!entry) {
        entry = {
          vendor: p.vendor,
          product: p.product,
          versions: [],
          mapping: mapping && { family: mapping.family, models: mapping.models, confirmedBy: mapping.confirmedBy },
          proposal: mapping ? null : toProposal(proposeMapping(this.context.families.values(), p.vendor, p.product)),
        };
        products.set(key, entry);
      }
      const statuses = [...new Set(row.data.vulnerabilities.flatMap((v) => (v.status[p.id] ? [v.status[p.id]!] : [])))];
      entry.versions.push({ version: p.version, statuses });
    }
    const order: readonly Exposure[] = exposures;
    return {
      ...this.#view(row, mappings, found),
      summary: row.data.summary,
      products: [...products.values()],
      vulnerabilities: row.data.vulnerabilities.map((v) => ({
        name: v.name,
        title: v.title,
        score: Object.values(v.scores).length > 0 ? Math.max(...Object.values(v.scores)) : null,
        remedies: v.remedies.map(({ category, details }) => ({ category, details })),
      })),
      exposed: found
        .map(({ known, result, reader }) => {
          const { row: device } = known;
          const way = result.exposure === 'exposed' ? ways.out(known, [reader]) : null;
          return {
            device: device.id,
            name: device.name,
            site: device.site,
            family: device.family!,
            firmware: device.firmware,
            exposure: result.exposure,
            score: result.score,
            vulnerabilities: [...result.vulnerabilities],
            reason: result.reason,
            fixedBy: way?.version ? { version: way.version, hops: way.hops!, reboots: way.reboots, inTarget: way.inTarget } : null,
            noFix: way?.why ?? null,
          };
        })
        .sort((a, b) => order.indexOf(a.exposure) - order.indexOf(b.exposure) || (b.score ?? 0) - (a.score ?? 0)),
    };
  }

  /** The exposed devices, gravest first, then those with more advisories, then those nearer to a way out. */
  async rank(): Promise<RankedFleet> {
    const mappings = await this.#mappings();
    const all = await this.devices.all();
    const ways = new Ways(await this.devices.book());
    const byDevice = new Map<string, { known: KnownDevice; found: { id: string; score: number | null; reader: AdvisoryReader }[] }>();
    for (const row of await this.#rows())
      for (const { known, result, reader } of this.#exposure(row, mappings, all)) {
        if (result.exposure !== 'exposed') continue;
        const entry = byDevice.get(known.row.id) ?? { known, found: [] };
        entry.found.push({ id: row.id, score: result.score, reader });
        byDevice.set(known.row.id, entry);
      }
    const items = [...byDevice.values()].map(({ known, found }) => {
      const { row } = known;
      const way = ways.out(
        known,
        found.map((f) => f.reader),
      );
      const scores = found.flatMap((f) => (f.score === null ? [] : [f.score]));
      return {
        device: row.id,
        name: row.name,
        site: row.site,
        kind: row.kind as Kind,
        firmware: row.firmware,
        score: scores.length > 0 ? Math.max(...scores) : null,
        advisories: found.map(({ id, score }) => ({ id, score })),
        hops: way.hops,
        fixedBy: way.version,
        noFix: way.why,
      };
    });
    items.sort(
      (a, b) =>
        (b.score ?? -1) - (a.score ?? -1) || b.advisories.length - a.advisories.length || (a.hops ?? Infinity) - (b.hops ?? Infinity),
    );
    return { items };
  }

  /** Keeps what a person says a product is. @throws Refusal */
  async map(input: MappingInput, by: string): Promise<void> {
    const { vendor, product, family, models = [] } = input;
    if (family !== null) {
      const known = this.context.families.get(family);
      if (!known) throw notFound('family', family, `The families are ${[...this.context.families.keys()].join(', ')}.`);
      const strange = models.find((m) => !known.models.some((k) => k.model === m));
      if (strange) throw notFound('model', strange, `${known.title} are ${[...new Set(known.models.map((m) => m.model))].join(', ')}.`);
    }
    const id = mappingKey(vendor || null, product);
    const named = (await this.#rows()).some((r) => r.data.products.some((p) => mappingKey(p.vendor, p.product) === id));
    if (!named)
      throw notFound('product', `${vendor} ${product}`, 'Write it as the advisory does; `barrow advisory show ID` tells its products.');
    const row: MappingRow = { id, vendor, product, family, models: [...models], confirmedAt: Date.now(), confirmedBy: by };
    await this.context.db.write(async (em) => {
      await em.nativeDelete(MappingEntity, { id });
      await em.insert(MappingEntity, row);
    });
    this.context.live.changed('advisories');
  }

  /** What a line of an image's note mentions, an advisory that is here or only words, and how many of some devices it exposes. */
  async mention(text: string, among: (known: KnownDevice) => boolean): Promise<{ text: string; advisory: string | null; exposed: number }> {
    const row = (await this.#rows()).find((r) => r.id === text || r.data.vulnerabilities.some((v) => v.name === text));
    if (!row) return { text, advisory: null, exposed: 0 };
    const found = this.#exposure(row, await this.#mappings(), (await this.devices.all()).filter(among));
    return { text, advisory: row.id, exposed: found.filter((f) => f.result.exposure === 'exposed').length };
  }
}

interface Found {
  readonly known: KnownDevice;
  readonly result: ExposureResult;
  readonly reader: AdvisoryReader;
}

const toProposal = (p: ReturnType<typeof proposeMapping>): AdvisoryDetail['products'][number]['proposal'] =>
  p && { family: p.family, models: [...p.models], why: p.why };

/** Finds the nearest version that leaves a device unexposed, once for each distinct state. */
class Ways {
  readonly #found = new Map<string, WayOut>();

  constructor(private readonly book: PathBook) {}

  out({ row, state, target, standing }: KnownDevice, readers: readonly AdvisoryReader[]): WayOut {
    const key = JSON.stringify([state, target?.version, target?.family, readers.map((r) => r.advisory.id)]);
    let found = this.#found.get(key);
    if (!found) {
      const safe = (image: Pick<PathImage, 'family' | 'version'>): boolean =>
        readers.every((r) => {
          const then = r.of({ family: image.family, model: row.model, firmware: image.version });
          return then === null || then.exposure === 'fixed' || then.exposure === 'not-affected';
        });
      const { path, gap } = this.book.solve(state, {
        family: row.family!,
        version: null,
        ends: safe,
        acceptUnreleased: false,
        down: false,
      });
      const last = path?.steps.at(-1)?.image;
      const targetIsSafe = target !== null && standing.path !== null && safe({ family: target.family, version: target.version });
      found = {
        version: last?.version ?? null,
        hops: path ? path.steps.length : null,
        reboots: path?.reboots ?? 0,
        inTarget: targetIsSafe,
        why: path ? null : gap!.text,
      };
      this.#found.set(key, found);
    }
    return found;
  }
}
