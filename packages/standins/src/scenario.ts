import type { DeviceModel } from './device.js';
import type { ImageRecipe } from './image.js';

/** The six sites of Grey Heron Ferries; site N has the addresses 127.40.N.0/24. */
export const sites = ['quay-house', 'eelgate', 'gannet-point', 'dunmoor-depot', 'sandpiper', 'curlew'] as const;
export type Site = (typeof sites)[number];

export * from './access.js';

/** RFC 5612: the enterprise number for documentation. */
const enterprise = '1.3.6.1.4.1.32473';

const tarnbrook = (model: string, ports: number, hardwareRevision: string, index: number, variant: string): DeviceModel => ({
  maker: 'Tarnbrook',
  model,
  hardwareRevision,
  variant,
  objectId: `${enterprise}.10.1.${index}`,
  ports,
  storage: 'two-slots',
  capacity: 16 * 1024 * 1024,
  bootLoader: '1.7',
  describe: (version) => `Tarnbrook ${model} switch, firmware ${version}`,
});

const wendlock: DeviceModel = {
  maker: 'Wendlock',
  model: 'WR-110',
  hardwareRevision: '3',
  variant: '',
  objectId: `${enterprise}.20.1.1`,
  ports: 4,
  storage: 'one-flash',
  capacity: 8 * 1024 * 1024,
  bootLoader: 'W1.4',
  describe: (version) => `Wendlock WR-110 router running ${version}`,
};

export interface ScenarioDevice {
  readonly name: string;
  readonly site: Site;
  readonly host: number;
  readonly model: DeviceModel;
  readonly unsaved: readonly string[];
}

const switches: [Site, number, string, number, string][] = [
  ['quay-house', 11, 'TB-2424', 24, 'A2'],
  ['quay-house', 12, 'TB-2424', 24, 'A2'],
  ['quay-house', 13, 'TB-2408', 8, 'A1'],
  ['quay-house', 14, 'TB-2408', 8, 'A1'],
  ['eelgate', 11, 'TB-2424', 24, 'A2'],
  ['eelgate', 12, 'TB-2408', 8, 'A1'],
  ['eelgate', 13, 'TB-2408', 8, 'A2'],
  ['gannet-point', 11, 'TB-2424', 24, 'A2'],
  ['gannet-point', 12, 'TB-2408', 8, 'A1'],
  ['dunmoor-depot', 11, 'TB-2424', 24, 'B1'],
  ['sandpiper', 11, 'TB-2408', 8, 'A2'],
  ['curlew', 11, 'TB-2408', 8, 'A2'],
];

/** On board everything is ruggedised. */
const isVessel = (site: Site): boolean => site === 'sandpiper' || site === 'curlew';

const shortSite = (site: Site): string => site.split('-')[0]!;

/** Twelve access switches and two routers; one switch has a setting that nobody kept. */
export const scenario: readonly ScenarioDevice[] = [
  ...switches.map(([site, host, model, ports, revision]) => ({
    name: `${shortSite(site)}-sw-${host - 10}`,
    site,
    host,
    model: tarnbrook(model, ports, revision, ports, isVessel(site) ? 'rugged' : ''),
    unsaved: site === 'eelgate' && host === 13 ? ['port 5 note ticket printer'] : [],
  })),
  ...(['quay-house', 'dunmoor-depot'] as const).map((site) => ({
    name: `${shortSite(site)}-rt-1`,
    site,
    host: 1,
    model: wendlock,
    unsaved: [],
  })),
];

/** A switch in its box, which no family that ships would know. */
export const unpacked: ScenarioDevice = {
  name: 'skerrow-1',
  site: 'quay-house',
  host: 40,
  model: {
    maker: 'Skerrow',
    model: 'SK-12',
    hardwareRevision: '3',
    variant: '',
    objectId: `${enterprise}.90.1.12`,
    ports: 12,
    storage: 'one-flash',
    capacity: 4 * 1024 * 1024,
    bootLoader: '0.9',
    describe: (version) => `Skerrow SK-12 at ${version}`,
  },
  unsaved: [],
};

/** A switch on the shelf, for when one is gone for good. */
export const spare: ScenarioDevice = {
  name: 'quay-spare-1',
  site: 'quay-house',
  host: 39,
  model: tarnbrook('TB-2408', 8, 'A1', 8, ''),
  unsaved: [],
};

/** What the devices run when nobody has touched them: model to version in use and version beside it. */
export const factoryVersions: Record<string, { running: string; beside: string }> = {
  Tarnbrook: { running: '4.2.1', beside: '4.1.0' },
  Wendlock: { running: 'R7.02', beside: 'R6.11' },
  Skerrow: { running: '2.4.0', beside: '2.3.1' },
};

export interface ScenarioImage {
  readonly file: string;
  readonly recipe: ImageRecipe;
  /** `damaged`: one bit of the payload is flipped after it was made. */
  readonly damaged?: boolean;
}

const mebibyte = 1024 * 1024;

/** The files that a technician has at hand in the demo: four good ones, one damaged, one for gear that nobody knows. */
export const scenarioImages: readonly ScenarioImage[] = [
  {
    file: 'tb24-4.3.0.simg',
    recipe: {
      maker: 'Tarnbrook',
      models: ['TB-2408', 'TB-2424'],
      hardwareRevisions: ['A1', 'A2'],
      version: '4.3.0',
      payloadBytes: 2 * mebibyte,
    },
  },
  {
    file: 'tb24b-4.3.0.simg',
    recipe: { maker: 'Tarnbrook', models: ['TB-2424'], hardwareRevisions: ['B1'], version: '4.3.0', payloadBytes: 2 * mebibyte },
  },
  {
    file: 'tb24r-4.3.0.simg',
    recipe: {
      maker: 'Tarnbrook',
      models: ['TB-2408', 'TB-2424'],
      hardwareRevisions: ['A1', 'A2'],
      variant: 'rugged',
      version: '4.3.0',
      payloadBytes: 2 * mebibyte,
    },
  },
  {
    file: 'wr110-R7.04.simg',
    recipe: { maker: 'Wendlock', models: ['WR-110'], hardwareRevisions: ['3'], version: 'R7.04', payloadBytes: 1.5 * mebibyte },
  },
  {
    file: 'damaged/tb24-4.3.0.simg',
    recipe: {
      maker: 'Tarnbrook',
      models: ['TB-2408', 'TB-2424'],
      hardwareRevisions: ['A1', 'A2'],
      version: '4.3.0',
      payloadBytes: 2 * mebibyte,
    },
    damaged: true,
  },
  {
    file: 'other/tb99-4.3.0.simg',
    recipe: { maker: 'Tarnbrook', models: ['TB-9900'], hardwareRevisions: ['A1'], version: '4.3.0', payloadBytes: mebibyte / 2 },
  },
];
