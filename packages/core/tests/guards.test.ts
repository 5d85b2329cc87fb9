import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { DarkIf, guardsOf, standsAt, type DeviceId, type Feed, type Link } from '@barrow/core';

const link = (a: string, b: string, sure: Link['sure'] = 'named'): Link => ({
  a: { device: a, port: null },
  b: { device: b, port: null },
  ...{ medium: 'wired', speedMbps: null, bundled: 1, sure, evidence: [] },
});
const feed = (from: string, to: string, sure: Feed['sure'] = 'told'): Feed => ({
  from: { device: from, port: null },
  to,
  sure,
  evidence: [],
});
const house = (ids: string, links: readonly Link[], feeds: readonly Feed[] = [], here: DeviceId | null = null) =>
  guardsOf(
    ids.split(' ').map((id) => ({ id, parent: null })),
    { links, feeds },
    here,
  );
const names = (text: string) => (text === '' ? [] : text.split(' ').sort());

describe('single points of failure, read from the map', () => {
  it('are the switch that feeds a phone, and what that one hangs on', () => {
    const g = house(
      'core sw-1 sw-2 phone cam',
      [link('core', 'sw-1'), link('core', 'sw-2'), link('sw-1', 'phone'), link('sw-2', 'cam')],
      [feed('sw-1', 'phone'), feed('sw-2', 'cam')],
    );
    expect(g.under.get('phone')).toEqual(names('phone sw-1 core'));
    expect(g.under.get('sw-1')).toEqual(names('sw-1 core'));
    expect(g.under.get('core')).toEqual(['core']);
    expect(g.rings.size + g.feeds.size).toBe(0);
  });

  it('are none of two ways, and the power when the ways are two', () => {
    const ring = [link('a', 'b'), link('b', 'c'), link('c', 'd'), link('d', 'a')];
    const g = house('a b c d leaf', [...ring, link('c', 'leaf')], [feed('a', 'd')]);
    expect(g.under.get('b')).toEqual(['b']);
    expect(g.under.get('leaf')).toEqual(names('c leaf'));
    expect(g.under.get('d')).toEqual(names('a d'));
    // Who carries the ring, or darkens who does, may go down alone only.
    expect(['a', 'b', 'c', 'd', 'leaf'].map((id) => g.rings.get(id)?.length ?? 0)).toEqual([1, 1, 1, 1, 0]);
  });

  it('of a pair with switches on both are each its own; those switches may go down together, the pair may not', () => {
    const g = house('c1 c2 s1 s2 s3', [link('c1', 'c2'), ...['s1', 's2', 's3'].flatMap((s) => [link('c1', s), link('c2', s)])]);
    for (const id of ['c1', 'c2', 's1', 's2', 's3']) expect(g.under.get(id)).toEqual([id]);
    expect([...g.rings.keys()].sort()).toEqual(['c1', 'c2']);
    expect(g.rings.get('c1')).toEqual(g.rings.get('c2'));
  });

  it('are not the power strip that keeps its outlets on, but what powers that', () => {
    const devices = (keeps: boolean) =>
      ['ups', 'strip', 'sw', 'core'].map((id) => ({ id, parent: null, ...(id === 'strip' ? { keepsPower: keeps } : {}) }));
    const feeds = [feed('ups', 'strip'), feed('strip', 'sw'), feed('strip', 'core'), feed('ups', 'core')];
    const of = (keeps: boolean) => guardsOf(devices(keeps), { links: [], feeds });
    const dark = (keeps: boolean, device: string) => new DarkIf(devices(keeps), { links: [], feeds }).of(device).map((d) => d.device);
    expect(of(false).under.get('sw')).toEqual(names('ups strip sw'));
    expect(of(true).under.get('sw')).toEqual(names('ups sw'));
    expect([of(false).feeds.get('strip'), of(true).feeds.get('strip')]).toEqual([['core'], undefined]);
    expect([dark(false, 'strip'), dark(true, 'strip')]).toEqual([['sw'], []]);
    // Without power of its own it delivers none.
    expect(dark(true, 'ups').sort()).toEqual(names('strip sw core'));
    expect(of(true).feeds.get('ups')).toBeUndefined();
  });

  it('count a second feed as such, and a suggested link only where nothing surer is known', () => {
    const links = [link('core', 'sw'), link('core', 'far'), link('pdu-1', 'sw', 'suggested'), link('far', 'sw', 'suggested')];
    const feeds = [feed('pdu-1', 'core'), feed('pdu-2', 'core'), feed('pdu-1', 'sw'), feed('pdu-2', 'sw', 'suggested')];
    const g = house('pdu-1 pdu-2 core sw far', links, feeds, 'core');
    expect(g.under.get('far')).toEqual(names('core far'));
    expect(g.under.get('pdu-1')).toEqual(names('core pdu-1 sw'));
    expect(g.under.get('core')).toEqual(['core']);
    expect(g.under.get('sw')).toEqual(names('core pdu-1 sw'));
    expect(g.feedCount).toEqual(new Map([['core', 2]]));
    expect(g.feeds.get('pdu-2')).toEqual(['core']);
    expect(g.feeds.get('sw')).toBeUndefined();
  });

  it('end where feeds or parents go in a circle', () => {
    const g = guardsOf(
      [
        { id: 'a', parent: 'b' },
        { id: 'b', parent: 'a' },
      ],
      { links: [], feeds: [feed('a', 'b'), feed('b', 'a')] },
    );
    expect(g.under.get('a')).toEqual(names('a b'));
  });

  const maps = fc.integer({ min: 2, max: 8 }).chain((n) =>
    fc.record({
      n: fc.constant(n),
      // A tree that connects all, and more links at random.
      up: fc.array(fc.nat(), { minLength: n, maxLength: n }),
      more: fc.array(fc.tuple(fc.nat({ max: n - 1 }), fc.nat({ max: n - 1 })), { maxLength: 8 }),
      // Power comes from lower numbers only, so that it never goes in a circle.
      feeds: fc.array(fc.tuple(fc.nat({ max: n - 1 }), fc.nat({ max: n - 1 })), { maxLength: 6 }),
    }),
  );

  it('are those whose removal darkens a device, tried one by one on random maps', () => {
    fc.assert(
      fc.property(maps, ({ n, up, more, feeds }) => {
        const ids = Array.from({ length: n }, (_, i) => `d${i}`);
        const pairs = [...up.map((u, i) => [i, i === 0 ? 0 : u % i] as const), ...more].filter(([a, b]) => a !== b);
        const fed = feeds.filter(([a, b]) => a < b);
        const g = house(
          ids.join(' '),
          pairs.map(([a, b]) => link(ids[a]!, ids[b]!)),
          fed.map(([a, b]) => feed(ids[a]!, ids[b]!)),
          'd0',
        );
        const dark = (gone: number): Set<number> => {
          const out = new Set([gone]);
          // In the order of numbers, as power goes.
          for (let u = 0; u < n; u++) {
            const by = fed.filter(([, to]) => to === u).map(([from]) => from);
            if (by.length > 0 && by.every((f) => out.has(f))) out.add(u);
          }
          const reached = new Set<number>();
          const queue = out.has(0) ? [] : [0];
          for (let at = queue.pop(); at !== undefined; at = queue.pop()) {
            reached.add(at);
            for (const [a, b] of pairs) {
              const to = a === at ? b : b === at ? a : null;
              if (to !== null && !out.has(to) && !reached.has(to)) queue.push(to);
            }
          }
          return new Set(ids.map((_, i) => i).filter((i) => !reached.has(i)));
        };
        const cuts = ids.map((_, x) => dark(x));
        ids.forEach((id, u) =>
          expect(g.under.get(id), `under ${id}`).toEqual(
            ids.filter((_, x) => cuts[x]!.has(u) && (u !== 0 || x === 0 || powerCut(x, 0, fed, n))).sort(),
          ),
        );
      }),
      { numRuns: 400 },
    );
  });
});

/** Whether removing one takes the power of another. */
function powerCut(x: number, u: number, fed: readonly (readonly [number, number])[], n: number): boolean {
  const out = new Set([x]);
  for (let v = 0; v < n; v++) {
    const by = fed.filter(([, to]) => to === v).map(([from]) => from);
    if (by.length > 0 && by.every((f) => out.has(f))) out.add(v);
  }
  return out.has(u);
}

describe('where the machine hangs that asks', () => {
  const ours = '06:17:4b:0f:00:01';
  const learned = (id: string, port: string, macs: readonly string[]) => ({
    id,
    around: {
      ...nothingAround,
      ports: [{ index: 7, name: port, mac: null, speedMbps: null, up: true, wireless: false, bundle: null }],
      forwarding: macs.map((mac) => ({ mac, port: 7 })),
    },
  });
  const nothingAround = { chassisMac: null, capabilities: [], neighbours: [], power: [], tree: [], arp: [], addresses: [] };

  it('is the switch that has learned its address at a port with nothing else of the map, not those that see it through others', () => {
    const devices = [learned('core', 'up 1', [ours, 'a', 'b']), learned('sw-1', 'port 3', [ours])];
    const links = [{ ...link('core', 'sw-1'), a: { device: 'core', port: 'up 1' }, b: { device: 'sw-1', port: 'up 2' } }];
    expect(standsAt([ours], devices, { links })).toBe('sw-1');
    expect(standsAt(['06:17:4b:0f:00:02'], devices, { links })).toBeNull();
    expect(standsAt([ours], [{ id: 'core', around: null }], { links })).toBeNull();
  });

  it('is the one that has learned least there, where several could be it, and nobody where nothing tells them apart', () => {
    const two = [learned('sw-1', 'a', [ours, 'x', 'y']), learned('sw-2', 'b', [ours, 'x'])];
    expect(standsAt([ours], two, { links: [] })).toBe('sw-2');
    expect(standsAt([ours], [two[0]!, { ...two[0]!, id: 'sw-3' }], { links: [] })).toBeNull();
  });
});
