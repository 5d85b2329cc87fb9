import { describe, expect, it } from 'vitest';
import {
  firstSteps,
  hazardCodes,
  hazardKinds,
  hazardsOf,
  makePassage,
  makePlan,
  readPlan,
  type Candidate,
  type DeviceFacts,
  type HazardCode,
  type HazardFacts,
  type RunFacts,
} from '@barrow/core';

const day = 86_400_000;
const now = 1000 * day;
const stretches = [{ name: 'all', steps: firstSteps.map((step) => ({ step, usualMs: 1000 })) }];
const way = { name: 'two slots', component: 'system', pointOfNoReturn: 'activate', stretches };
const image = 'a'.repeat(64);
const passage = makePassage([{ image, component: 'system', from: '1', to: '2', bytes: 0, way }]);
const downMs = passage.steps.filter((s) => s.down).reduce((sum, s) => sum + s.typicalMs, 0);

const candidate = (device: string, more: Partial<Candidate> = {}): Candidate => ({
  ...{ device, name: device, address: '127.0.0.1', site: 's', family: 'f', serial: device, from: '1', target: '2', image, passage },
  ...{ under: [device], rings: [], feeds: [] },
  ...more,
});
/** A trunk with a leaf below it, both planned, and a phone below the leaf that is not. */
interface Told {
  contacts?: Record<string, string>;
  here?: string;
  asked?: string[];
  devices?: Record<string, Partial<DeviceFacts>>;
  runs?: Record<string, Partial<RunFacts>>;
  under?: Record<string, string[]>;
  more?: Record<string, Partial<Candidate>>;
}
function look({ devices = {}, runs = {}, under = {}, more = {}, here, asked, contacts = {} }: Told = {}) {
  const names = ['trunk', 'leaf', 'phone'];
  const plan = makePlan({
    ...{ id: 'r', name: 'r', createdAt: 0, createdBy: 'a', unsaved: 'hold', wayBack: false, first: 0, atOnce: 3, perSite: 0 },
    gate: { soakMs: 0, failureLimit: 2, approval: false },
    candidates: ['trunk', 'leaf'].map((d) => candidate(d, more[d])),
    leftOut: [],
  });
  const facts: HazardFacts = {
    plan,
    now,
    devices: new Map(names.map((name) => [name, { name, tags: [], upSince: now - day, armed: null, isPlaced: true, ...devices[name] }])),
    under: new Map(Object.entries({ trunk: ['trunk'], leaf: ['leaf', 'trunk'], phone: ['phone', 'leaf', 'trunk'], ...under })),
    runs: new Map(['trunk', 'leaf'].map((d) => [d, { resets: [], drops: [], oneWay: [], backsUp: true, leavesBehind: [], ...runs[d] }])),
    contacts: new Map(Object.entries(contacts)),
    ...(here === undefined ? {} : { here }),
    ...(asked === undefined ? {} : { asked: new Set(asked) }),
  };
  return hazardsOf(facts);
}
const usual = ['cut-off'];
const said = (told: Told, code: HazardCode) =>
  look(told)
    .find((h) => h.code === code)!
    .groups.map((g) => [g.devices.join(' '), g.words, g.forMs]);

describe('what could hurt in a plan', () => {
  it('is, where nothing else is the matter, who goes dark with whom', () => {
    expect(look().map((h) => h.code)).toEqual(usual);
    expect(said({}, 'cut-off')).toEqual([
      ['leaf', 'takes phone with it', downMs],
      ['trunk', 'takes leaf, phone with it', downMs],
    ]);
  });

  it.each<[string, Told, HazardCode, unknown[]]>([
    [
      'a lift below the leaf',
      { devices: { phone: { tags: ['floor 2', 'lift'] } } },
      'lifeline',
      [['leaf trunk', 'takes phone (lift) with it: ask whoever answers for it', downMs]],
    ],
    [
      'an alarm that is planned itself',
      { devices: { leaf: { tags: ['alarm'] } } },
      'lifeline',
      [
        ['leaf', 'is itself such (alarm): ask whoever answers for it', downMs],
        ['trunk', 'takes leaf (alarm) with it: ask whoever answers for it', downMs],
      ],
    ],
    [
      'access points that are served no more',
      { runs: { trunk: { leavesBehind: ['ap-1', 'ap-2'] } } },
      'left-behind',
      [['trunk', 'serves ap-1, ap-2 no more: plan them along, before it', null]],
    ],
    [
      'settings that are reset',
      { runs: { leaf: { resets: ['settings', 'login', 'settings'] } } },
      'resets',
      [['leaf', 'settings and login are reset', null]],
    ],
    [
      'a family that nobody has seen work',
      { more: { leaf: { unproven: true } } },
      'unproven',
      [
        [
          'leaf',
          'f: the first of each model goes before the others, what fails is taken back only when you say so, and `barrow rollout sheet` shows what is typed; before anything is changed you are shown each line, and it waits for your word',
          null,
        ],
      ],
    ],
    [
      'a protocol that is dropped',
      { runs: { leaf: { drops: ['management by SNMP v2c'] } } },
      'drops',
      [['leaf', 'afterwards there is no management by SNMP v2c', null]],
    ],
    [
      'another version that waits there',
      { devices: { trunk: { armed: '9' } } },
      'armed-otherwise',
      [['trunk', '9 waits there, and any restart brings it', null]],
    ],
    [
      'no way back',
      { runs: { trunk: { oneWay: ['one way: no image'] }, leaf: { oneWay: ['one way: no image'] } } },
      'one-way',
      [['leaf trunk', 'one way: no image', null]],
    ],
    [
      'somebody else who decides',
      { devices: { leaf: { told: { decidedBy: 'the lift firm' } } } },
      'decided-elsewhere',
      [['leaf', 'ask the lift firm', null]],
    ],
    [
      'a licence that ran out, one that ends, and one that does not yet',
      {
        devices: {
          leaf: { told: { licenceUntil: new Date(now - 2 * day).toISOString().slice(0, 10) } },
          trunk: { told: { licenceUntil: new Date(now + 30 * day).toISOString().slice(0, 10) } },
        },
      },
      'licence',
      [['leaf', 'it ran out on 1972-09-25', null]],
    ],
    [
      'a licence that ends within the month',
      { devices: { leaf: { told: { licenceUntil: new Date(now + 29 * day).toISOString().slice(0, 10) } } } },
      'licence',
      [['leaf', 'it ends on 1972-10-26', null]],
    ],
    [
      'a licence that its image needs',
      { runs: { leaf: { licences: ['a.bin: a new one, bound to its serial'] } } },
      'licence',
      [['leaf', 'a.bin: a new one, bound to its serial', null]],
    ],
    [
      'others that it brings along',
      { runs: { trunk: { takesAlong: ['ap-1', 'ap-2'] } } },
      'taken-along',
      [['trunk', 'brings ap-1, ap-2 to its own version by itself, whatever is planned for them', null]],
    ],
    [
      'a door, and who is there',
      { devices: { phone: { tags: ['door'] } }, contacts: { s: 'the night desk' }, under: { leaf: ['leaf'], phone: ['phone', 'leaf'] } },
      'lifeline',
      [['leaf', 'takes phone (door) with it: ask whoever answers for it (s: the night desk)', downMs]],
    ],
    ['versions that do not go together', { runs: { leaf: { mismatches: ['a', 'b'] } } }, 'mismatch', [['leaf', 'a; b', null]]],
    [
      'the way of our own',
      { here: 'phone', under: { phone: ['phone', 'leaf'] } },
      'own-path',
      [['leaf', 'Barrow reaches nobody behind it meanwhile', downMs]],
    ],
    [
      'a machine of ours that hangs on a device of which nobody knows more',
      { here: 'leaf', under: { leaf: ['leaf'], phone: ['phone'] } },
      'own-path',
      [['leaf', 'Barrow reaches nobody behind it meanwhile', downMs]],
    ],
    [
      'what others need to come back',
      {
        devices: {
          trunk: { told: { serves: ['addresses', 'names', 'time'] } },
          leaf: { givenBy: [{ from: 'trunk', what: ['time'] }] },
          phone: { givenBy: [{ from: 'trunk', what: ['time'] }] },
        },
      },
      'serves-others',
      [['trunk', 'addresses, names and time for leaf, phone: none of them goes down meanwhile', downMs]],
    ],
    [
      'logins that are checked behind it',
      {
        devices: {
          trunk: { givenBy: [{ from: 'phone', what: ['logins'] }] },
          leaf: { givenBy: [{ from: 'trunk', what: ['logins'] }] },
          phone: { givenBy: [{ from: 'phone', what: ['logins'] }] },
        },
      },
      'logins-behind',
      [['trunk', 'phone', downMs]],
    ],
    [
      'radio that nobody knows of',
      {
        devices: { trunk: { kind: 'access-point', shows: { radio: [] } }, leaf: { kind: 'access-point' }, phone: { kind: 'access-point' } },
      },
      'radio-unknown',
      [['leaf', '`barrow device set NAME --radio OTHER,…` tells who does, or `--radio none`', null]],
    ],
    [
      'a site that was never asked',
      { asked: ['elsewhere'] },
      'never-asked',
      [['leaf trunk', 'at s: ask there, then `barrow site set s --asked "who said what"`', null]],
    ],
    [
      'notes that nobody has read',
      { runs: { leaf: { unread: ['a.bin', 'b.bin'] } } },
      'notes-unread',
      [['leaf', 'a.bin, b.bin: `barrow image read a.bin` shows them and keeps that you have', null]],
    ],
    [
      'an image that was compared with nothing',
      { runs: { leaf: { uncompared: ['a.bin'] } } },
      'digest-untold',
      [['leaf', 'a.bin: nothing published was compared; `barrow image add` it with --digest or --checksums', null]],
    ],
    [
      'too little room',
      {
        devices: { leaf: { shows: { freeBytes: 1024 } }, trunk: { shows: { freeBytes: 2048 } } },
        runs: { leaf: { needsBytes: 2048 }, trunk: { needsBytes: 2048 } },
      },
      'little-room',
      [['leaf', '1.0 KiB were free when it was asked last, 2.0 KiB are needed', null]],
    ],
    [
      'a single power supply, as a person says before what it shows',
      { devices: { leaf: { shows: { supplies: 1 } }, trunk: { told: { supplies: 2 }, shows: { supplies: 1 } } } },
      'single-supply',
      [['leaf', 'and nothing takes over when that does not start again', null]],
    ],
    [
      'a clock that is wrong',
      { devices: { leaf: { shows: { clockAheadMs: -7_200_000 } }, trunk: { shows: { clockAheadMs: 301_000 } } } },
      'clock-wrong',
      [
        ['leaf', '2 h behind', null],
        ['trunk', '5 min 1 s ahead', null],
      ],
    ],
    [
      'a clock that is right enough',
      { devices: { leaf: { shows: { clockAheadMs: 400_000 } }, trunk: { shows: { clockAheadMs: 300_000 } } } },
      'clock-wrong',
      [['leaf', '6 min 40 s ahead', null]],
    ],
    [
      'what a restart loses',
      { runs: { leaf: { loses: ['address bindings', 'counters'] } } },
      'restart-loses',
      [['leaf', 'loses address bindings, counters', null]],
    ],
    [
      'what a backup lacks',
      { runs: { leaf: { backupLacks: ['keys', 'users'] } } },
      'backup-lacks',
      [['leaf', 'its backup lacks keys, users', null]],
    ],
    ['a ring', { more: { trunk: { rings: ['7'] } } }, 'no-redundancy', [['trunk', 'a ring is open meanwhile', downMs]]],
    [
      'one of two feeds',
      { more: { leaf: { feeds: [{ device: 'phone', of: 2 }] } } },
      'no-redundancy',
      [['leaf', 'phone has one feed less meanwhile', downMs]],
    ],
    [
      'nobody knows its place',
      { devices: { leaf: { isPlaced: false } } },
      'uplink-unknown',
      [['leaf', 'no neighbour, feed or parent is known; `barrow map` shows what is', null]],
    ],
    [
      'settings that cannot be saved',
      { runs: { leaf: { backsUp: false } } },
      'no-backup',
      [['leaf', 'and so they are not compared after', null]],
    ],
    [
      'years without a restart',
      { devices: { leaf: { upSince: now - 800 * day }, trunk: { upSince: now - 366 * day } } },
      'long-up',
      [
        ['leaf', 'up for more than 2 years', null],
        ['trunk', 'up for more than a year', null],
      ],
    ],
  ])('is %s', (_, told, code, groups) => {
    expect(said(told, code)).toEqual(groups);
    const others = look(told)
      .map((h) => h.code)
      .filter((c) => c !== code);
    expect(others.filter((c) => !usual.includes(c))).toEqual([]);
  });

  it('is not what only looks like it', () => {
    const harmless: Told[] = [
      { devices: { leaf: { armed: '2' } } },
      { devices: { leaf: { upSince: now - 364 * day } } },
      { devices: { leaf: { upSince: null } } },
      { devices: { phone: { tags: ['lifting-gear'] } } },
      // It hangs on two, so that no single one takes it down, and on nobody's word alone.
      { under: { leaf: ['leaf'], phone: ['phone', 'trunk'] } },
    ];
    for (const told of harmless) expect(look(told).map((h) => h.code)).toEqual(usual);
  });

  it('is told with those first that have to be accepted, and read again from where plans are kept', () => {
    const accepts = hazardCodes.map((c) => hazardKinds[c].accept);
    expect(accepts.lastIndexOf(true)).toBeLessThan(accepts.indexOf(false));
    const hazards = look({ runs: { leaf: { resets: ['settings'] } } });
    expect(hazards.map((h) => h.code)).toEqual(['resets', 'cut-off']);
    const plan = makePlan({
      ...{ id: 'r', name: 'r', createdAt: 0, createdBy: 'a', unsaved: 'hold', wayBack: false, first: 0, atOnce: 3, perSite: 0 },
      gate: { soakMs: 0, failureLimit: 2, approval: false },
      candidates: [candidate('leaf')],
      leftOut: [],
    });
    const kept = JSON.parse(JSON.stringify({ ...plan, hazards: [...hazards, { code: 'of-another-day', groups: [] }] })) as unknown;
    expect(readPlan(kept).hazards).toEqual(hazards);
  });
});
