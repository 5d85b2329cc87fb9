import { macOf, safeText, type deviceChange, type deviceEntry, type Told, toldWords } from '@barrow/core';
import type { z } from 'zod';
import type { Context } from '../context.js';
import { DeviceEntity, HistoryEntity, type ByHandEnd, type DeviceRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { Refusal } from '../errors.js';
import { DeviceBook } from './book.js';
import type { Devices } from './devices.js';
import { enteredOf } from './entered.js';

export type Change = z.output<typeof deviceChange>;
type Entry = z.output<typeof deviceEntry>;

export const none = (text: string | null | undefined): string | null =>
  text === null || text === undefined || text.trim() === '' ? null : text.trim();

/** Rows in one statement: more of them cost no less. */
const manyAtOnce = 50;

/** What is written of one device when a person sets something. */
export interface Written {
  readonly row: DeviceRow;
  readonly isNew: boolean;
  readonly next: Partial<DeviceRow>;
}

/** What people enter, set, take in and give out. */
export class ByHand {
  constructor(
    private readonly context: Context,
    private readonly devices: Devices,
  ) {}

  /** A book of its own for who enters devices into it. */
  async book(): Promise<DeviceBook> {
    return new DeviceBook((await this.devices.all()).map((d) => d.row));
  }

  /** Sets fields of a device; null gives a field back to what probes tell next. @throws Refusal */
  async change(row: DeviceRow, change: Change, who: string): Promise<void> {
    await this.devices.knownFilter({ family: change.family });
    const next = { ...nextOf(row, change, await this.devices.names()), ...enteredOf(row, change, this.context.families, who) };
    if (change.retired !== undefined) next.retired = change.retired ? { at: Date.now(), by: who, replacedBy: null } : null;
    await this.write([{ row, isNew: false, next }], who);
  }

  /** Enters a device that no probe has found, or that none can. @throws Refusal when it is known already. */
  async enter(given: Entry, who: string): Promise<string> {
    await this.devices.knownFilter({ family: given.family });
    const book = await this.book();
    const family = given.family ? this.context.families.get(given.family) : undefined;
    // Whose procedures handle it tells what it is, when nothing else was said.
    const entry = family && given.kind === 'other' ? { ...given, kind: family.kind } : given;
    const row = enterInto(book, entry);
    await this.write([{ row, isNew: true, next: nextOf(row, entry, book) }], who);
    return row.id;
  }

  async write(all: readonly Written[], who: string): Promise<void> {
    const words: Partial<Record<keyof DeviceRow, string>> = {
      name: 'name',
      site: 'site',
      kind: 'kind',
      family: 'family',
      note: 'note',
      parent: 'parent',
      tags: 'tags',
      told: 'what is told',
      firmware: 'firmware',
      hardwareRevision: 'hardware revision',
      variant: 'variant',
    };
    const book = await this.devices.names();
    const nameOf = (id: string): string => book.byId.get(id)?.name ?? id;
    const shown = (value: unknown): string | null =>
      value === null || value === undefined || value === '' || (Array.isArray(value) && value.length === 0)
        ? null
        : Array.isArray(value)
          ? value.join(' ')
          : typeof value === 'object'
            ? toldWords(value as Told, {}, nameOf)
                .map(({ what, text }) => `${what}: ${text}`)
                .join('; ')
            : String(value as string);
    const at = Date.now();
    const probe = `by hand, ${who}`;
    const history = all.flatMap(({ row, isNew, next }) => [
      ...(isNew ? [{ device: row.id, at, field: 'entered', before: null, after: row.firmware, probe }] : []),
      ...(Object.keys(next) as (keyof DeviceRow)[]).flatMap((key) => {
        const [before, after] = [isNew ? null : shown(row[key]), shown(next[key])];
        return words[key] === undefined || before === after ? [] : [{ device: row.id, at, field: words[key], before, after, probe }];
      }),
    ]);
    await this.context.db.write(async (em) => {
      const entered = all.filter((w) => w.isNew).map(({ row, next }) => ({ ...row, ...next }));
      for (let at = 0; at < entered.length; at += manyAtOnce)
        await em.insertMany(DeviceEntity, entered.slice(at, at + manyAtOnce) as never);
      for (const { row, isNew, next } of all) if (!isNew) await em.nativeUpdate(DeviceEntity, { id: row.id }, next as never);
      for (let at = 0; at < history.length; at += manyAtOnce)
        await em.insertMany(HistoryEntity, history.slice(at, at + manyAtOnce) as never);
    });
    this.context.live.changed('devices', all.some((w) => w.isNew) ? undefined : all.map((w) => w.row.id));
  }

  async remove(row: DeviceRow): Promise<void> {
    await this.context.db.write(async (em) => {
      await em.nativeDelete(DeviceEntity, { id: row.id });
      for (const table of ['observation', 'surroundings', 'history'])
        await em.getConnection().execute(`delete from ${table} where device = ?`, [row.id], 'run', em.getTransactionContext());
      await em.nativeUpdate(DeviceEntity, { parent: row.id }, { parent: null } as never);
    });
    this.context.live.changed('devices');
  }
}

/** The tags of a device after a change; null when it says nothing of them. */
function tagsAfter(before: readonly string[], { tags, addTags, removeTags }: Change): string[] | null {
  if (tags === undefined && addTags === undefined && removeTags === undefined) return null;
  const trimmed = (list: readonly string[] = []): string[] => list.map((t) => t.trim()).filter((t) => t !== '');
  const gone = new Set(trimmed(removeTags));
  return [...new Set([...trimmed(tags ?? before), ...trimmed(addTags)])].filter((t) => !gone.has(t)).sort();
}

/** The fields that a change sets, with everything that it names looked up. @throws Refusal */
export function nextOf(row: DeviceRow, change: Change, book: DeviceBook): Partial<DeviceRow> {
  const next: Partial<DeviceRow> = {};
  const byHand = new Set(row.byHand);
  for (const field of ['name', 'site', 'kind', 'family'] as const) {
    const value = change[field];
    if (value === undefined) continue;
    if (value === null) byHand.delete(field);
    else {
      if (field === 'name') refuseTakenName(row, String(value), book);
      byHand.add(field);
      next[field] = value;
      if (field === 'family') next.familyEvidence = 'a person said so';
    }
  }
  const tags = tagsAfter(row.tags, change);
  if (tags !== null) next.tags = tags;
  if (change.note !== undefined) next.note = change.note;
  if (change.parent === null) {
    byHand.delete('parent');
    if (row.byHand.includes('parent')) next.parent = null;
  } else if (change.parent !== undefined) {
    const parent = book.get(change.parent, 'parent');
    refuseRing(row, parent, book);
    byHand.add('parent');
    next.parent = parent.id;
  }
  if (change.feed !== undefined) next.feedByHand = endOf(row, change.feed, 'feed', book);
  if (change.uplink !== undefined) next.uplinkByHand = endOf(row, change.uplink, 'uplink', book);
  const told = toldAfter(row, change, book);
  if (told !== undefined) next.told = told;
  next.byHand = [...byHand].sort();
  return next;
}

/** What is told of a device after a change; undefined when it says nothing of that. @throws Refusal */
function toldAfter(row: DeviceRow, change: Change, book: DeviceBook): Told | null | undefined {
  const told: Record<string, unknown> = { ...row.told };
  const put = (key: keyof Told, value: unknown): void => {
    if (value === null) delete told[key];
    else told[key] = value;
  };
  if (change.console !== undefined) put('console', endOf(row, change.console, 'console', book));
  if (change.serves !== undefined) put('serves', change.serves?.length === 0 ? null : change.serves);
  if (change.servesSites !== undefined) put('servesSites', change.servesSites);
  if (told['serves'] === undefined) delete told['servesSites'];
  if (change.radio !== undefined) put('radio', change.radio && radioOf(row, change.radio, book));
  for (const key of ['decidedBy', 'licenceUntil', 'supplies'] as const) if (change[key] !== undefined) put(key, change[key]);
  if (toldFields.every((key) => change[key] === undefined)) return undefined;
  return Object.keys(told).length === 0 ? null : (told as Told);
}
const toldFields = ['console', 'serves', 'servesSites', 'radio', 'decidedBy', 'licenceUntil', 'supplies'] as const;

/** The access points that were named, by id. @throws Refusal for one that is none, or itself */
function radioOf(row: DeviceRow, names: readonly string[], book: DeviceBook): string[] {
  return names.map((name) => {
    const other = book.get(name, 'access point');
    const why = other.id === row.id ? 'it cannot be its own' : other.kind !== 'access-point' ? `${other.name} is no access point` : null;
    if (why !== null)
      throw new Refusal(422, 'radio-unfit', 'The radio neighbours were not set', `${row.name}: ${why}.`, 'Name access points.');
    return other.id;
  });
}

/** A name is how people mean a device: no two that people named have the same. @throws Refusal */
function refuseTakenName(row: Pick<DeviceRow, 'id' | 'name'>, name: string, book: DeviceBook): void {
  const [other] = book.with('name', name).filter((d) => d.id !== row.id);
  if (!other || name === row.name) return;
  throw new Refusal(
    409,
    'device-name-taken',
    'The name was not set',
    `"${name}" is the name of the device ${other.id}${other.address === '' ? '' : ` at ${other.address}`} already.`,
    'Choose another name; `barrow device show ID` tells who that is.',
  );
}

/** @throws Refusal when a device could hang on itself. */
function refuseRing(row: DeviceRow, parent: DeviceRow, book: DeviceBook): void {
  const seen = new Set<string>();
  for (let at: DeviceRow | undefined = parent; at && !seen.has(at.id); at = at.parent === null ? undefined : book.byId.get(at.parent)) {
    seen.add(at.id);
    if (at.id === row.id)
      throw new Refusal(
        422,
        'parent-ring',
        'The parent was not set',
        `${parent.name} is itself managed through ${row.name}.`,
        'Choose a device that does not hang on this one.',
      );
  }
}

/** Reads `DEVICE` or `DEVICE:PORT`; names and MAC addresses may hold colons, so the whole is tried first. @throws Refusal */
export function endOf(row: DeviceRow, text: string | null, what: string, book: DeviceBook): ByHandEnd | null {
  if (text === null) return null;
  const colon = text.lastIndexOf(':');
  const isWhole = book.all(text).length > 0 || colon <= 0;
  const device = book.get(isWhole ? text : text.slice(0, colon), what);
  if (device.id === row.id)
    throw new Refusal(422, `${what}-itself`, `The ${what} was not set`, `${row.name} cannot be its own ${what}.`, 'Name another device.');
  return { device: device.id, port: isWhole ? null : none(text.slice(colon + 1)) };
}

/** A new row for what a person entered, added to the book. @throws Refusal when it is known already. */
export function enterInto(book: DeviceBook, entry: Entry): DeviceRow {
  const mac = entry.mac === null ? null : readMac(entry.mac);
  for (const [what, text] of [
    ['serial', entry.serial],
    ['mac', mac],
    ['address', entry.address],
  ] as const) {
    const same = text === null ? undefined : book.with(what, text)[0];
    if (same)
      throw new Refusal(
        409,
        'device-known',
        'The device was not entered',
        `${same.name} has this ${what === 'mac' ? 'MAC' : what} already.`,
        'Change that one with `barrow device set`.',
      );
  }
  const row = blank(entry, mac, Date.now());
  book.add(row);
  return row;
}

export function readMac(text: string): string {
  const hex = text.toLowerCase().replace(/[^0-9a-f]/g, '');
  const mac = hex.length === 12 ? macOf(hex.match(/../g)!.map((h) => parseInt(h, 16))) : null;
  if (mac === null)
    throw new Refusal(
      422,
      'mac-malformed',
      'The device was not entered',
      `"${safeText(text, 60)}" is no MAC address`,
      'Write it as 06:17:4b:00:01:00.',
    );
  return mac;
}

function blank(entry: Entry, mac: string | null, at: number): DeviceRow {
  const { name, site, kind, address, maker, model, serial, firmware, hardwareRevision } = entry;
  return {
    id: newId('d'),
    name,
    site,
    kind,
    address: address ?? '',
    maker,
    model,
    serial,
    mac,
    firmware,
    firmwareNote: firmware === null ? 'It was entered by hand, and no probe has told it yet.' : null,
    hardwareRevision,
    variant: null,
    engineId: null,
    bootLoader: null,
    family: null,
    familyEvidence: null,
    network: '',
    snmpCredential: null,
    hostKey: null,
    shownHostKey: null,
    upSince: null,
    firstSeen: at,
    lastSeen: at,
    addresses: [],
    members: [],
    parent: null,
    onParent: null,
    outlets: [],
    believedBy: Object.fromEntries(
      Object.entries({ name, maker, model, serial, mac, firmware, hardwareRevision }).flatMap(([k, v]) =>
        v === null ? [] : [[k, 'by hand']],
      ),
    ),
    flags: [],
    byHand: ['kind', 'name', 'site'],
    tags: [],
    note: '',
    feedByHand: null,
    uplinkByHand: null,
    credentials: {},
    armed: null,
    fetchesFrom: [],
    approved: null,
    told: null,
    shows: null,
    retired: null,
  };
}
