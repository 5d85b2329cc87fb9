import { describe, expect, it } from 'vitest';
import { clockOff, dateOf, givesTo, inARow, octets, recordFromSnmp, showsOf, toldWords, type Told } from '@barrow/core';

/** Octets as a raw answer writes them. */
const raw = (...list: number[]): string => `0x${list.map((o) => o.toString(16).padStart(2, '0')).join('')}`;
const noon = Date.UTC(2026, 10, 27, 12, 30, 15, 500);

describe('what a clock shows', () => {
  it('is a moment where it tells its time zone, on either side of ours', () => {
    expect(dateOf(raw(0x07, 0xea, 11, 27, 12, 30, 15, 5, 0x2b, 0, 0))).toBe(noon);
    expect(dateOf(raw(0x07, 0xea, 11, 27, 14, 0, 15, 5, 0x2b, 1, 30))).toBe(noon);
    expect(dateOf(raw(0x07, 0xea, 11, 27, 7, 30, 15, 5, 0x2d, 5, 0))).toBe(noon);
  });

  it.each<[string, string | number | undefined]>([
    ['nothing', undefined],
    ['a number', 7],
    ['no time zone', raw(0x07, 0xea, 11, 27, 12, 30, 15, 5)],
    ['a zone without a side', raw(0x07, 0xea, 11, 27, 12, 30, 15, 5, 0, 0, 0)],
    ['month 0', raw(0x07, 0xea, 0, 27, 12, 30, 15, 5, 0x2b, 0, 0)],
    ['month 13', raw(0x07, 0xea, 13, 27, 12, 30, 15, 5, 0x2b, 0, 0)],
    ['day 0', raw(0x07, 0xea, 11, 0, 12, 30, 15, 5, 0x2b, 0, 0)],
    ['day 32', raw(0x07, 0xea, 11, 32, 12, 30, 15, 5, 0x2b, 0, 0)],
    ['hour 24', raw(0x07, 0xea, 11, 27, 24, 30, 15, 5, 0x2b, 0, 0)],
    ['minute 60', raw(0x07, 0xea, 11, 27, 12, 60, 15, 5, 0x2b, 0, 0)],
    ['second 61', raw(0x07, 0xea, 11, 27, 12, 30, 61, 5, 0x2b, 0, 0)],
  ])('is not told by %s', (_, value) => expect(dateOf(value)).toBeNull());

  it('is wrong when it is more than five minutes off', () => {
    expect([300_000, -300_000, 301_000, -7_200_000].map(clockOff)).toEqual([null, null, '5 min 1 s ahead', '2 h behind']);
  });
});

describe('what a device shows besides', () => {
  const entity = '1.3.6.1.2.1.47.1.1.1.1';
  it('is how many power supplies it lists, and how far its clock is off', () => {
    const record = recordFromSnmp(
      new Map<string, string | number>([
        [`${entity}.5.1`, 3],
        [`${entity}.5.2`, 6],
        [`${entity}.5.3`, 6],
        ['1.3.6.1.2.1.25.1.2.0', raw(0x07, 0xea, 11, 27, 12, 30, 15, 5, 0x2b, 0, 0)],
      ]),
    );
    expect(showsOf(record, noon - 1000)).toEqual({ supplies: 2, clockAheadMs: 1000 });
    expect(showsOf(recordFromSnmp(new Map()), noon)).toEqual({});
  });
});

describe('who gives what others need to come back', () => {
  const device = (id: string, site: string, told: Told | null = null) => ({ id, site, told });
  const names = (of: ReturnType<typeof givesTo>, id: string): string[] => of.get(id)!.map((g) => `${g.from}: ${g.what.join()}`);

  it('gives it to its own site, to those that were named, or to all; never to itself', () => {
    const all = givesTo([
      device('a', 'quay', { serves: ['time'] }),
      device('b', 'quay'),
      device('c', 'eel', { serves: ['logins', 'names'], servesSites: ['quay'] }),
      device('d', 'eel', { serves: ['addresses'], servesSites: [] }),
      device('e', 'far'),
    ]);
    expect(names(all, 'a')).toEqual(['c: logins,names', 'd: addresses']);
    expect(names(all, 'b')).toEqual(['a: time', 'c: logins,names', 'd: addresses']);
    expect(names(all, 'c')).toEqual(['d: addresses']);
    expect(names(all, 'd')).toEqual([]);
    expect(names(all, 'e')).toEqual(['d: addresses']);
  });

  it('is told in words, with what it showed itself', () => {
    const told: Told = {
      console: { device: 'k', port: 'port 4' },
      serves: ['addresses', 'names', 'time'],
      servesSites: ['quay', 'eel'],
      radio: [],
      supplies: 2,
    };
    expect(toldWords(told, { supplies: 1, freeBytes: 2048, clockAheadMs: 600_000 }, (id) => id.toUpperCase())).toEqual([
      { what: 'Console', text: 'K:port 4', by: 'hand' },
      { what: 'Gives', text: 'addresses, names and time to quay and eel', by: 'hand' },
      { what: 'Radio beside it', text: 'none: nobody else reaches there', by: 'hand' },
      { what: 'Power supplies', text: '2', by: 'hand' },
      { what: 'Clock', text: '10 min ahead', by: 'device' },
      { what: 'Room', text: '2.0 KiB free when it was asked last', by: 'device' },
    ]);
    expect(toldWords({}, { radio: ['x', 'y'] }, (id) => id)).toEqual([{ what: 'Radio beside it', text: 'x, y', by: 'device' }]);
    expect(toldWords({ serves: ['time'], servesSites: [] }, {}, (id) => id)[0]!.text).toBe('time to every site');
    expect(toldWords({}, { clockAheadMs: 5 }, (id) => id)).toEqual([]);
    expect([inARow([]), inARow(['a']), octets(3), octets(3 * 1024 * 1024)]).toEqual(['', 'a', '3 B', '3.0 MiB']);
  });
});
