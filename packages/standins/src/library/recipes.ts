import type { ImageNoteInput } from '@barrow/core';

const kibibyte = 1024;

/** One release of the demo, as it is made; its note is written with it. */
export interface LibraryImage {
  /** Its files in the order in which a device takes them. */
  readonly files: readonly string[];
  readonly format: 'simg' | 'uboot' | 'fit';
  readonly maker: string;
  readonly bytes: number;
  readonly note: Omit<ImageNoteInput, 'imageNote' | 'files'>;
}

type Note = LibraryImage['note'];
const release = (
  maker: string,
  files: string | readonly string[],
  note: Note,
  bytes = 96 * kibibyte,
  format: LibraryImage['format'] = 'simg',
): LibraryImage => ({
  files: typeof files === 'string' ? [files] : files,
  format,
  maker,
  bytes,
  note,
});

const access = { family: 'tarnbrook-access', models: ['TB-2408', 'TB-2424'], hardwareRevisions: ['A1', 'A2'] };
const stack = { family: 'tarnbrook-core', models: ['TB-3608'], hardwareRevisions: ['A1'] };
const core = { family: 'tarnbrook-core', models: ['TB-4812'], hardwareRevisions: ['A1'] };
const edge = { family: 'wendlock-edge', models: ['WR-60'], hardwareRevisions: ['2'] };
const controller = { family: 'fennwave-controller', models: ['FC-20'], hardwareRevisions: ['1'] };
const points = { family: 'fennwave-ap', models: ['FA-310'], hardwareRevisions: ['C'] };
const oldPoints = { family: 'fennwave-ap', models: ['FA-110'], hardwareRevisions: ['B'] };
const camera = { family: 'owlpane-camera', models: ['OC-400'], hardwareRevisions: ['R2'] };
const olderCamera = { ...camera, hardwareRevisions: ['R1'] };
const phone = { family: 'tollard-desk', models: ['D40'], hardwareRevisions: ['B'] };

/** A major release of the access switches: settings and logins begin anew, and SNMP v2c is no longer spoken. */
export const majorRelease: LibraryImage = release('Tarnbrook', 'tb24-5.0.0.simg', {
  ...access,
  version: '5.0.0',
  from: [{ atLeast: '4.2.0' }],
  resets: [
    { what: 'settings', from: { below: '5.0.0' } },
    { what: 'logins', from: { below: '5.0.0' } },
  ],
  drops: [{ what: 'SNMP v2c', services: ['snmp-v2c'] }],
  notes:
    '# 5.0.0\n\n- settings and logins are as delivered after the first start: user `works`, password `as-delivered`\n- it reads the settings of 4.x when they are sent to it again\n- SNMP v3 only',
});

/** The releases that Grey Heron Ferries has gathered beside those that its rollouts use. All made up. */
export const libraryImages: readonly LibraryImage[] = [
  release('Tarnbrook', 'tb24-4.2.1.simg', { ...access, version: '4.2.1', goingDown: 'allowed', notes: 'What most of the fleet runs.' }),
  release('Tarnbrook', 'tb24-4.2.8.simg', {
    ...access,
    version: '4.2.8',
    withdrawn: { why: 'loses its address after a loss of power', since: '2026-09-14' },
  }),
  release('Tarnbrook', 'tb24-4.4.0.simg', { ...access, version: '4.4.0', channel: 'beta', notes: 'Not for a ship under way.' }),
  release('Tarnbrook', 'tb36-5.0.4.simg', { ...stack, version: '5.0.4', goingDown: 'allowed' }),
  release('Tarnbrook', 'tb36-5.9.0.simg', {
    ...stack,
    version: '5.9.0',
    channel: 'transitional',
    from: [{ atLeast: '5.0.0', below: '5.9.0' }],
    notes: 'Only a bridge: **do not stay on it**. It can read the old settings and write the new ones.',
  }),
  release('Tarnbrook', 'tb36-6.1.2.simg', {
    ...stack,
    version: '6.1.2',
    from: [{ atLeast: '5.9.0' }],
    resets: [{ what: 'settings', from: { below: '5.9.0' } }],
    drops: [{ what: 'SNMP v2c', services: ['snmp-v2c'] }],
    fixes: ['TBK-2026-004'],
    notes:
      '# 6.1.2\n\n- one line of releases for stacks and core switches\n- settings from before 5.9.0 are not read: 5.9.0 writes them anew',
  }),
  release('Tarnbrook', 'tb48-loader-2.1.simg', { ...core, version: '2.1', component: 'boot-loader' }, 24 * kibibyte),
  release(
    'Tarnbrook',
    ['tb48-6.2.0-system.simg', 'tb48-6.2.0-pages.simg', 'tb48-6.2.0-radio.simg'],
    {
      ...core,
      version: '6.2.0',
      from: [{ atLeast: '6.0.0' }],
      needs: { bootLoader: '2.1' },
      spaceBytes: 512 * kibibyte,
      fixes: ['TBK-2026-004'],
      notes: 'Three files, in this order. The switch starts only when all three are there.',
    },
    64 * kibibyte,
  ),
  release('Wendlock', 'wr110-R7.02.simg', {
    family: 'wendlock-branch',
    models: ['WR-110'],
    hardwareRevisions: ['3'],
    version: 'R7.02',
    goingDown: 'allowed',
    notes: 'Newer releases may go back to this one; settings stay.',
  }),
  release('Wendlock', 'wr60-R7.03.simg', { ...edge, version: 'R7.03' }),
  release('Wendlock', 'wr60-R7.90.simg', {
    ...edge,
    version: 'R7.90',
    channel: 'transitional',
    from: [{ atLeast: 'R7.01', below: 'R7.90' }],
    bringsBootLoader: 'W2.0',
    notes: 'The bridge from the edge line to the lane line.',
  }),
  release('Wendlock', 'wr60-L1.2.simg', {
    family: 'wendlock-lane',
    models: ['WR-60'],
    hardwareRevisions: ['2'],
    version: 'L1.2',
    from: [{ family: 'wendlock-edge', atLeast: 'R7.90' }, { atLeast: 'L1.0' }],
    needs: { bootLoader: 'W2.0' },
    resets: [{ what: 'logins' }],
    notes: 'The newer line. Logins begin anew: the word on the label under the case.',
  }),
  release('Fennwave', 'fc20-9.5.2.simg', { ...controller, version: '9.5.2', from: [{ atLeast: '9.2.0' }] }),
  release('Fennwave', 'fc20-9.6.0.simg', {
    ...controller,
    version: '9.6.0',
    from: [{ atLeast: '9.4.0' }],
    drops: [{ what: 'joining of access points older than 9.4', family: 'fennwave-ap', models: ['FA-110'] }],
    notes: 'Bring the old access points up to 9.4.5 first.',
  }),
  release('Fennwave', 'fa310-9.6.0.simg', {
    ...points,
    version: '9.6.0',
    from: [{ atLeast: '9.4.0' }],
    needs: { partners: [{ family: 'fennwave-controller', atLeast: '9.6.0' }] },
  }),
  release('Fennwave', 'fa110-9.4.5.simg', {
    ...oldPoints,
    version: '9.4.5',
    from: [{ atLeast: '9.2.0' }],
    needs: { partners: [{ family: 'fennwave-controller', atLeast: '9.4.0' }] },
    notes: 'The last release for this model.',
  }),
  release('Owlpane', 'or16-3.9.1.simg', {
    family: 'owlpane-recorder',
    models: ['OR-16'],
    hardwareRevisions: ['M2'],
    version: '3.9.1',
    reboots: 2,
  }),
  release('Owlpane', 'oc400r2-2.11.3.simg', { ...camera, version: '2.11.3', from: [{ atLeast: '2.9.0' }] }),
  release('Owlpane', 'oc400r2-2.12.0.simg', {
    ...camera,
    version: '2.12.0',
    from: [{ atLeast: '2.11.0' }],
    needs: {
      partners: [{ family: 'owlpane-recorder', atLeast: '3.9.0', whenAlone: 'allowed' }],
      programs: [{ name: 'the viewing program on the bridge', atLeast: '5.2' }],
    },
    fixes: ['OWP-2026-002'],
    drops: [{ what: 'streaming without a login' }],
  }),
  release('Owlpane', 'oc400r1-2.10.4.simg', { ...olderCamera, version: '2.10.4', from: [{ atLeast: '2.8.0' }] }),
  release('Owlpane', 'oc400r1-2.12.0.simg', {
    ...olderCamera,
    version: '2.12.0',
    from: [{ atLeast: '2.11.0' }],
    needs: { partners: [{ family: 'owlpane-recorder', atLeast: '3.9.0', whenAlone: 'allowed' }] },
    fixes: ['OWP-2026-002'],
  }),
  release('Owlpane', 'oc200-1.5.0.simg', {
    family: 'owlpane-camera',
    models: ['OC-200'],
    hardwareRevisions: ['R1'],
    version: '1.5.0',
    resets: [{ what: 'logins' }, { what: 'addresses' }],
  }),
  release('Tollard', 'd40-2.9.0.simg', {
    ...phone,
    version: '2.9.0',
    from: [{ atLeast: '2.6.0' }],
    notes: 'A required step before any 3.x.',
  }),
  release('Tollard', 'd40-3.0.0.simg', {
    ...phone,
    version: '3.0.0',
    from: [{ atLeast: '2.9.0' }],
    withdrawn: { why: 'rings without end after a night without its server' },
  }),
  release('Tollard', 'd40-3.0.2.simg', {
    ...phone,
    version: '3.0.2',
    from: [{ atLeast: '2.9.0' }],
    resets: [{ what: 'settings', from: { below: '3.0.0' } }],
    fixes: ['TLD-2026-011'],
    notes:
      '## 3.0.2\n\nSettings are fetched anew from the provisioning server after the first start.\n\n| what | before | now |\n|---|---|---|\n| transport | UDP | TLS |',
  }),
  release('Tollard', 'd40-3.1.0.simg', { ...phone, version: '3.1.0', channel: 'beta', from: [{ atLeast: '3.0.0' }] }),
  release('Tollard', 'c10-1.7.0.simg', { family: 'tollard-base', models: ['C10'], hardwareRevisions: ['A'], version: '1.7.0' }),
  release('Tollard', 'h10-1.6.0.simg', {
    family: 'tollard-handset',
    models: ['H10'],
    hardwareRevisions: ['-'],
    version: '1.6.0',
    needs: { partners: [{ family: 'tollard-base', atLeast: '1.7.0' }] },
  }),
  release(
    'Stavewell',
    'sp8-1.13.img',
    { family: 'stavewell-strip', models: ['SP-8'], hardwareRevisions: ['4'], version: '1.13' },
    48 * kibibyte,
    'uboot',
  ),
  release(
    'Stavewell',
    'sc16-4.0.3.itb',
    { family: 'stavewell-console', models: ['SC-16'], hardwareRevisions: ['2'], version: '4.0.3' },
    48 * kibibyte,
    'fit',
  ),
];

/** What is written in the header of formats without fields of their own, for the family's pattern to read. */
export const libraryTitles: Readonly<Record<string, string>> = {
  'sp8-1.13.img': 'SP-8 rev 4 1.13',
  'sc16-4.0.3.itb': 'SC-16 rev 2 firmware 4.0.3',
};

/** Which of them came together in one archive, as their makers hand them out. */
export const libraryArchives: readonly { readonly archive: string; readonly images: readonly string[] }[] = [
  { archive: 'tb48-6.2.0.zip', images: ['tb48-6.2.0-system.simg'] },
  { archive: 'tollard-winter.tar.gz', images: ['d40-2.9.0.simg', 'd40-3.0.2.simg', 'c10-1.7.0.simg', 'h10-1.6.0.simg'] },
];
