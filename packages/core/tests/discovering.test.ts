import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addressesOf,
  aroundFromSnmp,
  aroundSubtrees,
  believe,
  DarkIf,
  drawTopology,
  IdentityIndex,
  ipv6,
  kindByStandards,
  macOf,
  octetsOf,
  RangeMalformed,
  rangeTester,
  recordFromSnmp,
  usableSerial,
  type Around,
  type Identity,
  type KnownIdentity,
  type MapDevice,
} from '@barrow/core';

const identity = (over: Partial<Identity> = {}): Identity => ({
  maker: null,
  serial: null,
  memberSerials: [],
  mac: null,
  engineId: null,
  address: '127.0.9.1',
  addresses: [],
  ...over,
});
const known = (id: string, over: Partial<Identity> = {}): KnownIdentity => ({ ...identity(over), id, name: id });

describe('who is who', () => {
  it('a serial is the same device at any address, written with other case and blanks too', () => {
    const index = new IdentityIndex([known('a', { serial: 'TB 24-1', address: '127.0.9.1' })]);
    expect(index.resolve(identity({ serial: 'tb24-1', address: '127.0.9.7' }))).toMatchObject({ id: 'a', flags: [], displaced: null });
  });

  it('any member of a stack is the stack', () => {
    const index = new IdentityIndex([known('stack', { serial: 'S1', memberSerials: ['S1', 'S2', 'S3'] })]);
    expect(index.resolve(identity({ serial: 'S3', memberSerials: ['S3', 'S2'], address: '127.0.9.9' })).id).toBe('stack');
  });

  it('serials that mean "none" are none', () => {
    for (const serial of ['', '0000000', 'N/A', 'none', 'To be filled by O.E.M.', '123456789']) expect(usableSerial(serial)).toBeNull();
    const index = new IdentityIndex([known('a', { serial: '0000000', mac: '06:00:00:00:00:01' })]);
    expect(index.resolve(identity({ serial: '0000000', mac: '06:00:00:00:00:02', address: '127.0.9.2' })).id).toBeNull();
  });

  it('a MAC is the same device unless the serial says otherwise', () => {
    const index = new IdentityIndex([known('a', { serial: 'S1', mac: '06:00:00:00:00:01' })]);
    expect(index.resolve(identity({ mac: '06:00:00:00:00:01', address: '127.0.9.5' })).id).toBe('a');
    expect(index.resolve(identity({ serial: 'S2', mac: '06:00:00:00:00:01', address: '127.0.9.5' })).id).toBeNull();
  });

  it('an engine ID that was copied with a configuration makes no two devices one', () => {
    const index = new IdentityIndex([known('a', { engineId: '0x80', mac: '06:00:00:00:00:01' })]);
    expect(index.resolve(identity({ engineId: '0x80', address: '127.0.9.5' })).id).toBe('a');
    expect(index.resolve(identity({ engineId: '0x80', mac: '06:00:00:00:00:02', address: '127.0.9.5' })).id).toBeNull();
  });

  it('two with one serial in one discovery are flagged, and several addresses of one are one', () => {
    const index = new IdentityIndex([known('a', { serial: 'S1', mac: '06:00:00:00:00:01', address: '127.0.9.1' })]);
    index.seen('a', 'a', identity({ serial: 'S1', mac: '06:00:00:00:00:01', address: '127.0.9.1', addresses: ['127.0.9.1', '127.0.9.2'] }));
    const other = index.resolve(identity({ serial: 'S1', mac: '06:00:00:00:00:09', address: '127.0.9.3' }));
    expect(other).toMatchObject({ id: null, flags: [{ flag: 'same-serial', other: 'a' }] });
    expect(other.key).not.toBe('serial//S1');
    expect(index.resolve(identity({ serial: 'S1', mac: '06:00:00:00:00:01', address: '127.0.9.2' }))).toMatchObject({
      id: 'a',
      again: true,
      flags: [],
    });
  });

  it('another device at a known address is another, and says whose place it took', () => {
    const index = new IdentityIndex([known('a', { serial: 'S1', address: '127.0.9.1' })]);
    expect(index.resolve(identity({ serial: 'S2', address: '127.0.9.1' }))).toMatchObject({
      id: null,
      displaced: 'a',
      flags: [{ flag: 'took-address', other: 'a' }],
    });
  });

  it('what tells nothing of itself is believed to be what was there', () => {
    const index = new IdentityIndex([known('a', { serial: 'S1', address: '127.0.9.1' }), known('b', { address: '127.0.9.2' })]);
    expect(index.resolve(identity({ address: '127.0.9.1' }))).toMatchObject({ id: 'a', displaced: null });
    expect(index.resolve(identity({ address: '127.0.9.2', serial: 'NEW' }))).toMatchObject({ id: 'b', flags: [] });
  });
});

describe('what is believed', () => {
  it('is told by the first probe that tells it, field by field', () => {
    const { values, by } = believe([
      { probe: 'SNMP', values: { model: 'TB', firmware: null, serial: '' } },
      { probe: 'HTTP', values: { model: 'other', firmware: '1.2', serial: 'S' } },
    ]);
    expect(values).toMatchObject({ model: 'TB', firmware: '1.2', serial: 'S', mac: null });
    expect(by).toEqual({ model: 'SNMP', firmware: 'HTTP', serial: 'HTTP' });
  });

  it('of the kind, by standards alone, says by which', () => {
    const nothing = { capabilities: [], isOnvif: false, sip: null, services: null, forwards: false } as const;
    expect(kindByStandards(nothing)).toBeNull();
    expect(kindByStandards({ ...nothing, services: 76 })).toBeNull();
    expect(kindByStandards({ ...nothing, services: 4 })).toMatchObject({ kind: 'router' });
    expect(kindByStandards({ ...nothing, capabilities: ['bridge', 'router'] })).toMatchObject({ kind: 'router' });
    expect(kindByStandards({ ...nothing, capabilities: ['phone', 'bridge'] })).toMatchObject({ kind: 'phone' });
    expect(kindByStandards({ ...nothing, isOnvif: true })).toMatchObject({ kind: 'camera' });
    expect(kindByStandards({ ...nothing, sip: 'agent' })).toMatchObject({ kind: 'phone' });
  });
});

describe('ranges', () => {
  it('take single IPv6 addresses in any spelling, and no prefixes of them', () => {
    expect(addressesOf(['::1', '127.0.0.1', '0:0:0:0:0:0:0:1', 'FD00::0a'])).toEqual(['127.0.0.1', '::1', 'fd00::a']);
    expect(addressesOf(['::1', '::2'], ['0::2'])).toEqual(['::1']);
    expect(() => addressesOf(['fd00::/64'])).toThrow(RangeMalformed);
    for (const bad of ['1::2::3', ':::', '12345::1', '1:2:3:4:5:6:7', '::1%lo']) expect(ipv6(bad)).toBeNull();
  });

  it('are tested without being listed, and agree with the list', () => {
    const octet = fc.nat(255);
    fc.assert(
      fc.property(fc.array(fc.tuple(octet, octet), { minLength: 1, maxLength: 4 }), octet, octet, (parts, at, out) => {
        const ranges = parts.map(([a, b]) => `127.0.5.${Math.min(a, b)}-${Math.max(a, b)}`);
        const exclude = [`127.0.5.${out}`];
        expect(rangeTester(ranges, exclude)(`127.0.5.${at}`)).toBe(addressesOf(ranges, exclude).includes(`127.0.5.${at}`));
      }),
    );
  });
});

describe('what is around a device', () => {
  it('reads LLDP by the port that its own port table names, not by its number', () => {
    const local = '1.0.8802.1.1.2.1.3.7.1';
    const remote = '1.0.8802.1.1.2.1.4.1.1';
    const around = aroundFromSnmp(
      new Map<string, string | number>([
        ['1.3.6.1.2.1.2.2.1.2.101', 'slot 1 port 1'],
        ['1.3.6.1.2.1.31.1.1.1.1.101', 'Te1/1'],
        ['1.3.6.1.2.1.31.1.1.1.15.101', 10_000],
        [`${local}.2.1`, 5],
        [`${local}.3.1`, 'te1/1'],
        [`${remote}.4.0.1.7`, 4],
        [`${remote}.5.0.1.7`, '0x06174b000001'],
        [`${remote}.7.0.1.7`, 'port 9'],
        [`${remote}.9.0.1.7`, 'neighbour'],
        [`${remote}.12.0.1.7`, '0x2800'],
        ['1.0.8802.1.1.2.1.4.2.1.3.0.1.7.1.4.127.0.9.4', 2],
        ['1.0.8802.1.1.2.1.4.2.1.3.0.1.7.2.16.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.1', 2],
      ]),
    );
    expect(around.ports).toEqual([expect.objectContaining({ index: 101, name: 'Te1/1', speedMbps: 10_000 })]);
    expect(around.neighbours).toEqual([
      expect.objectContaining({
        port: 101,
        chassisMac: '06:17:4b:00:00:01',
        name: 'neighbour',
        remotePort: 'port 9',
        capabilities: ['bridge', 'router'],
        addresses: ['127.0.9.4', '::1'],
      }),
    ]);
  });

  it('never throws and never gives more than it was given, whatever the answers are', () => {
    const roots = [
      ...Object.values(aroundSubtrees).map(([oid]) => oid),
      '1.0.8802.1.1.2.1.4.1.1.5',
      '1.0.8802.1.1.2.1.3.7.1.3',
      '1.3.6.1.2.1.47.1.1.1.1.5',
    ];
    const oid = fc
      .tuple(fc.constantFrom(...roots), fc.array(fc.nat(300), { maxLength: 20 }))
      .map(([root, rest]) => [root, ...rest].join('.'));
    const value = fc.oneof(fc.integer(), fc.string(), fc.constantFrom('0x06174b000001', '0x', '0xzz', '\u0000'), fc.double());
    fc.assert(
      fc.property(fc.array(fc.tuple(oid, value), { maxLength: 60 }), (answers) => {
        const map = new Map<string, string | number>(answers);
        const around = aroundFromSnmp(map);
        recordFromSnmp(map);
        expect(around.ports.length + around.neighbours.length).toBeLessThanOrEqual(map.size);
        drawTopology([device('x', { around })]);
      }),
    );
  });

  it('reads octets that look like text, and text that looks like none', () => {
    expect(octetsOf('abc')).toEqual([97, 98, 99]);
    expect(octetsOf('0x0aff')).toEqual([10, 255]);
    // A MAC address whose octets happen to be readable.
    expect(macOf('ABCDEF')).toBe('41:42:43:44:45:46');
    expect(macOf('0x000000000000')).toBeNull();
    expect(macOf('0x06174b0000')).toBeNull();
  });
});

const noAround: Around = {
  chassisMac: null,
  capabilities: [],
  ports: [],
  neighbours: [],
  power: [],
  forwarding: [],
  tree: [],
  arp: [],
  addresses: [],
};
function device(id: string, over: Partial<MapDevice> = {}): MapDevice {
  return {
    id,
    name: id,
    kind: 'switch',
    site: 's',
    parent: null,
    macs: [`mac-${id}`],
    addresses: [],
    around: null,
    onParent: null,
    outlets: [],
    feedByHand: null,
    uplinkByHand: null,
    ...over,
  };
}
const port = (index: number) => ({ index, name: `port ${index}`, mac: null, speedMbps: 1000, up: true, wireless: false, bundle: null });
const hears = (p: number, id: string, remotePort: string | null = null) => ({
  port: p,
  chassisMac: `mac-${id}`,
  remotePort,
  name: id,
  description: null,
  capabilities: ['bridge' as const],
  addresses: [],
  inventory: null,
  powerWatts: null,
});

describe('the map', () => {
  it('draws what both sides name once, with the evidence of both', () => {
    const a = device('a', { around: { ...noAround, ports: [port(1)], neighbours: [hears(1, 'b', 'port 2')] } });
    const b = device('b', { around: { ...noAround, ports: [port(2)], neighbours: [hears(2, 'a', 'PORT 1')] } });
    const { links } = drawTopology([a, b]);
    expect(links).toHaveLength(1);
    expect(links[0]).toMatchObject({ a: { device: 'a', port: 'port 1' }, b: { device: 'b', port: 'port 2' }, sure: 'named' });
    expect(links[0]!.evidence).toHaveLength(2);
  });

  it('that a port hears from three devices is only suggested: something between forwards LLDP', () => {
    const names = ['a', 'b', 'c', 'd'];
    const heard = (count: number) =>
      names.map((name) =>
        device(name, {
          around: {
            ...noAround,
            ports: [port(1)],
            neighbours: names
              .filter((n) => n !== name)
              .slice(0, count)
              .map((n) => hears(1, n, 'port 1')),
          },
        }),
      );
    const mesh = drawTopology(heard(3)).links;
    expect(mesh).toHaveLength(6);
    expect(new Set(mesh.map((l) => l.sure))).toEqual(new Set(['suggested']));
    expect(mesh[0]!.evidence[0]!.how).toBe('a hears 3 devices by LLDP on port 1: something between forwards LLDP');
    // A phone, and the computer behind it, are two.
    expect(new Set(drawTopology(heard(2)).links.map((l) => l.sure))).toEqual(new Set(['named']));
  });

  it('believes no neighbour that is the device itself, and names those that nobody knows', () => {
    const a = device('a', { around: { ...noAround, ports: [port(1), port(2)], neighbours: [hears(1, 'a'), hears(2, 'nobody')] } });
    const { links, strangers, noUplink } = drawTopology([a]);
    expect(links).toEqual([]);
    expect(strangers).toEqual([expect.objectContaining({ heardBy: 'a', port: 'port 2', name: 'nobody' })]);
    expect([...noUplink]).toEqual(['a']);
  });

  it('suggests by a bridge table only where no neighbour is named, and the emptier port wins', () => {
    const camera = device('cam', { kind: 'camera' });
    const a = device('a', {
      around: { ...noAround, ports: [port(1), port(2)], neighbours: [hears(1, 'b')], forwarding: [{ mac: 'mac-cam', port: 1 }] },
    });
    const b = device('b', {
      around: {
        ...noAround,
        ports: [port(1), port(2), port(3)],
        neighbours: [hears(1, 'a')],
        forwarding: [
          { mac: 'mac-cam', port: 3 },
          { mac: 'mac-a', port: 1 },
        ],
      },
    });
    const { links } = drawTopology([a, b, camera]);
    expect(links.map((l) => `${l.a.device} ${l.a.port} ${l.b.device} ${l.sure}`)).toEqual(
      expect.arrayContaining(['b port 3 cam suggested']),
    );
    expect(links.filter((l) => l.b.device === 'cam')).toHaveLength(1);
  });

  it('tells what a person said before everything else, and a port that feeds something unknown', () => {
    const a = device('a', {
      around: { ...noAround, ports: [port(1), port(2)], power: [{ port: 1, delivering: true, class: 2 }] },
    });
    const b = device('b', { uplinkByHand: { device: 'a', port: 'port 2' }, feedByHand: { device: 'a', port: 'Port 2' } });
    const drawn = drawTopology([a, b]);
    expect(drawn.links[0]).toMatchObject({ a: { device: 'a', port: 'port 2' }, sure: 'by-hand' });
    expect(drawn.feeds).toEqual([expect.objectContaining({ from: { device: 'a', port: 'port 2' }, to: 'b', sure: 'by-hand' })]);
    expect(drawn.unknownFeeds).toEqual([{ device: 'a', port: 'port 1' }]);
  });

  it('takes no name for a device when two bear it', () => {
    const strip = device('strip', { outlets: [{ outlet: 'outlet 1', label: 'twin' }] });
    expect(drawTopology([strip, device('x', { name: 'twin' }), device('y', { name: 'twin' })]).feeds).toEqual([]);
    expect(drawTopology([strip, device('x', { name: 'twin' })]).feeds).toHaveLength(1);
  });
});

describe('what goes dark', () => {
  const link = (a: string, b: string) => ({ a: { device: a, port: null }, b: { device: b, port: null } }) as never;
  const feed = (from: string, to: string) => ({ from: { device: from, port: null }, to }) as never;
  const ask = (ids: string[], links: never[], feeds: never[], device: string, parents: Record<string, string> = {}) =>
    new DarkIf(
      ids.map((id) => ({ id, parent: parents[id] ?? null })),
      { links, feeds },
    ).of(device);

  it('is what loses its last feed, then what it carried', () => {
    const found = ask(['pdu', 'sw', 'phone', 'core'], [link('core', 'sw'), link('sw', 'phone')], [feed('pdu', 'sw')], 'pdu');
    expect(found).toEqual([
      { device: 'sw', why: 'power', through: 'pdu' },
      { device: 'phone', why: 'connection', through: 'sw' },
    ]);
  });

  it('is not what has a second feed or a second way', () => {
    expect(ask(['p1', 'p2', 'x'], [], [feed('p1', 'x'), feed('p2', 'x')], 'p1')).toEqual([]);
    expect(ask(['a', 'b', 'x', 'y'], [link('a', 'x'), link('b', 'x'), link('a', 'b'), link('b', 'y')], [], 'a')).toEqual([]);
  });

  it('names those that are managed through it, once', () => {
    expect(ask(['wlc', 'ap', 'core'], [link('core', 'wlc'), link('core', 'ap')], [], 'wlc', { ap: 'wlc' })).toEqual([
      { device: 'ap', why: 'parent', through: 'wlc' },
    ]);
  });

  it('ends on feeds and links that go round', () => {
    expect(ask(['a', 'b'], [link('a', 'b')], [feed('a', 'b'), feed('b', 'a')], 'a').map((d) => d.device)).toEqual(['b']);
  });

  it('by connection is exactly what a walk from the rest cannot reach', () => {
    const node = fc.nat(9).map(String);
    fc.assert(
      fc.property(fc.array(fc.tuple(node, node), { maxLength: 20 }), node, (pairs, away) => {
        const ids = Array.from({ length: 10 }, (_, i) => String(i));
        const found = new Set(
          ask(
            ids,
            pairs.filter(([a, b]) => a !== b).map(([a, b]) => link(a, b)),
            [],
            away,
          ).map((d) => d.device),
        );
        const next = (at: string): string[] => pairs.flatMap(([a, b]) => (a === at ? [b] : b === at ? [a] : [])).filter((n) => n !== away);
        const reach = (from: string): Set<string> => {
          const seen = new Set([from]);
          const stack = [from];
          while (stack.length > 0)
            for (const n of next(stack.pop()!)) {
              if (!seen.has(n)) stack.push(n);
              seen.add(n);
            }
          return seen;
        };
        const parts = new Map<string, Set<string>>();
        for (const n of new Set(pairs.flatMap(([a, b]) => (a === away && b !== away ? [b] : b === away && a !== away ? [a] : [])))) {
          const part = reach(n);
          parts.set([...part].sort().join(), part);
        }
        const largest = Math.max(0, ...[...parts.values()].map((p) => p.size));
        const cut = [...parts.values()].reduce((sum, p) => sum + p.size, 0) - largest;
        expect(found.size).toBe(cut);
      }),
    );
  });
});
