import Papa from 'papaparse';
import { deviceEntry, kinds, macOf, safeText, type deviceChange, type Device, type ImportResult, type Kind } from '@barrow/core';
import type { z } from 'zod';
import type { Context } from '../context.js';
import { DeviceEntity, HistoryEntity, type ByHandEnd, type DeviceRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { Refusal } from '../errors.js';
import { DeviceBook } from './book.js';
import type { Devices } from './devices.js';

type Change = z.output<typeof deviceChange>;
type Entry = z.output<typeof deviceEntry>;
type ImportRow = ImportResult['rows'][number];

/** The columns of an export, in their order; an import takes any of them. */
export const listColumns = [
  'id',
  'name',
  'address',
  'kind',
  'site',
  'tags',
  'parent',
  'feed',
  'uplink',
  'note',
  'maker',
  'model',
  'hardwareRevision',
  'serial',
  'mac',
  'firmware',
  'bootLoader',
  'family',
  'lastSeen',
] as const;
type Column = (typeof listColumns)[number];
/** What a person may set; the rest of an import only finds the device, or describes one that is entered. */
type Settable = 'name' | 'kind' | 'site' | 'tags' | 'parent' | 'feed' | 'uplink' | 'note';

const none = (text: string | null | undefined): string | null =>
  text === null || text === undefined || text.trim() === '' ? null : text.trim();

/** Rows in one statement: more of them cost no less. */
const manyAtOnce = 50;

/** What is written of one device when a person sets something. */
interface Written {
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

  async #book(): Promise<DeviceBook> {
    return new DeviceBook((await this.devices.all()).map((d) => d.row));
  }

  /** Sets fields of a device; null gives a field back to what probes tell next. @throws Refusal */
  async change(row: DeviceRow, change: Change, who: string): Promise<void> {
    await this.#write([{ row, isNew: false, next: nextOf(row, change, await this.#book()) }], who);
  }

  /** Enters a device that no probe has found, or that none can. @throws Refusal when it is known already. */
  async enter(entry: Entry, who: string): Promise<string> {
    const book = await this.#book();
    const row = enterInto(book, entry);
    await this.#write([{ row, isNew: true, next: nextOf(row, entry, book) }], who);
    return row.id;
  }

  async #write(all: readonly Written[], who: string): Promise<void> {
    const words: Partial<Record<keyof DeviceRow, string>> = {
      name: 'name',
      site: 'site',
      kind: 'kind',
      note: 'note',
      parent: 'parent',
      tags: 'tags',
    };
    const shown = (value: unknown): string | null =>
      value === null || value === undefined || value === '' || (Array.isArray(value) && value.length === 0)
        ? null
        : Array.isArray(value)
          ? value.join(' ')
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
    this.context.live.changed('devices');
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

  /** RFC 4180 with a header line, or JSON; the same columns. */
  async export(form: 'csv' | 'json', chosen: readonly Device[]): Promise<string> {
    const rows = new Map((await this.devices.all()).map((d) => [d.row.id, d.row]));
    const nameOf = (id: string | null): string | null => (id === null ? null : (rows.get(id)?.name ?? id));
    const end = (e: ByHandEnd | null): string | null => (e === null ? null : `${nameOf(e.device)}${e.port === null ? '' : `:${e.port}`}`);
    const list = chosen.map((d) => {
      const row = rows.get(d.id)!;
      return {
        ...Object.fromEntries(listColumns.map((c) => [c, (d as unknown as Record<string, unknown>)[c] ?? null])),
        parent: nameOf(row.parent),
        feed: end(row.feedByHand),
        uplink: end(row.uplinkByHand),
        tags: d.tags,
      };
    });
    if (form === 'json') return `${JSON.stringify(list, null, 2)}\n`;
    return `${Papa.unparse(
      list.map((d) => ({ ...d, tags: d.tags.join(' ') })),
      { columns: [...listColumns], escapeFormulae: true, newline: '\r\n' },
    )}\r\n`;
  }

  /**
   * Takes a list in: finds each row's device by id, serial, MAC, address or name, and says what would change. With
   * `dryRun` it writes nothing. A row that is refused stops no other.
   * @throws Refusal when the text is no list of devices at all.
   */
  async import(form: 'csv' | 'json', text: string, dryRun: boolean, who: string): Promise<ImportResult> {
    const given = form === 'csv' ? readCsv(text) : readJson(text);
    const book = await this.#book();
    const taken = given.map((cells, index) => takeRow(index + 1, cells, book));
    const writes = taken.flatMap((t) => t.write ?? []);
    if (!dryRun && writes.length > 0) await this.#write(writes, who);
    return { dryRun, rows: taken.map((t) => t.told), written: dryRun ? 0 : writes.length };
  }
}

/** The fields that a change sets, with everything that it names looked up. @throws Refusal */
function nextOf(row: DeviceRow, change: Change, book: DeviceBook): Partial<DeviceRow> {
  const next: Partial<DeviceRow> = {};
  const byHand = new Set(row.byHand);
  for (const field of ['name', 'site', 'kind'] as const) {
    const value = change[field];
    if (value === undefined) continue;
    if (value === null) byHand.delete(field);
    else {
      byHand.add(field);
      next[field] = value;
    }
  }
  if (change.tags !== undefined) next.tags = [...new Set(change.tags.map((t) => t.trim()).filter((t) => t !== ''))].sort();
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
  next.byHand = [...byHand].sort();
  return next;
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
function endOf(row: DeviceRow, text: string | null, what: string, book: DeviceBook): ByHandEnd | null {
  if (text === null) return null;
  const colon = text.lastIndexOf(':');
  const isWhole = book.all(text).length > 0 || colon <= 0;
  const device = book.get(isWhole ? text : text.slice(0, colon), what);
  if (device.id === row.id)
    throw new Refusal(422, `${what}-itself`, `The ${what} was not set`, `${row.name} cannot be its own ${what}.`, 'Name another device.');
  return { device: device.id, port: isWhole ? null : none(text.slice(colon + 1)) };
}

/** A new row for what a person entered, added to the book. @throws Refusal when it is known already. */
function enterInto(book: DeviceBook, entry: Entry): DeviceRow {
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

function takeRow(number: number, cells: Cells, book: DeviceBook): { told: ImportRow; write?: Written } {
  const name = cells.name ?? cells.serial ?? cells.address ?? `row ${number}`;
  const refuse = (why: string): { told: ImportRow } => ({ told: { row: number, device: null, name, what: 'refused', detail: [why] } });
  try {
    const known = findRow(cells, book);
    if (known) {
      const { change, detail } = differences(known, cells, book);
      if (Object.keys(change).length === 0) return { told: { row: number, device: known.id, name: known.name, what: 'same', detail } };
      return {
        told: { row: number, device: known.id, name: known.name, what: 'changed', detail },
        write: { row: known, isNew: false, next: nextOf(known, change, book) },
      };
    }
    if (cells.id) return refuse(`no device has the id ${cells.id}`);
    const entered = [
      'name',
      'site',
      'kind',
      'address',
      'maker',
      'model',
      'serial',
      'mac',
      'firmware',
      'note',
      'parent',
      'feed',
      'uplink',
    ] as const;
    const parsed = deviceEntry.safeParse({
      ...Object.fromEntries(entered.flatMap((c) => (cells[c] ? [[c, cells[c]]] : []))),
      ...(cells.tags ? { tags: tagsOf(cells.tags) } : {}),
    });
    if (!parsed.success) {
      const issue = parsed.error.issues[0]!;
      return refuse(`it fits no known device, and cannot be entered: ${issue.path.join('.')}: ${issue.message}`);
    }
    const row = enterInto(book, parsed.data);
    const rest = Object.entries(cells).filter(([c, v]) => v && !['name', 'kind', 'site'].includes(c));
    return {
      told: {
        row: number,
        device: row.id,
        name,
        what: 'new',
        detail: [`kind ${row.kind}`, `site ${row.site}`, ...rest.map(([c, v]) => `${c} ${v}`)],
      },
      write: { row, isNew: true, next: nextOf(row, parsed.data, book) },
    };
  } catch (error) {
    if (!(error instanceof Refusal)) throw error;
    return refuse(error.detail);
  }
}

function findRow(cells: Cells, book: DeviceBook): DeviceRow | null {
  if (cells.id) return book.byId.get(cells.id) ?? null;
  const mac = cells.mac ? readMac(cells.mac) : null;
  const tries = [
    ...(cells.serial ? [book.with('serial', cells.serial)] : []),
    ...(mac ? [book.with('mac', mac)] : []),
    ...(cells.address ? [book.with('address', cells.address)] : []),
    ...(cells.name && !cells.serial && !mac ? [book.with('name', cells.name)] : []),
  ];
  for (const found of tries) {
    if (found.length > 1)
      throw new Refusal(409, 'device-ambiguous', '', `it fits ${found.map((f) => `${f.name} (${f.id})`).join(' and ')}; give the id`, '');
    if (found[0]) return found[0];
  }
  return null;
}

function differences(row: DeviceRow, cells: Cells, book: DeviceBook): { change: Change; detail: string[] } {
  const change: Record<string, unknown> = {};
  const detail: string[] = [];
  const nameOf = (id: string): string => book.byId.get(id)?.name ?? id;
  const shown = (e: ByHandEnd | null): string | null => (e === null ? null : `${nameOf(e.device)}${e.port === null ? '' : `:${e.port}`}`);
  const differ = (field: Settable, before: string | null, after: string | null, value: unknown): void => {
    if (before === after) return;
    change[field] = value;
    detail.push(`${field} ${before ?? 'none'} → ${after ?? 'none'}`);
  };
  for (const field of ['name', 'site', 'kind'] as const) {
    const value = cells[field];
    if (value === undefined || value === '') continue;
    if (field === 'kind' && !kinds.includes(value as Kind))
      throw new Refusal(422, 'kind-unknown', '', `"${value}" is no kind; kinds are ${kinds.join(', ')}`, '');
    differ(field, row[field], value, value);
  }
  if (cells.tags !== undefined) differ('tags', row.tags.join(' ') || null, tagsOf(cells.tags).join(' ') || null, tagsOf(cells.tags));
  if (cells.note !== undefined) differ('note', none(row.note), none(cells.note), cells.note);
  if (cells.parent !== undefined) {
    const parent = cells.parent === '' ? null : book.get(cells.parent, 'parent');
    // A parent that a probe tells is not taken away by an empty cell.
    if (parent !== null || row.byHand.includes('parent'))
      differ('parent', row.parent === null ? null : nameOf(row.parent), parent?.name ?? null, parent?.id ?? null);
  }
  for (const field of ['feed', 'uplink'] as const) {
    const text = cells[field];
    if (text === undefined) continue;
    const after = text === '' ? null : endOf(row, text, field, book);
    differ(field, shown(row[`${field}ByHand`]), shown(after), text === '' ? null : text);
  }
  return { change: change as Change, detail };
}

type Cells = Partial<Record<Column, string>>;

const tagsOf = (text: string): string[] => [...new Set(text.split(/[\s,;]+/).filter((t) => t !== ''))].sort();

function readMac(text: string): string {
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

function notAList(why: string): Refusal {
  return new Refusal(
    422,
    'list-malformed',
    'Nothing was taken in',
    why,
    `The columns are ${listColumns.join(', ')}; \`barrow device export\` shows the form.`,
  );
}

function checkColumns(columns: readonly string[]): void {
  const strange = columns.filter((c) => !(listColumns as readonly string[]).includes(c));
  if (strange.length > 0) throw notAList(`There is no column ${strange.map((c) => `"${safeText(c, 40)}"`).join(', ')}.`);
}

function readCsv(text: string): Cells[] {
  const parsed = Papa.parse<Record<string, string>>(text.replace(/^\ufeff/, ''), {
    header: true,
    skipEmptyLines: 'greedy',
    delimiter: ',',
  });
  checkColumns(parsed.meta.fields ?? []);
  const fault = parsed.errors.find((e) => e.code !== 'UndetectableDelimiter');
  if (fault) throw notAList(`Line ${(fault.row ?? 0) + 2}: ${fault.message}.`);
  // An apostrophe that an export put before a formula is not part of the value.
  return parsed.data.map((row) => Object.fromEntries(Object.entries(row).map(([k, v]) => [k, v.trim().replace(/^'(?=[=+\-@\t\r])/, '')])));
}

function readJson(text: string): Cells[] {
  let read: unknown;
  try {
    read = JSON.parse(text);
  } catch (error) {
    throw notAList(`It is not JSON: ${(error as Error).message}.`);
  }
  if (!Array.isArray(read)) throw notAList('It is not a JSON array of devices.');
  return read.map((one: unknown, i) => {
    if (one === null || typeof one !== 'object') throw notAList(`Entry ${i + 1} is not an object.`);
    checkColumns(Object.keys(one));
    return Object.fromEntries(
      Object.entries(one).flatMap(([key, value]): [string, string][] =>
        value === null || value === undefined ? [] : [[key, Array.isArray(value) ? value.join(' ') : String(value as string | number)]],
      ),
    );
  });
}

function blank(entry: Entry, mac: string | null, at: number): DeviceRow {
  const { name, site, kind, address, maker, model, serial, firmware } = entry;
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
    hardwareRevision: null,
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
      Object.entries({ name, maker, model, serial, mac, firmware }).flatMap(([k, v]) => (v === null ? [] : [[k, 'by hand']])),
    ),
    flags: [],
    byHand: ['kind', 'name', 'site'],
    tags: [],
    note: '',
    feedByHand: null,
    uplinkByHand: null,
    credentials: {},
  };
}
