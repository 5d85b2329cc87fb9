import {
  fits,
  knownHardware,
  meantName,
  PathBook,
  sameVersion,
  standingOf,
  TargetFinder,
  type Device,
  distanceOf,
  standings,
  type DeviceCounts,
  type DeviceHardware,
  type DeviceOnly,
  type Kind,
  type PathDevice,
  type PathImage,
  type PathPartner,
  type PathTarget,
  type Distance,
  type Standing,
  type StandingGroup,
  type Pin,
  type StandingResult,
  type TargetRule,
  type Targeting,
} from '@barrow/core';
import { isUpgradable, versionsOf } from '@barrow/families';
import { rfc3339, rfc3339OrNull, type Context } from '../context.js';
import {
  DeviceEntity,
  HistoryEntity,
  ImageEntity,
  NetworkEntity,
  ObservationEntity,
  PinEntity,
  SiteEntity,
  TargetEntity,
  type DeviceRow,
} from '../data/entities.js';
import { pathImageOf } from '../images/rows.js';
import { notFound } from '../errors.js';
import { DeviceBook } from './book.js';
import { DeviceOrders, inOrder, shownAs, wordsIn } from './order.js';

/** What a list may be narrowed by; every part that is given must hold. */
export interface DeviceFilter {
  /** These, and all that are handled through them. */
  readonly ids?: readonly string[] | undefined;
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
  /** `flagged`, `awaiting-approval`, `unrecognised`, `firmware-unknown`, `by-hand`. */
  readonly only?: DeviceOnly | undefined;
  /** Digest of an image: the devices that may run it, run it, or pass it on the way to their target. */
  readonly mayRun?: string | undefined;
  readonly runs?: string | undefined;
  readonly passes?: string | undefined;
  readonly distance?: Distance | undefined;
  /** As a standing group names itself. */
  readonly group?: string | undefined;
  /** Behind their target, and free to be planned. */
  readonly plannable?: boolean | undefined;
  /** A column, with a minus before it the other way round. */
  readonly sort?: string | undefined;
}

/** Where a device stands on its way. */
const distanceFrom = ({ standing }: KnownDevice): Distance =>
  distanceOf(standing.standing, standing.path?.steps.filter((s) => s.on === null).length ?? 0);

/** What devices that stand alike have in common. */
const groupOf = (known: KnownDevice): string =>
  Buffer.from(
    JSON.stringify([known.row.family, known.target?.version ?? null, distanceFrom(known), known.standing.standing, known.row.firmware]),
  ).toString('base64url');

export interface KnownDevice {
  readonly row: DeviceRow;
  readonly parentName: string | null;
  /** Everything that a search looks through, in small letters. */
  readonly searched: string;
  /** As the path solver sees it. */
  readonly state: PathDevice;
  readonly target: Targeting | null;
  readonly standing: StandingResult;
}

/** As many of those that go first are named. */
const mostPartners = 3;

const pathTargetOf = ({ family, version, acceptUnreleased }: Targeting): PathTarget => ({ family, version, acceptUnreleased });

/** Whether the day after which a pin is asked again has passed. */
export const isDue = (pin: Pin, now = Date.now()): boolean => new Date(now).toISOString().slice(0, 10) > pin.askAgain;

/** Makes known devices of rows: by which target, from which state, along which path. */
class Assembly {
  readonly #byId: Map<string, DeviceRow>;
  readonly #children = new Map<string, Set<string>>();
  readonly #partners = new Map<string, PathPartner>();
  /** Solved once for each distinct state, not once for each device. */
  readonly #solved = new Map<string, StandingResult>();

  constructor(
    private readonly families: Context['families'],
    private readonly book: PathBook,
    private readonly finder: TargetFinder,
    private readonly hardwareOf: (row: DeviceRow) => DeviceHardware,
    rows: readonly DeviceRow[],
  ) {
    this.#byId = new Map(rows.map((r) => [r.id, r]));
    for (const row of rows) this.#hang(row);
  }

  #hang(row: DeviceRow): void {
    if (row.parent === null) return;
    const under = this.#children.get(row.parent) ?? new Set();
    under.add(row.id);
    this.#children.set(row.parent, under);
  }

  /** Some devices, and all that are handled through them: what is said of those may depend on these. */
  andBelow(ids: Iterable<string>): Set<string> {
    const found = new Set<string>();
    const add = (id: string, above: number): void => {
      if (found.has(id) || above > 5) return;
      found.add(id);
      for (const child of this.#children.get(id) ?? []) add(child, above + 1);
    };
    for (const id of ids) add(id, 0);
    return found;
  }

  /** The rows anew, and what hangs on them; null when one of them was not known. */
  replace(rows: readonly DeviceRow[]): Map<string, KnownDevice> | null {
    if (rows.some((row) => !this.#byId.has(row.id))) return null;
    for (const row of rows) {
      const before = this.#byId.get(row.id)!;
      if (before.parent !== null) this.#children.get(before.parent)?.delete(row.id);
      this.#byId.set(row.id, row);
      this.#hang(row);
    }
    this.#partners.clear();
    return new Map([...this.andBelow(rows.map((r) => r.id))].map((id) => [id, this.make(this.#byId.get(id)!)]));
  }

  make(row: DeviceRow): KnownDevice {
    // What is out of service is to run nothing.
    const target = row.retired === null ? this.finder.for(row) : null;
    const state = this.#stateOf(row, 0);
    const key = JSON.stringify([state, target?.family, target?.version, target?.acceptUnreleased, target?.conflict]);
    let standing = this.#solved.get(key);
    if (!standing) {
      standing = this.#withReason(row, standingOf({ ...state, targeting: target, schemes: this.families, book: this.book }));
      this.#solved.set(key, standing);
    }
    const { name, address, serial, mac, maker, model, firmware, id, note, tags, addresses } = row;
    const parentName = row.parent === null ? null : (this.#byId.get(row.parent)?.name ?? null);
    const searched = [name, address, serial, mac, maker, model, firmware, id, note, parentName, ...tags, ...addresses]
      .filter(Boolean)
      .join('\n')
      .toLowerCase();
    return { row, state, target, standing, searched, parentName };
  }

  /** A device that is behind and that Barrow cannot upgrade says so. */
  #withReason(row: DeviceRow, standing: StandingResult): StandingResult {
    const family = row.family === null ? undefined : this.families.get(row.family);
    if (standing.standing !== 'behind' || !family || isUpgradable(family)) return standing;
    return { ...standing, reason: `Barrow cannot upgrade ${family.title} yet: upgrade it by hand` };
  }

  #stateOf(row: DeviceRow, above: number): PathDevice {
    return {
      hardware: this.hardwareOf(row),
      firmware: row.firmware,
      bootLoader: row.bootLoader || null,
      partner: row.parent === null || above > 4 ? null : this.#partnerOf(row.parent, above + 1),
    };
  }

  #partnerOf(id: string, above: number): PathPartner | null {
    const row = this.#byId.get(id);
    if (!row) return null;
    const known = this.#partners.get(id);
    if (known) return known;
    const targeting = this.finder.for(row);
    const { conflict = null, pin = null } = targeting ?? {};
    const found: PathPartner = {
      ...this.#stateOf(row, above),
      id,
      name: row.name,
      target: targeting && conflict === null && pin === null ? pathTargetOf(targeting) : null,
      pinned: pin?.reason ?? null,
    };
    this.#partners.set(id, found);
    return found;
  }
}

/** The records of devices, each with its standing; read once and again only after something changed. */
export class Devices {
  #known: Promise<KnownDevice[]> | null = null;
  #pathBook: PathBook | null = null;
  #assembly: Assembly | null = null;
  readonly #orders = new DeviceOrders<KnownDevice>();
  #book: { readonly of: KnownDevice[]; readonly book: DeviceBook; readonly byId: Map<string, KnownDevice> } | null = null;

  constructor(
    private readonly context: Context,
    /** The rollout that holds a device now. */
    private readonly rolloutOf: (device: string) => string | null,
  ) {
    context.live.listen((event) => {
      if (
        event.kind === 'changed' &&
        (event.what === 'devices' || event.what === 'images' || event.what === 'targets' || event.what === 'families')
      )
        if (event.what === 'devices' && event.ids) this.#patch(event.ids);
        else this.#known = null;
    });
  }

  get families(): Context['families'] {
    return this.context.families;
  }

  /** All devices by site and name. */
  all(): Promise<KnownDevice[]> {
    this.#known ??= this.#read();
    return this.#known;
  }

  /** Everything that paths are made of, as it was when the devices were read. */
  async book(): Promise<PathBook> {
    await this.all();
    return this.#pathBook!;
  }

  async #read(): Promise<KnownDevice[]> {
    const { db, families } = this.context;
    const [rows, images, rules, pins] = await Promise.all([
      db.find(DeviceEntity),
      db.find(ImageEntity),
      db.find(TargetEntity),
      db.find(PinEntity),
    ]);
    const book = new PathBook(families, images.map(pathImageOf));
    const assembly = new Assembly(families, book, new TargetFinder(rules, pins), (row) => this.hardwareOf(row), rows);
    this.#pathBook = book;
    this.#assembly = assembly;
    return rows.map((row) => assembly.make(row)).sort((a, b) => inOrder(a.row, b.row));
  }

  /** Takes a few rows anew into what was read: a note that is written must not make everybody wait for ten thousand others. */
  #patch(ids: readonly string[]): void {
    const before = this.#known;
    if (before === null) return;
    const patched = (async (): Promise<KnownDevice[]> => {
      const all = await before;
      const assembly = this.#assembly!;
      const rows = await this.context.db.find(DeviceEntity, { id: { $in: [...ids] } });
      const fresh = assembly.replace(rows);
      // Somebody came or went: the list itself is another.
      if (fresh === null || rows.length < new Set(ids).size) return this.#read();
      let moved = false;
      const next = all.map((known) => {
        const now = fresh.get(known.row.id);
        if (now) moved ||= now.row.name !== known.row.name || now.row.site !== known.row.site;
        return now ?? known;
      });
      if (moved) next.sort((a, b) => inOrder(a.row, b.row));
      // Who is found by what is carried on too, instead of being gathered anew from all of them.
      if (this.#book?.of === all) {
        const { book, byId } = this.#book;
        for (const known of fresh.values()) {
          book.replace(known.row);
          byId.set(known.row.id, known);
        }
        this.#book = { of: next, book, byId };
      }
      return next;
    })();
    this.#known = patched;
    patched.catch(() => {
      // What could not be patched is read whole when it is next asked for.
      if (this.#known === patched) this.#known = null;
    });
  }

  /** The standing of a device with the way down to its target, should it run something newer. */
  async wayDown({ state, target }: KnownDevice): Promise<StandingResult> {
    return standingOf({ ...state, targeting: target, schemes: this.context.families, book: await this.book(), down: true });
  }

  /** How a device stands against one version, whatever its target is, the way down allowed. */
  async wayTo({ state }: KnownDevice, targeting: Targeting): Promise<StandingResult> {
    return standingOf({ ...state, targeting, schemes: this.context.families, book: await this.book(), down: true });
  }

  /** Those for whom a rule would be the one that counts, as they would stand then; it takes the place of the one for the same set. */
  async whatIf(rule: TargetRule): Promise<KnownDevice[]> {
    const all = await this.all();
    const { db } = this.context;
    const [rules, pins] = await Promise.all([db.find(TargetEntity), db.find(PinEntity)]);
    const isSame = (other: TargetRule): boolean =>
      (['family', 'model', 'hardwareRevision', 'site', 'tag', 'device'] as const).every((key) => other[key] === rule[key]);
    return this.#under(all, new TargetFinder([...rules.filter((r) => !isSame(r)), rule], pins), new Set([rule.id])).get(rule.id) ?? [];
  }

  /** The devices for which each of some rules would be theirs, if there were no others; the pins hold. By the id of the rule. */
  async whatIfOnly(rules: readonly TargetRule[]): Promise<Map<string, KnownDevice[]>> {
    const all = await this.all();
    return this.#under(all, new TargetFinder(rules, await this.context.db.find(PinEntity)), new Set(rules.map((r) => r.id)));
  }

  #under(all: readonly KnownDevice[], finder: TargetFinder, rules: ReadonlySet<string>): Map<string, KnownDevice[]> {
    const rows = all.map((d) => d.row);
    const assembly = new Assembly(this.context.families, this.#pathBook!, finder, (row) => this.hardwareOf(row), rows);
    const under = new Map<string, KnownDevice[]>();
    for (const row of rows) {
      const id = finder.for(row)?.rule?.id;
      if (id === undefined || !rules.has(id)) continue;
      const made = assembly.make(row);
      const others = under.get(id);
      if (others) others.push(made);
      else under.set(id, [made]);
    }
    return under;
  }

  /** The image by which a device that runs one version could go back to the one from before; null when there is none, or it may not. */
  async imageBack({ state }: KnownDevice, from: string, to: string): Promise<PathImage | null> {
    const { family } = state.hardware;
    if (family === null) return null;
    const targeting = { family, version: to, acceptUnreleased: true, rule: null, pin: null, why: '', conflict: null };
    const { path } = standingOf({
      ...state,
      firmware: from,
      targeting,
      schemes: this.context.families,
      book: await this.book(),
      down: true,
    });
    const [step, ...more] = path?.steps ?? [];
    return step?.on === null && more.length === 0 && step.image.component === 'system' ? step.image : null;
  }

  /** The hardware of a device; a model that has no revisions needs none to be told. */
  hardwareOf(row: DeviceRow): DeviceHardware {
    const { family, model, hardwareRevision, variant } = row;
    const models = family === null ? [] : (this.context.families.get(family)?.models ?? []);
    return knownHardware(models, { family, model, hardwareRevision, variant });
  }

  /** Whether a device runs an image: its version, on hardware that it is for. */
  runs({ row, state }: KnownDevice, image: PathImage): boolean {
    if (row.family !== image.family || !fits(image, state.hardware)) return false;
    const is = image.component === 'system' ? row.firmware : row.bootLoader;
    return is !== null && sameVersion(versionsOf(this.context.families.get(image.family)!, image.component), image.version, is);
  }

  /** All sites: of devices, of networks, and those that something was said of. */
  async sites(): Promise<Set<string>> {
    const { db } = this.context;
    return new Set([
      ...(await this.all()).map((d) => d.row.site),
      ...(await db.find(NetworkEntity, {}, { fields: ['site'] })).map((n) => n.site),
      ...(await db.find(SiteEntity, {}, { fields: ['name'] })).map((s) => s.name),
    ]);
  }

  /** A site or family that nothing is of is a slip, not an empty list. @throws Refusal */
  async knownFilter({ site, family }: { site?: string | null | undefined; family?: string | null | undefined }): Promise<void> {
    const { families } = this.context;
    const refuse = (what: string, asked: string, known: readonly string[]): never => {
      const meant = meantName(asked, known);
      throw notFound(
        what,
        asked,
        `${meant === null ? '' : `Is ${meant} meant? `}${known.length > 0 ? `There are ${[...known].sort().join(', ')}.` : 'None is known yet.'}`,
      );
    };
    if (family && !families.has(family)) refuse('family', family, [...families.keys()]);
    if (!site) return;
    const sites = await this.sites();
    if (!sites.has(site)) refuse('site', site, [...sites]);
  }

  async list(filter: DeviceFilter): Promise<KnownDevice[]> {
    const words = wordsIn(filter.text ?? '');
    const is = (wanted: string | undefined, has: string | null): boolean => !wanted || wanted === has;
    const only: Record<DeviceOnly, (row: DeviceRow) => boolean> = {
      flagged: (row) => row.flags.length > 0,
      'awaiting-approval': (row) => row.flags.some((f) => f.flag === 'awaiting-approval'),
      unrecognised: (row) => row.family === null,
      'firmware-unknown': (row) => row.firmware === null,
      'by-hand': (row) => row.byHand.length > 0 || row.feedByHand !== null || row.uplinkByHand !== null,
    };
    const all = await this.all();
    const among = filter.ids ? this.#assembly!.andBelow(filter.ids) : null;
    const imageOf = (sha256: string | undefined): PathImage | null =>
      sha256 ? (this.#pathBook!.images.find((i) => i.sha256 === sha256) ?? null) : null;
    const [mayRun, runs] = [imageOf(filter.mayRun), imageOf(filter.runs)];
    return this.#orders.in(all, filter.sort).filter((known) => {
      const { row, state, standing, searched, parentName } = known;
      return (
        (among === null || among.has(row.id)) &&
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
        (!filter.mayRun || (mayRun !== null && row.family === mayRun.family && fits(mayRun, state.hardware))) &&
        (!filter.runs || (runs !== null && this.runs(known, runs))) &&
        (!filter.passes || (standing.path?.steps.some((s) => s.image.sha256 === filter.passes && s.on === null) ?? false)) &&
        (!filter.distance || distanceFrom(known) === filter.distance) &&
        (!filter.group || groupOf(known) === filter.group) &&
        (!filter.plannable || this.#isPlannable(known)) &&
        words.anywhere.every((w) => searched.includes(w)) &&
        words.of.every(([column, w]) => shownAs[column](known).toLowerCase().includes(w))
      );
    });
  }

  #isPlannable({ row, standing }: KnownDevice): boolean {
    const family = row.family === null ? undefined : this.context.families.get(row.family);
    return (
      standing.standing === 'behind' &&
      family !== undefined &&
      isUpgradable(family) &&
      // What waits for its partner is planned with that one.
      standing.path?.steps[0]?.on === null &&
      this.rolloutOf(row.id) === null
    );
  }

  /** How many there are, and how many fit. */
  async counts(filter: DeviceFilter): Promise<DeviceCounts> {
    const [all, fitting] = await Promise.all([this.all(), this.list({ ...filter, sort: undefined })]);
    const found = new Map<Standing, number>();
    for (const { standing } of all) found.set(standing.standing, (found.get(standing.standing) ?? 0) + 1);
    return {
      all: {
        total: all.length,
        sites: [...new Set(all.map((d) => d.row.site))],
        kinds: [...new Set(all.map((d) => d.row.kind as Kind))].sort(),
        standings: standings.filter((s) => found.has(s)).map((standing) => ({ standing, devices: found.get(standing)! })),
      },
      fitting: {
        total: fitting.length,
        targeted: fitting.filter((d) => d.target !== null).length,
        behind: fitting.filter((d) => d.standing.standing === 'behind').length,
        plannable: fitting.filter((d) => this.#isPlannable(d)).length,
      },
    };
  }

  /** Those that stand alike, counted. */
  async groups(filter: DeviceFilter): Promise<StandingGroup[]> {
    const made = new Map<string, { -readonly [K in keyof StandingGroup]: StandingGroup[K] } & { readonly partners: Set<string> }>();
    for (const known of await this.list(filter)) {
      const group = groupOf(known);
      const { row, target, standing } = known;
      let found = made.get(group);
      if (!found) {
        const { family, firmware } = row;
        const distance = distanceFrom(known);
        found = {
          group,
          family,
          target: target?.version ?? null,
          distance,
          standing: standing.standing,
          firmware,
          devices: 0,
          after: [],
          partners: new Set(),
        };
        made.set(group, found);
      }
      found.devices++;
      for (const { on } of standing.path?.steps ?? []) if (on && found.partners.size < mostPartners) found.partners.add(on.name);
    }
    return [...made.values()].map(({ partners, ...group }) => ({ ...group, after: [...partners] }));
  }

  /** Finds one device by id, name, address, serial or MAC. @throws Refusal when there is none, or more than one. */
  async get(asked: string): Promise<KnownDevice> {
    const { book, byId } = await this.#findable();
    return byId.get(book.get(asked).id)!;
  }

  /** Everybody, to be found by what people call them; for reading only. */
  async names(): Promise<DeviceBook> {
    return (await this.#findable()).book;
  }

  async #findable(): Promise<{ book: DeviceBook; byId: Map<string, KnownDevice> }> {
    const all = await this.all();
    if (this.#book?.of !== all)
      this.#book = { of: all, book: new DeviceBook(all.map((d) => d.row)), byId: new Map(all.map((d) => [d.row.id, d])) };
    return this.#book;
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
      armed: this.#armed(row),
      family,
      familyEvidence,
      upgradable: known !== undefined && isUpgradable(known),
      site,
      network,
      parent,
      parentName,
      tags,
      note,
      retired: row.retired && { ...row.retired, at: rfc3339(row.retired.at) },
      flags: row.flags.map((f) => ({ ...f, at: rfc3339(f.at) })),
      upSince: rfc3339OrNull(row.upSince),
      firstSeen: rfc3339(row.firstSeen),
      lastSeen: rfc3339(row.lastSeen),
      standing: standing.standing,
      target: target?.version ?? null,
      standingReason: standing.reason,
      targetWhy: target?.why ?? null,
      pin: target?.pin
        ? { version: target.pin.version, reason: target.pin.reason, askAgain: target.pin.askAgain, due: isDue(target.pin) }
        : null,
      path: (standing.path?.steps ?? []).map(({ image, on, from, resets, notices }) => ({
        sha256: image.sha256,
        file: image.file,
        version: image.version,
        component: image.component,
        from,
        on,
        resets: [...resets],
        notices: [...notices],
      })),
      pathReboots: standing.path?.reboots ?? 0,
      pathBytes: standing.path?.bytes ?? 0,
      lacking: standing.gap?.wanted ?? null,
      rollout: this.rolloutOf(id),
    };
  }

  /** What it takes at its next reset; no longer so once it runs that. */
  #armed({ armed, firmware, family }: DeviceRow): Device['armed'] {
    if (!armed) return null;
    const versions = this.context.families.get(family ?? '')?.versions;
    if (versions && firmware !== null && sameVersion(versions, armed.version, firmware)) return null;
    return { version: armed.version, since: rfc3339(armed.at), by: armed.by };
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
        ['address', 'address'],
        ['bootLoader', 'boot loader'],
        ['hardwareRevision', 'hardware revision'],
      ] as const
    ).flatMap(([key, field]) =>
      before && device[key] !== undefined && device[key] !== before[key]
        ? [{ device: device.id, at, field, before: before[key], after: device[key], probe }]
        : [],
    );
    await db.writeSurely(async (em) => {
      await em.nativeUpdate(DeviceEntity, { id: device.id }, device as never);
      await em.insert(ObservationEntity, { device: device.id, ...observation, lastAt: at, times: 1, digest: '' } as never);
      if (history.length > 0) await em.insertMany(HistoryEntity, history as never);
    });
    this.context.live.changed('devices', [device.id]);
  }
}
