import { describe, expect, it } from 'vitest';
import type { DeviceRow } from '../src/data/entities.js';
import { DeviceBook } from '../src/devices/book.js';

const row = (id: string, more: Partial<DeviceRow> = {}): DeviceRow =>
  ({
    id,
    name: `name-${id}`,
    address: `127.40.1.${id}`,
    serial: `S${id}`,
    mac: `06:17:4b:00:00:0${id}`,
    flags: [],
    ...more,
  }) as unknown as DeviceRow;

describe('a book of devices that is carried on', () => {
  it('finds a device by what it is called now, and no longer by what it was called', () => {
    const book = new DeviceBook([row('1'), row('2')]);
    book.replace(row('1', { name: 'Renamed', address: '127.40.1.9', serial: null }));
    expect(book.get('renamed')).toMatchObject({ id: '1', serial: null });
    expect(book.get('127.40.1.9').id).toBe('1');
    expect(book.get('1').name).toBe('Renamed');
    for (const gone of ['name-1', '127.40.1.1', 'S1']) expect(book.all(gone), gone).toEqual([]);
    expect(book.get('name-2').id).toBe('2');
  });

  it('keeps those that share a name apart', () => {
    const book = new DeviceBook([row('1', { name: 'twin' }), row('2', { name: 'twin' })]);
    expect(() => book.get('twin')).toThrow('More than one device is meant');
    book.replace(row('2', { name: 'other' }));
    expect(book.get('twin').id).toBe('1');
    book.replace(row('1', { name: 'twin', note: 'again' }));
    expect(book.all('twin')).toHaveLength(1);
    expect(book.get('twin').note).toBe('again');
  });

  it('does not find one at an address that another has taken from it', () => {
    const book = new DeviceBook([row('1')]);
    book.replace(row('1', { flags: [{ flag: 'displaced', detail: '', other: '2', at: 0 }] }));
    book.replace(row('2', { address: '127.40.1.1' }));
    expect(book.get('127.40.1.1').id).toBe('2');
    expect(book.get('S1').id).toBe('1');
  });

  it('agrees with one that is gathered anew, whatever was replaced', () => {
    const book = new DeviceBook([]);
    const now = new Map<string, DeviceRow>();
    for (let i = 0; i < 200; i++) {
      const next = row(String(1 + (i % 7)), { name: `n${i % 5}`, address: `127.40.1.${i % 4}`, serial: i % 3 === 0 ? null : `s${i % 6}` });
      now.set(next.id, next);
      book.replace(next);
    }
    const anew = new DeviceBook(now.values());
    for (const asked of ['n0', 'n1', 'n4', '127.40.1.0', '127.40.1.3', 's1', 's5', '3'])
      expect(new Set(book.all(asked).map((d) => d.id)), asked).toEqual(new Set(anew.all(asked).map((d) => d.id)));
  });
});
