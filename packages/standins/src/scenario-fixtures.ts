import type { Kind } from '@barrow/core';
import type { Doors } from './fixture.js';
import * as makers from './fixtures/makers.js';
import { inspectUboot, type Inspection } from './image.js';
import type { Site } from './scenario.js';
import type { Capability } from './surroundings.js';

/** Everything of one model that is the same on each. */
interface Make {
  readonly kind: Kind;
  readonly maker: string;
  readonly model: string;
  readonly hardwareRevision: string;
  readonly firmware: string;
  readonly bootLoader: string;
  readonly ports: readonly string[];
  readonly speedMbps: number;
  readonly capabilities: readonly Capability[];
  readonly speaksLldp: boolean;
  readonly tellsInventory: boolean;
  readonly serialPrefix: string;
  readonly doors: Doors;
  /** What each is set to from the start. */
  readonly settings: (of: { readonly name: string; readonly site: string; readonly address: string }) => string[];
  /** How it reads a file; as the open format of the demo fleet when absent. */
  readonly inspect?: (file: Buffer) => Inspection;
  readonly startsFrom?: RegExp;
}

const numbered = (count: number, word = 'port'): string[] => Array.from({ length: count }, (_, i) => `${word} ${i + 1}`);
const none: Doors = async () => [];
const make = (m: Partial<Make> & Pick<Make, 'kind' | 'maker' | 'model' | 'hardwareRevision' | 'firmware' | 'serialPrefix'>): Make => ({
  bootLoader: '',
  ports: ['port 1'],
  speedMbps: 1000,
  capabilities: ['station'],
  speaksLldp: false,
  tellsInventory: false,
  doors: none,
  settings: () => [],
  ...m,
});

const core = make({
  kind: 'switch',
  maker: 'Tarnbrook',
  model: 'TB-4812',
  hardwareRevision: 'A1',
  firmware: '6.1.2',
  bootLoader: '2.0',
  serialPrefix: 'TB48',
  ports: numbered(12),
  speedMbps: 10_000,
  capabilities: ['bridge'],
  speaksLldp: true,
  doors: makers.coreSwitch,
  settings: ({ name, site, address }) => [
    `name ${name}`,
    `place ${site}`,
    `address ${address}`,
    'watchword herring-under-ice',
    ...Array.from({ length: 12 }, (_, i) => `trunk ${i + 1} lans 1-${20 + i}`),
    'end',
  ],
});
const stack = make({
  ...core,
  model: 'TB-3608',
  firmware: '5.0.4',
  bootLoader: '1.9',
  serialPrefix: 'TB36',
  ports: [1, 2, 3].flatMap((member) => Array.from({ length: 8 }, (_, i) => `${member}/${i + 1}`)),
  speedMbps: 1000,
  doors: makers.stackSwitch,
});
const edge = make({
  kind: 'router',
  maker: 'Wendlock',
  model: 'WR-60',
  hardwareRevision: '2',
  firmware: 'R7.01b',
  bootLoader: 'W1.3',
  serialPrefix: 'WR60',
  ports: numbered(4, 'line'),
  capabilities: ['router'],
  speaksLldp: true,
  doors: makers.edgeRouter,
});
const controller = make({
  kind: 'controller',
  maker: 'Fennwave',
  model: 'FC-20',
  hardwareRevision: '1',
  firmware: '9.4.1',
  bootLoader: '3.2',
  serialPrefix: 'FC20',
  speedMbps: 10_000,
  speaksLldp: true,
  doors: makers.controller,
  settings: ({ name }) => [`name ${name}`, 'air ferry-guests open', 'air ferry-crew word anchor-watch-9', 'channels by-itself'],
});
const accessPoint = make({
  kind: 'access-point',
  maker: 'Fennwave',
  model: 'FA-310',
  hardwareRevision: 'C',
  firmware: '9.4.1',
  serialPrefix: 'FA31',
  capabilities: ['access-point', 'bridge'],
  speaksLldp: true,
});
const oldAccessPoint = make({ ...accessPoint, model: 'FA-110', hardwareRevision: 'B', firmware: '9.2.7', serialPrefix: 'FA11' });
const recorder = make({
  kind: 'recorder',
  maker: 'Owlpane',
  model: 'OR-16',
  hardwareRevision: 'M2',
  firmware: '3.8.0',
  serialPrefix: 'OR16',
  ports: ['port 1', ...numbered(16, 'input')],
  doors: makers.recorder,
});
const camera = make({
  kind: 'camera',
  maker: 'Owlpane',
  model: 'OC-400',
  hardwareRevision: 'R2',
  firmware: '2.11.3',
  serialPrefix: 'OC40',
  speedMbps: 100,
  doors: makers.camera,
  settings: ({ name }) => [`name ${name}`, 'picture 1920 1080', 'rate 25', 'night light on', 'stream word pilot-boat-3'],
});
const olderBoard = make({ ...camera, hardwareRevision: 'R1', firmware: '2.9.0' });
const oldCamera = make({ ...camera, model: 'OC-200', hardwareRevision: 'R1', firmware: '1.4.6', serialPrefix: 'OC20', doors: none });
const phone = make({
  kind: 'phone',
  maker: 'Tollard',
  model: 'D40',
  hardwareRevision: 'B',
  firmware: '2.8.1',
  serialPrefix: 'TD40',
  speedMbps: 100,
  capabilities: ['phone'],
  speaksLldp: true,
  tellsInventory: true,
  doors: makers.deskPhone,
});
const base = make({
  ...phone,
  kind: 'base-station',
  model: 'C10',
  hardwareRevision: 'A',
  firmware: '1.6.0',
  serialPrefix: 'TC10',
  doors: makers.cordlessBase,
});
const handset = make({
  kind: 'handset',
  maker: 'Tollard',
  model: 'H10',
  hardwareRevision: '',
  firmware: '1.5.2',
  serialPrefix: 'TH10',
});
const strip = make({
  kind: 'power-strip',
  maker: 'Stavewell',
  model: 'SP-8',
  hardwareRevision: '4',
  firmware: '1.12',
  serialPrefix: 'SP08',
  speedMbps: 100,
  doors: makers.powerStrip,
  settings: ({ name }) => [`name ${name}`, ...Array.from({ length: 8 }, (_, i) => `outlet ${i + 1} after-power-loss as-before`)],
  inspect: inspectUboot,
});
const consoleServer = make({
  kind: 'console-server',
  maker: 'Stavewell',
  model: 'SC-16',
  hardwareRevision: '2',
  firmware: '4.0.3',
  serialPrefix: 'SC16',
  speaksLldp: true,
  doors: makers.consoleServer,
  startsFrom: /SC-16 rev 2 firmware ([0-9.]+)/,
});
const locked = make({
  kind: 'switch',
  maker: 'Tarnbrook',
  model: 'TB-2424',
  hardwareRevision: 'A2',
  firmware: '4.2.1',
  serialPrefix: 'TB24',
  doors: makers.lockedSwitch,
});
const post = make({
  kind: 'other',
  maker: '',
  model: '',
  hardwareRevision: '',
  firmware: '',
  serialPrefix: 'X',
  speedMbps: 100,
  doors: makers.weatherPost,
});
const board = make({ ...post, doors: makers.tideBoard });

export interface ScenarioFixture {
  readonly name: string;
  readonly site: Site;
  /** Last octet of its address; null: known only through its parent. */
  readonly host: number | null;
  readonly make: Make;
  readonly parent: string | null;
  /** A stack's members. */
  readonly members: number;
}

const at = (site: Site, name: string, host: number | null, made: Make, parent: string | null = null, members = 0): ScenarioFixture => ({
  name: `${site.split('-')[0]!}-${name}`,
  site,
  host,
  make: made,
  parent,
  members,
});
const many = (site: Site, word: string, from: number, count: number, made: Make): ScenarioFixture[] =>
  Array.from({ length: count }, (_, i) => at(site, `${word}-${i + 1}`, from + i, made));
const below = (site: Site, word: string, count: number, made: Make, parent: string): ScenarioFixture[] =>
  Array.from({ length: count }, (_, i) => at(site, `${word}-${i + 1}`, null, made, parent));

/** What of Grey Heron Ferries stands behind pages, shells and standards of its own. */
export const scenarioFixtures: readonly ScenarioFixture[] = [
  at('quay-house', 'core-1', 2, core),
  at('quay-house', 'core-2', 3, core),
  at('quay-house', 'wlc-1', 5, controller),
  ...below('quay-house', 'ap', 4, accessPoint, 'quay-wlc-1'),
  at('quay-house', 'rec-1', 6, recorder),
  at('quay-house', 'hold-cam-1', null, camera, 'quay-rec-1'),
  at('quay-house', 'hold-cam-2', null, camera, 'quay-rec-1'),
  at('quay-house', 'hold-cam-3', null, oldCamera, 'quay-rec-1'),
  at('quay-house', 'pdu-1', 8, strip),
  at('quay-house', 'con-1', 9, consoleServer),
  at('quay-house', 'cam-1', 21, camera),
  at('quay-house', 'cam-2', 22, camera),
  at('quay-house', 'cam-3', 23, olderBoard),
  ...many('quay-house', 'phone', 31, 6, phone),
  at('quay-house', 'base-1', 37, base),
  ...below('quay-house', 'handset', 3, handset, 'quay-base-1'),

  at('eelgate', 'rt-1', 1, edge),
  ...below('eelgate', 'ap', 2, accessPoint, 'quay-wlc-1'),
  at('eelgate', 'cam-1', 21, camera),
  at('eelgate', 'cam-2', 22, olderBoard),
  ...many('eelgate', 'phone', 31, 4, phone),

  at('gannet-point', 'rt-1', 1, edge),
  at('gannet-point', 'stk-1', 4, stack, null, 3),
  ...below('gannet-point', 'ap', 2, oldAccessPoint, 'quay-wlc-1'),
  at('gannet-point', 'cam-1', 21, camera),
  at('gannet-point', 'odd-1', 25, post),
  ...many('gannet-point', 'phone', 31, 3, phone),

  at('dunmoor-depot', 'pdu-1', 8, strip),
  at('dunmoor-depot', 'locked-1', 15, locked),
  ...below('dunmoor-depot', 'ap', 1, accessPoint, 'quay-wlc-1'),
  at('dunmoor-depot', 'cam-1', 21, camera),
  at('dunmoor-depot', 'cam-2', 22, olderBoard),
  ...many('dunmoor-depot', 'phone', 31, 2, phone),

  at('sandpiper', 'rt-1', 1, edge),
  ...below('sandpiper', 'ap', 1, oldAccessPoint, 'quay-wlc-1'),
  at('sandpiper', 'cam-1', 21, camera),
  ...many('sandpiper', 'phone', 31, 1, phone),

  at('curlew', 'rt-1', 1, edge),
  ...below('curlew', 'ap', 1, oldAccessPoint, 'quay-wlc-1'),
  at('curlew', 'odd-2', 25, board),
  ...many('curlew', 'phone', 31, 1, phone),
];
