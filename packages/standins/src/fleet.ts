import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { faultNames, StandIn, type FaultName, type Persistent, type StoredImage } from './device.js';
import { makeImage, sha256 } from './image.js';
import { makeHostKey } from './net/shell-server.js';
import { community, factoryVersions, login, scenario, scenarioImages, sites, snmpPort, sshPort, type ScenarioDevice } from './scenario.js';
import { tarnbrookShell } from './shells/tarnbrook.js';
import { wendlockShell } from './shells/wendlock.js';

export interface FleetOptions {
  /** How much faster the devices' time runs than ours. */
  readonly timeScale: number;
  /** Where what survives a power loss is kept between starts; nowhere when absent. */
  readonly stateFile?: string;
  /** Only these devices; all when absent. */
  readonly only?: readonly string[];
  /** Shifts every address: 127.(40 + shift).S.N, so that several fleets can run side by side. */
  readonly network?: number;
}

/** The simulated devices of the demo scenario. */
export class Fleet {
  readonly devices: readonly StandIn[];
  readonly #stateFile: string | undefined;

  constructor(options: FleetOptions) {
    this.#stateFile = options.stateFile;
    const saved = readState(options.stateFile);
    this.devices = scenario
      .filter((d) => !options.only || options.only.includes(d.name))
      .map((d) => {
        const index = scenario.indexOf(d);
        const address = `127.${options.network ?? 40}.${sites.indexOf(d.site) + 1}.${d.host}`;
        const isSwitch = d.model.maker === 'Tarnbrook';
        const id = index + 1;
        return new StandIn({
          name: d.name,
          site: d.site,
          address,
          snmpPort,
          sshPort,
          serial: `${isSwitch ? 'TB' : 'WR'}24${String(4100 + id * 37)}`,
          // RFC 7042 §2.1: a locally administered address.
          mac: `06:17:4b:00:${id.toString(16).padStart(2, '0')}:00`,
          model: d.model,
          community,
          user: login.user,
          password: login.password,
          timeScale: options.timeScale,
          upDaysAtStart: 20 + ((index * 53) % 300),
          initial: saved[d.name] ?? fresh(d, address),
          unsaved: saved[d.name] ? [] : d.unsaved,
          shell: isSwitch ? tarnbrookShell : wendlockShell,
          onChange: () => this.#save(),
        });
      });
  }

  device(name: string): StandIn {
    const found = this.devices.find((d) => d.options.name === name);
    if (!found) throw new Error(`the fleet has no device ${name}; it has ${this.devices.map((d) => d.options.name).join(', ')}`);
    return found;
  }

  /** Switches a fault on or off. @throws Error for a name that is none. */
  fault(device: string, name: string, on = true): void {
    if (!faultNames.includes(name as FaultName)) throw new Error(`there is no fault ${name}; there are ${faultNames.join(', ')}`);
    const { faults } = this.device(device);
    if (on) faults.add(name as FaultName);
    else faults.delete(name as FaultName);
  }

  async start(): Promise<void> {
    await Promise.all(this.devices.map((d) => d.start()));
    this.#save();
  }

  async stop(): Promise<void> {
    await Promise.all(this.devices.map((d) => d.stop()));
  }

  #save(): void {
    if (!this.#stateFile || !this.devices) return;
    const state = Object.fromEntries(this.devices.map((d) => [d.options.name, d.persistent]));
    mkdirSync(dirname(this.#stateFile), { recursive: true });
    writeFileSync(`${this.#stateFile}.new`, JSON.stringify(state));
    renameSync(`${this.#stateFile}.new`, this.#stateFile);
  }
}

function readState(file: string | undefined): Record<string, Persistent> {
  if (!file) return {};
  try {
    return JSON.parse(readFileSync(file, 'utf8')) as Record<string, Persistent>;
  } catch {
    return {};
  }
}

const factoryImages = new Map<string, { sha256: string; bytes: number }>();

function factoryImage(d: ScenarioDevice, version: string, name: string): StoredImage {
  const key = `${d.model.model}/${d.model.hardwareRevision}/${version}`;
  let made = factoryImages.get(key);
  if (!made) {
    const file = makeImage({
      maker: d.model.maker,
      models: [d.model.model],
      hardwareRevisions: [d.model.hardwareRevision],
      version,
      payloadBytes: 65_536,
    });
    made = { sha256: sha256(file), bytes: file.length };
    factoryImages.set(key, made);
  }
  return { name, version, ...made, fault: null };
}

function fresh(d: ScenarioDevice, address: string): Persistent {
  const versions = factoryVersions[d.model.maker]!;
  const twoSlots = d.model.storage === 'two-slots';
  const names = twoSlots ? ['1', '2'] : [`wr110-${versions.running}.simg`, `wr110-${versions.beside}.simg`];
  return {
    store: [factoryImage(d, versions.running, names[0]!), factoryImage(d, versions.beside, names[1]!)],
    nextBoot: names[0]!,
    keptSettings: twoSlots ? switchSettings(d, address) : routerSettings(d, address),
    boots: 3 + (d.host % 5),
    hostKey: makeHostKey(),
    counters: undefined as never,
  };
}

function switchSettings(d: ScenarioDevice, address: string): string[] {
  const ports = Array.from({ length: d.model.ports }, (_, i) => {
    const n = i + 1;
    const lan = n <= 2 ? 'trunk 10,20,30' : `lan ${[10, 20, 30][n % 3]}`;
    return [`port ${n} ${lan}`, ...(n % 4 === 0 ? [`port ${n} power on`] : [])];
  }).flat();
  return [
    `name ${d.name}`,
    `place ${d.site}`,
    `address ${address}`,
    'clock utc',
    `watchword tide-${d.name}-7731`,
    'lan 10 office',
    'lan 20 phones',
    'lan 30 cameras',
    ...ports,
    'end',
  ];
}

function routerSettings(d: ScenarioDevice, address: string): string[] {
  return [
    `name ${d.name}`,
    `own-address ${address}`,
    'way default via link-1',
    'way ferries via link-2',
    ...Array.from({ length: 12 }, (_, i) => `let in ${i + 1} from office to service-${i + 1}`),
    `peer dunmoor word slack-${d.name}-water`,
    'watch link-1 every 5',
  ];
}

/** Writes the scenario's image files into a folder, where they are not yet. */
export function writeScenarioImages(folder: string): string[] {
  return scenarioImages.map(({ file, recipe, damaged }) => {
    const path = join(folder, file);
    mkdirSync(dirname(path), { recursive: true });
    const bytes = makeImage(recipe);
    if (damaged) bytes[bytes.length - 4096]! ^= 1;
    writeFileSync(path, bytes);
    return path;
  });
}
