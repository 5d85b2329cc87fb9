import Papa from 'papaparse';
import {
  describeIssue,
  deviceEntry,
  kinds,
  meantName,
  safeText,
  type Device,
  type ImportResult,
  type Kind,
  type VersionScheme,
} from '@barrow/core';
import type { ByHandEnd, DeviceRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import type { DeviceBook } from './book.js';
import { endOf, enterInto, nextOf, none, readMac, type ByHand, type Change, type Written } from './by-hand.js';
import type { Devices } from './devices.js';
import { enteredOf } from './entered.js';

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
type Settable = 'name' | 'kind' | 'site' | 'family' | 'tags' | 'parent' | 'feed' | 'uplink' | 'note' | 'firmware' | 'hardwareRevision';

/** Lists of devices, out and in. */
export class DeviceLists {
  constructor(
    private readonly devices: Devices,
    private readonly byHand: ByHand,
  ) {}

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
    const book = await this.byHand.book();
    const sites = await this.devices.sites();
    const { families } = this.devices;
    /** The row that each device was found by. */
    const rowOf = new Map<string, number>();
    const taken = given.map((cells, index) => {
      let row = takeRow(index + 1, cells, book, families, who);
      const { device } = row.told;
      const earlier = device === null ? undefined : rowOf.get(device);
      if (earlier !== undefined)
        row = { told: { ...row.told, what: 'refused', detail: [`row ${earlier} is for the same device, ${row.told.name}`] } };
      else if (device !== null) rowOf.set(device, index + 1);
      const meant = cells.site && !sites.has(cells.site) ? meantName(cells.site, sites) : null;
      if (meant !== null && row.write) row.told.detail.push(`there is no site ${cells.site} yet: is ${meant} meant?`);
      return row;
    });
    const writes = taken.flatMap((t) => t.write ?? []);
    if (!dryRun && writes.length > 0) await this.byHand.write(writes, who);
    return { dryRun, rows: taken.map((t) => t.told), written: dryRun ? 0 : writes.length };
  }
}

function takeRow(
  number: number,
  cells: Cells,
  book: DeviceBook,
  families: ReadonlyMap<string, { readonly versions: VersionScheme }>,
  who: string,
): { told: ImportRow; write?: Written } {
  const name = cells.name ?? cells.serial ?? cells.address ?? `row ${number}`;
  const refuse = (why: string): { told: ImportRow } => ({ told: { row: number, device: null, name, what: 'refused', detail: [why] } });
  if (cells.family && !families.has(cells.family)) {
    const meant = meantName(cells.family, [...families.keys()]);
    return refuse(`there is no family ${cells.family}${meant === null ? '' : `; is ${meant} meant?`}`);
  }
  try {
    const known = findRow(cells, book);
    if (known) {
      const { change, detail } = differences(known, cells, book);
      if (Object.keys(change).length === 0) return { told: { row: number, device: known.id, name: known.name, what: 'same', detail } };
      return {
        told: { row: number, device: known.id, name: known.name, what: 'changed', detail },
        write: { row: known, isNew: false, next: { ...nextOf(known, change, book), ...enteredOf(known, change, families, who) } },
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
      'hardwareRevision',
      'note',
      'parent',
      'feed',
      'uplink',
      'family',
    ] as const;
    const parsed = deviceEntry.safeParse({
      ...Object.fromEntries(entered.flatMap((c) => (cells[c] ? [[c, cells[c]]] : []))),
      ...(cells.tags ? { tags: tagsOf(cells.tags) } : {}),
    });
    if (!parsed.success) {
      return refuse(`it fits no known device, and cannot be entered: ${describeIssue(parsed.error.issues[0]!, cells)}`);
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
  for (const field of ['name', 'site', 'kind', 'family'] as const) {
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
  for (const field of ['firmware', 'hardwareRevision'] as const)
    if (cells[field] !== undefined && cells[field] !== '') differ(field, row[field], cells[field], cells[field]);
  // What identifies a device only the device itself can tell: such a cell is not taken, and that is said.
  for (const field of ['address', 'serial', 'mac', 'maker', 'model'] as const) {
    const text = cells[field];
    const is = row[field] ?? '';
    if (text !== undefined && text !== '' && text.toLowerCase() !== is.toLowerCase())
      detail.push(`${field} "${safeText(text, 60)}" is ignored: the device tells it (${is === '' ? 'not told yet' : is})`);
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
    // Spreadsheets write semicolons or tabs where the comma divides decimals.
    delimitersToGuess: [',', ';', '\t'],
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
