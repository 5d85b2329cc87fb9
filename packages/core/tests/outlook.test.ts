import { describe, expect, it } from 'vitest';
import { compareOutlooks, emptyOutlook, nobodyExcused, outlookOf, outlookScalars, aroundFromSnmp, type Outlook } from '@barrow/core';

const before: Outlook = {
  ports: [
    { name: 'p1', bundle: 'b1' },
    { name: 'p2', bundle: 'b1' },
    { name: 'p3', bundle: null },
    { name: 'p4', bundle: null },
    { name: 'p5', bundle: null },
    { name: 'p6', bundle: null },
    { name: 't1', bundle: null, tunnel: true },
  ],
  neighbours: [
    { port: 'p3', name: 'sw-9', mac: '06:00:00:00:00:09' },
    { port: null, name: 'far', mac: null },
  ],
  fed: ['p4'],
  learned: 40,
  routes: 10,
  root: { priority: 32_768, mac: '06:00:00:00:00:05' },
  tree: [
    { port: 'p3', state: 'forwarding' },
    { port: 'p5', state: 'blocking' },
  ],
  clockOffMs: 1000,
  ours: { wall: 1_000_000_000, up: 50_000 },
  doors: ['SNMP', 'SSH'],
  logins: ['SSH', 'ONVIF'],
  picture: { there: true, detail: 'a picture is described' },
  calls: { status: 200, reason: 'OK' },
  children: [{ name: 'ap-1', serial: 'A1' }],
  recorded: [{ name: 'cam-1', serial: 'C1' }],
  particulars: {
    settingsFrom: 'kept',
    bootList: [
      { image: '4.2.0', usable: true },
      { image: '4.1.0', usable: true },
      { image: '4.0.0', usable: false },
    ],
    licences: ['rings', 'lans'],
    complaints: ['lamp 2 is dark'],
  },
};
const own = (after: Partial<NonNullable<Outlook['particulars']>>): Partial<Outlook> => ({
  particulars: { ...before.particulars!, ...after },
});
const failed = (after: Partial<Outlook>, excused = nobodyExcused) =>
  compareOutlooks(before, { ...before, ...after }, excused)
    .filter((c) => c.result === 'failed')
    .map((c) => [c.name, c.cause, ...c.evidence]);
const without = (...names: string[]) => before.ports.filter((p) => !names.includes(p.name));

describe('what a device shows of what is around it, before and after', () => {
  it('is the same where nothing changed, and compares all that was shown', () => {
    const made = compareOutlooks(before, before, nobodyExcused);
    expect(made.map((c) => c.name)).toEqual([
      'doors',
      'logins',
      'ports',
      'aggregates',
      'power',
      'neighbours',
      'forwarding',
      'spanning tree',
      'ring',
      'tunnels',
      'routes',
      'clock',
      'picture',
      'calls',
      'children',
      'recording',
      'boot list',
      'settings source',
      'licences',
      'log',
    ]);
    expect(made.every((c) => c.result === 'passed' && c.cause === null && c.evidence.length === 0)).toBe(true);
  });

  it('compares nothing of who showed nothing', () => {
    expect(compareOutlooks(emptyOutlook, before, nobodyExcused)).toEqual([]);
    expect(compareOutlooks({ ...emptyOutlook, picture: { there: false, detail: '404' } }, before, nobodyExcused)).toEqual([]);
  });

  it.each<[string, Partial<Outlook>, (string | null)[][]]>([
    ['a port behind which somebody was heard', { ports: without('p3') }, [['ports', 'ports-down', 'p3 was up and is down']]],
    ['a port that powered somebody', { ports: without('p4') }, [['ports', 'ports-down', 'p4 was up and is down']]],
    ['all plain ports', { ports: without('p5', 'p6') }, [['ports', 'ports-down', 'p5 was up and is down', 'p6 was up and is down']]],
    [
      'a member of a bundle',
      { ports: [...without('p2'), { name: 'p2', bundle: null }] },
      [['aggregates', 'bundle-apart', 'p2 was in b1 and is in none']],
    ],
    [
      'a member that is in another',
      { ports: [...without('p2'), { name: 'p2', bundle: 'b7' }] },
      [['aggregates', 'bundle-apart', 'p2 was in b1 and is in b7']],
    ],
    ['a login at another door', { logins: ['SSH'] }, [['logins', 'door-login-lost', 'ONVIF let its login in and does not']]],
    [
      'the port that kept a ring closed',
      { tree: [{ port: 'p5', state: 'forwarding' }] },
      [['ring', 'ring-open', 'p5 blocked, and forwards']],
    ],
    ['all of its tree', { tree: [] }, [['ring', 'ring-open', 'p5 blocked, and is in no tree']]],
    ['the rest of its tree', { tree: [...before.tree, { port: 'p6', state: 'moving' }] }, [['ring', 'ring-open', 'p6 is not yet at rest']]],
    [
      'an image to fall back on',
      own({
        bootList: [
          { image: '4.3.0', usable: true },
          { image: '4.2.0', usable: false },
        ],
      }),
      [['boot list', 'boot-list-shorter', 'it had 2 to start from, and has 1']],
    ],
    ['its boot list', own({ bootList: null }), [['boot list', 'boot-list-shorter', 'it had 2 to start from, and has told none']]],
    ['where its settings come from', own({ settingsFrom: 'works' }), [['settings source', 'settings-from-elsewhere']]],
    ['any word of where they come from', own({ settingsFrom: null }), [['settings source', 'settings-from-elsewhere']]],
    ['a licence', own({ licences: ['lans'] }), [['licences', 'licence-missing', 'rings was there and is not']]],
    ['all licences', own({ licences: null }), [['licences', 'licence-missing', 'rings was there and is not', 'lans was there and is not']]],
    ['a log without a new complaint', own({ complaints: ['fan 1 stands', 'fan 1 stands'] }), [['log', 'log-complains', 'fan 1 stands']]],
    ['its log', own({ complaints: null }), [['log', 'log-complains']]],
    ['a tunnel, which is no port', { ports: without('t1') }, [['tunnels', 'tunnel-down', 't1 was up and is down']]],
    ['what is recorded', { recorded: [] }, [['recording', 'recording-stopped', 'cam-1 (C1) was recorded and is not']]],
    [
      'a recorder that does not tell any more',
      { recorded: null },
      [['recording', 'recording-stopped', 'cam-1 (C1) was recorded, and nobody tells now whether it is']],
    ],
    ['power', { fed: [] }, [['power', 'power-not-delivered', 'p4 delivered power and does not']]],
    [
      'neighbours',
      { neighbours: [] },
      [['neighbours', 'neighbours-missing', 'sw-9 was heard on p3 and is not', 'far was heard and is not']],
    ],
    ['all learned addresses', { learned: null }, [['forwarding', 'forwards-nothing']]],
    ['more routes than come and go', { routes: 7 }, [['routes', 'routes-missing', 'of 10 at least 8 were to come back']]],
    ['all routes', { routes: null }, [['routes', 'routes-missing', 'of 10 at least 8 were to come back']]],
    ['the root of the tree', { root: { priority: 32_768, mac: '06:00:00:00:00:06' } }, [['spanning tree', 'tree-changed']]],
    ['what made it the root', { root: { priority: 36_864, mac: '06:00:00:00:00:05' } }, [['spanning tree', 'tree-changed']]],
    ['any root', { root: null }, [['spanning tree', 'tree-changed']]],
    ['the right time', { clockOffMs: -3_600_000 }, [['clock', 'clock-lost']]],
    [
      'the right time, as time went by',
      { clockOffMs: -3_600_000, ours: { wall: 1_003_600_000, up: 3_650_000 } },
      [['clock', 'clock-lost']],
    ],
    [
      'the right time, while our own was set otherwise',
      { clockOffMs: 7_200_000, ours: { wall: 1_003_610_000, up: 60_000 } },
      [['clock', 'clock-lost', 'our own clock was set 1 h ahead meanwhile']],
    ],
    [
      'the right time, and our machine was restarted',
      { clockOffMs: -3_600_000, ours: { wall: 1_000_600_000, up: 1000 } },
      [['clock', 'clock-lost']],
    ],
    ['a door', { doors: ['SSH'] }, [['doors', 'door-shut', 'SNMP answered before and no longer does']]],
    ['a picture', { picture: { there: false, detail: '404 Not Found' } }, [['picture', 'picture-missing']]],
    ['an account', { calls: { status: 480, reason: 'Temporarily Unavailable' } }, [['calls', 'calls-refused']]],
    ['any answer to who would call', { calls: null }, [['calls', 'calls-refused']]],
    ['any child', { children: null }, [['children', 'children-missing', 'ap-1 (A1) was with it and is not']]],
    ['a child', { children: [] }, [['children', 'children-missing', 'ap-1 (A1) was with it and is not']]],
  ])('misses %s', (_, after, told) => {
    expect(failed(after)).toEqual(told);
  });

  it.each<[string, Partial<Outlook>]>([
    ['one plain port of several, since somebody may have switched a machine off', { ports: without('p5') }],
    ['a better root, which was away when it was looked at before', { root: { priority: 32_768, mac: '06:00:00:00:00:01' } }],
    ['a root of better priority', { root: { priority: 4096, mac: '06:00:00:00:00:09' } }],
    ['a neighbour on another port', { neighbours: before.neighbours.map((n) => ({ ...n, port: 'p9' })) }],
    [
      'a neighbour of another name and the same address',
      { neighbours: [{ ...before.neighbours[0]!, name: 'new' }, before.neighbours[1]!] },
    ],
    ['fewer learned addresses', { learned: 1 }],
    ['a few routes', { routes: 8 }],
    ['a call that it is in', { calls: { status: 486, reason: 'Busy Here' } }],
    ['a clock that is not told any more', { clockOffMs: null }],
    ['a clock that was a little off', { clockOffMs: 100_000 }],
    ['that our own clock was set', { clockOffMs: -3_600_000, ours: { wall: 1_003_610_000, up: 60_000 } }],
    ['that our own clock was set back', { clockOffMs: 3_601_000, ours: { wall: 996_410_000, up: 60_000 } }],
    ['ports, doors and children that are new', { doors: ['SNMP', 'SSH', 'HTTP'], ports: [...before.ports, { name: 'p7', bundle: null }] }],
  ])('does not hold against it %s', (_, after) => {
    expect(failed(after)).toEqual([]);
  });

  it('does not hold against it who is missing for a reason of their own, and says so', () => {
    const excused = {
      ...nobodyExcused,
      ports: new Map([['p4', 'it failed itself']]),
      names: new Map([
        ['06:00:00:00:00:09', 'it is being changed itself'],
        ['ap-1', 'it is being changed itself'],
        ['06:00:00:00:00:05', 'it failed itself'],
      ]),
    };
    const after = {
      ...before,
      ports: without('p4'),
      fed: [],
      neighbours: [before.neighbours[1]!],
      children: [],
      root: { priority: 32_768, mac: '06:00:00:00:00:07' },
    };
    expect(failed(after, excused)).toEqual([]);
    const said = compareOutlooks(before, after, excused).flatMap((c) => c.evidence);
    expect(said).toEqual([
      'p4 was up and is down, and it failed itself: not held against it',
      'p4 delivered power and does not, and it failed itself: not held against it',
      'sw-9 was heard on p3 and is not, and it is being changed itself: not held against it',
      'the root of before is missing, and it failed itself: not held against it',
      'ap-1 (A1) was with it and is not, and it is being changed itself: not held against it',
    ]);
    // The excuse of one is none for another.
    expect(failed({ neighbours: [] }, excused)).toEqual([
      ['neighbours', 'neighbours-missing', 'far was heard and is not', expect.stringContaining('sw-9 was heard on p3')],
    ]);
  });

  it('excuses an open ring by who is away, and not by who failed and is there', () => {
    const excused = { ...nobodyExcused, ports: new Map([['p4', 'it failed itself']]) };
    const open = { tree: [{ port: 'p5', state: 'forwarding' as const }] };
    expect(failed(open, excused).map(([name]) => name)).toEqual(['ring']);
    const away = compareOutlooks(before, { ...before, ...open, ports: without('p4'), fed: [] }, excused);
    expect(away.filter((c) => c.result === 'failed')).toEqual([]);
    expect(away.find((c) => c.name === 'ring')!.evidence).toEqual(['p5 blocked, and forwards, and it failed itself: not held against it']);
    // Another of its ports blocks now: the ring is closed. Under another root others block, and nothing is said.
    expect(failed({ tree: [...open.tree, { port: 'p3', state: 'blocking' }] })).toEqual([]);
    const better = { ...before, ...open, root: { priority: 4096, mac: '06:00:00:00:00:02' } };
    expect(compareOutlooks(before, better, nobodyExcused).map((c) => c.name)).not.toContain('ring');
  });

  it('does not tell again what a person has accepted of a log', () => {
    const after = own({ complaints: ['lamp 2 is dark', 'fan 1 stands', 'fan 2 stands'] });
    const excused = { ...nobodyExcused, complaints: new Set(['fan 1 stands']) };
    expect(failed(after, excused)).toEqual([['log', 'log-complains', 'fan 2 stands']]);
    const both = { ...excused, complaints: new Set(['fan 1 stands', 'fan 2 stands']) };
    expect(compareOutlooks(before, { ...before, ...after }, both).find((c) => c.name === 'log')).toMatchObject({
      result: 'passed',
      after: '3 grave, 2 of them expected',
    });
  });

  it('takes one port with nobody known behind it for a machine that somebody switched off', () => {
    const one = { ...emptyOutlook, ports: [{ name: 'p1', bundle: null }] };
    const [check] = compareOutlooks(one, emptyOutlook, nobodyExcused);
    expect(check).toMatchObject({ name: 'ports', result: 'passed', before: '1 up', after: '0 up' });
    expect(check!.evidence).toEqual([
      'p1 was up and is down, and nobody that is known was behind it: a machine may have been switched off there: not held against it',
    ]);
  });

  it('is read from what an agent tells: names and not numbers, and a root only where there is a tree', () => {
    const answers = new Map<string, string | number>([
      ['1.3.6.1.2.1.2.2.1.2.7', 'gate 7'],
      ['1.3.6.1.2.1.2.2.1.8.7', 1],
      ['1.3.6.1.2.1.2.2.1.2.8', 'gate 8'],
      ['1.3.6.1.2.1.2.2.1.8.8', 2],
      ['1.3.6.1.2.1.2.2.1.2.20', 'way 1'],
      ['1.3.6.1.2.1.2.2.1.3.20', 131],
      ['1.3.6.1.2.1.2.2.1.8.20', 1],
      ['1.3.6.1.2.1.2.2.1.2.9', 'bond'],
      ['1.3.6.1.2.1.2.2.1.8.9', 1],
      ['1.2.840.10006.300.43.1.2.1.1.13.7', 9],
      ['1.3.6.1.2.1.105.1.1.1.6.1.7', 3],
      ['1.3.6.1.2.1.17.1.4.1.2.1', 7],
      ...[2, 1, 4, 5].map((state, i): [string, number] => [`1.3.6.1.2.1.17.2.15.1.3.${i + 1}`, state]),
    ]);
    const read = (scalars: [string, string | number][]) => outlookOf(aroundFromSnmp(answers), new Map(scalars));
    expect(read([[outlookScalars.olderRoutes, 4]])).toEqual({
      ports: [
        { name: 'gate 7', bundle: 'bond' },
        { name: 'way 1', bundle: null, tunnel: true },
        { name: 'bond', bundle: null },
      ],
      neighbours: [],
      fed: ['gate 7'],
      learned: null,
      routes: 4,
      root: null,
      // Of bridge ports without an interface the number stands; one that is disabled is in no tree.
      tree: [
        { port: 'gate 7', state: 'blocking' },
        { port: '3', state: 'moving' },
        { port: '4', state: 'forwarding' },
      ],
    });
    expect(
      read([
        [outlookScalars.routes, 5],
        [outlookScalars.root, '0x800006174b000100'],
      ]),
    ).toMatchObject({ routes: 5, root: { priority: 32_768, mac: '06:17:4b:00:01:00' } });
    expect(read([[outlookScalars.root, '0x0000000000000000']]).root).toBeNull();
  });
});
