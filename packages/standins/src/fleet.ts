import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { faultNames, StandIn, type FaultName, type ShellStyle } from './device.js';
import type { Persistent, StoredImage } from './machine.js';
import { answerFaults, Fixture, type AnswerFault, type FixtureFacts } from './fixture.js';
import { makeImage, sha256 } from './image.js';
import { makeHostKey } from './net/shell-server.js';
import {
  community,
  factoryVersions,
  login,
  scenario,
  scenarioImages,
  sites,
  snmpPort,
  sshPort,
  spare,
  unpacked,
  type ScenarioDevice,
} from './scenario.js';
import { scenarioFixtures, type ScenarioFixture } from './scenario-fixtures.js';
import { scenarioCables, scenarioConsoles, scenarioOutlets } from './scenario-wiring.js';
import type { Part } from './surroundings.js';
import { Wiring, type Node } from './wiring.js';
import { tarnbrookShell } from './shells/tarnbrook.js';
import { skerrowShell } from './shells/skerrow.js';
import { wendlockShell } from './shells/wendlock.js';
import { nothingAround } from './surroundings.js';

export interface FleetOptions {
  /** How much faster the devices' time runs than ours. */
  readonly timeScale: number;
  /** Where what survives a power loss is kept between starts; nowhere when absent. */
  readonly stateFile?: string;
  /** Only these devices; all when absent. */
  readonly only?: readonly string[];
  /** Shifts every address: 127.(40 + shift).S.N, so that several fleets can run side by side. */
  readonly network?: number;
  /** So many switches more, each like the first of the scenario, from 127.N.100.1 on. */
  readonly more?: number;
  /** Whose consoles are plugged into which lines; those of the scenario when absent. */
  readonly consoles?: Readonly<Record<string, readonly string[]>>;
  /** Cameras with an address of their own that a recorder records too. */
  readonly recorded?: Readonly<Record<string, readonly string[]>>;
}

/** The simulated devices of the demo scenario. */
export class Fleet {
  readonly devices: StandIn[];
  readonly #options: FleetOptions;
  readonly fixtures: readonly Fixture[];
  readonly #stateFile: string | undefined;
  /** Until then everything counts as up, so that whoever starts first tells of whoever starts last. */
  #started = false;
  #changes = 0;

  constructor(options: FleetOptions) {
    this.#options = options;
    this.#stateFile = options.stateFile;
    const saved = readState(options.stateFile);
    const wanted = (name: string): boolean => !options.only || options.only.includes(name);
    const addressOf = (site: (typeof sites)[number], host: number): string =>
      `127.${options.network ?? 40}.${sites.indexOf(site) + 1}.${host}`;
    let wiring: Wiring | null = null;
    const around = (name: string) => () => wiring!.around(name);
    const more = Array.from({ length: options.more ?? 0 }, (_, i): [ScenarioDevice, number, string] => [
      { ...scenario[0]!, name: `more-sw-${i + 1}`, unsaved: [] },
      scenario.length + i,
      `127.${options.network ?? 40}.${100 + Math.floor(i / 250)}.${1 + (i % 250)}`,
    ]);
    this.devices = scenario
      .map((d, index): [ScenarioDevice, number, string] => [d, index, addressOf(d.site, d.host)])
      .filter(([d]) => wanted(d.name))
      .concat(more)
      .map(([d, index, address]) => {
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
          mac: `06:17:4b:${id
            .toString(16)
            .padStart(4, '0')
            .replace(/(..)(..)/, '$1:$2')}:00`,
          model: d.model,
          community,
          user: login.user,
          password: login.password,
          timeScale: options.timeScale,
          upDaysAtStart: 20 + ((index * 53) % 300),
          initial: saved[d.name] ?? fresh(d, address),
          unsaved: saved[d.name] ? [] : d.unsaved,
          shell: isSwitch ? tarnbrookShell : wendlockShell,
          around: around(d.name),
          turn: (port, on) => this.#turn(wiring!.fedThrough(d.name, port), on),
          onChange: () => this.#save(),
          changes: () => this.#changes,
          onState: () => this.#changes++,
        });
      });
    this.fixtures = scenarioFixtures
      .filter((f) => wanted(f.name))
      .map((f) => {
        const index = scenarioFixtures.indexOf(f);
        const { make } = f;
        const serial = `${make.serialPrefix}${String(51_000 + index * 29)}`;
        return new Fixture(
          {
            name: f.name,
            site: f.site,
            kind: make.kind,
            address: f.host === null ? null : addressOf(f.site, f.host),
            mac: `06:17:4b:${(index + 16).toString(16)}:00:01`,
            serial,
            maker: make.maker,
            model: make.model,
            hardwareRevision: make.hardwareRevision,
            firmware: make.firmware,
            bootLoader: make.bootLoader,
          },
          {
            timeScale: options.timeScale,
            upDays: 12 + ((index * 31) % 200),
            hostKey: () => saved[f.name]?.hostKey ?? makeHostKey(),
            doors: make.doors,
            around: around(f.name),
            turn: (outlet, on) => this.#turn(scenarioOutlets[f.name]?.[outlet - 1] || wiring!.fedThrough(f.name, outlet), on),
            parts: f.members > 0 ? (facts) => stackParts(f, serial, facts) : make.maker === '' ? () => [] : null,
            onLine: (line) =>
              this.devices.find((d) => d.options.name === (options.consoles ?? scenarioConsoles)[f.name]?.[line - 1]) ?? null,
            settings: make.settings({ name: f.name, site: f.site, address: f.host === null ? '' : addressOf(f.site, f.host) }),
            kept: saved[f.name]?.store ? saved[f.name]! : null,
            ...(make.inspect ? { inspect: make.inspect } : {}),
            ...(make.startsFrom ? { startsFrom: make.startsFrom } : {}),
            onChange: () => this.#save(),
            changes: () => this.#changes,
            onState: () => this.#changes++,
            children: () =>
              this.fixtures.filter(
                (c) =>
                  scenarioFixtures.find((s) => s.name === c.facts.name)?.parent === f.name ||
                  options.recorded?.[f.name]?.includes(c.facts.name),
              ),
          },
        );
      });
    wiring = new Wiring(
      [...this.devices.map(nodeOf), ...this.fixtures.map(fixtureNode)].map((n) => ({ ...n, isUp: () => !this.#started || n.isUp() })),
      scenarioCables,
    );
  }

  /**
   * Takes a switch out of its box that no shipped family knows, and plugs it in at Quay House; it answers when this resolves. There is one.
   */
  unpack(): Promise<StandIn> {
    return this.#plugIn(unpacked, { serial: 'SKR40117', mac: '06:17:4b:5c:00:01', shell: skerrowShell }, unpackedAsNew);
  }

  /** The same with a spare of the small switches of Quay House. */
  spare(): Promise<StandIn> {
    return this.#plugIn(spare, { serial: 'TB249001', mac: '06:17:4b:5d:00:01', shell: tarnbrookShell }, (address) => fresh(spare, address));
  }

  async #plugIn(
    { name, site, host, model }: ScenarioDevice,
    own: { readonly serial: string; readonly mac: string; readonly shell: ShellStyle },
    asNew: (address: string) => Persistent,
  ): Promise<StandIn> {
    const known = this.devices.find((d) => d.options.name === name);
    if (known) return known;
    const { network = 40, timeScale } = this.#options;
    const address = `127.${network}.1.${host}`;
    const device = new StandIn({
      ...{ name, site, address, snmpPort, sshPort, model, community, timeScale, ...own },
      ...{ user: login.user, password: login.password, upDaysAtStart: 1 },
      initial: readState(this.#stateFile)[name] ?? asNew(address),
      unsaved: [],
      around: () => nothingAround,
      turn: () => undefined,
      onChange: () => this.#save(),
      changes: () => this.#changes,
      onState: () => this.#changes++,
    });
    this.devices.push(device);
    await device.start();
    return device;
  }

  device(name: string): StandIn {
    const found = this.devices.find((d) => d.options.name === name);
    if (!found) throw new Error(`the fleet has no device ${name}; it has ${this.devices.map((d) => d.options.name).join(', ')}`);
    return found;
  }

  /** One of the others. @throws Error when there is none of that name. */
  fixture(name: string): Fixture {
    const found = this.fixtures.find((f) => f.facts.name === name);
    if (!found) throw new Error(`the fleet has no ${name} among the others`);
    return found;
  }

  /** Whichever door it has. @throws Error when there is none of that name. */
  machine(name: string): StandIn | Fixture {
    return this.devices.find((d) => d.options.name === name) ?? this.fixture(name);
  }

  /** Switches a fault on or off. @throws Error for a name that is none. */
  async fault(device: string, name: string, on = true): Promise<void> {
    const fixture = this.fixtures.find((f) => f.facts.name === device);
    const names: readonly string[] = fixture ? answerFaults : faultNames;
    if (!names.includes(name)) throw new Error(`there is no fault ${name}; there are ${names.join(', ')}`);
    const faults: Set<string> = fixture ? fixture.faults : this.device(device).faults;
    if (on) faults.add(name as FaultName & AnswerFault);
    else faults.delete(name);
    this.#changes++;
    if (fixture?.state === 'up') await fixture.reopen();
  }

  async start(): Promise<void> {
    await Promise.all([...this.devices.map((d) => d.start()), ...this.fixtures.map((f) => f.start())]);
    this.#started = true;
    this.#changes++;
    this.#save();
    const saved = readState(this.#stateFile);
    if (saved[unpacked.name]) await this.unpack();
    if (saved[spare.name]) await this.spare();
  }

  /** Gives one of the others another SSH host key, as a reflash may. */
  async newHostKey(name: string): Promise<void> {
    const fixture = this.fixture(name);
    fixture.persistent.hostKey = makeHostKey();
    await fixture.reopen();
  }

  async stop(): Promise<void> {
    await Promise.all([...this.devices.map((d) => d.stop()), ...this.fixtures.map((f) => f.stop())]);
  }

  #turn(name: string | null, on: boolean): void {
    const fed = this.devices.find((d) => d.options.name === name) ?? this.fixtures.find((f) => f.facts.name === name);
    if (on) fed?.givePower();
    else fed?.cutPower();
  }

  #save(): void {
    if (!this.#stateFile || !this.devices || !this.fixtures) return;
    const state = {
      ...Object.fromEntries(this.fixtures.map((f) => [f.facts.name, f.persistent])),
      ...Object.fromEntries(this.devices.map((d) => [d.options.name, d.persistent])),
    };
    mkdirSync(dirname(this.#stateFile), { recursive: true });
    writeFileSync(`${this.#stateFile}.new`, JSON.stringify(state));
    renameSync(`${this.#stateFile}.new`, this.#stateFile);
  }
}

const nodeOf = (d: StandIn): Node => {
  const { options } = d;
  const { model } = options;
  const isSwitch = model.maker === 'Tarnbrook';
  return {
    name: options.name,
    site: options.site,
    address: () => d.address,
    mac: () => options.mac,
    serial: () => options.serial,
    firmware: () => d.running.version,
    sysName: () => d.hostname,
    description: () => model.describe(d.running.version),
    maker: model.maker,
    model: model.model,
    hardwareRevision: model.hardwareRevision,
    ports: Array.from({ length: model.ports }, (_, i) => `${isSwitch ? 'port' : 'line'} ${i + 1}`),
    speedMbps: 1000,
    capabilities: [isSwitch ? 'bridge' : 'router'],
    speaksLldp: true,
    tellsInventory: false,
    isUp: () => d.state === 'up',
  };
};

const fixtureNode = (f: Fixture): Node => {
  const { facts } = f;
  const { make } = scenarioFixtures.find((s) => s.name === facts.name)!;
  return {
    name: facts.name,
    site: facts.site,
    address: () => facts.address,
    mac: () => facts.mac,
    serial: () => facts.serial,
    firmware: () => facts.firmware,
    sysName: () => facts.name,
    description: () => `${make.maker} ${make.model}`.trim(),
    maker: make.maker,
    model: make.model,
    hardwareRevision: make.hardwareRevision,
    ports: make.ports,
    speedMbps: make.speedMbps,
    capabilities: make.capabilities,
    speaksLldp: make.speaksLldp,
    tellsInventory: make.tellsInventory,
    isUp: () => f.state === 'up',
  };
};

/** RFC 6933: the stack, and in it a chassis for each member, which has a serial of its own. */
function stackParts(f: ScenarioFixture, serial: string, facts: FixtureFacts): Part[] {
  const { make } = f;
  const part = {
    hardware: make.hardwareRevision,
    loader: facts.bootLoader,
    firmware: facts.firmware,
    maker: make.maker,
    model: make.model,
  };
  return [
    {
      index: 1,
      description: 'stack',
      class: 11,
      containedIn: 0,
      name: f.name,
      ...part,
      serial: '',
      hardware: '',
      loader: '',
      firmware: '',
      model: '',
    },
    ...Array.from({ length: f.members }, (_, i) => ({
      index: i + 2,
      description: `member ${i + 1}`,
      class: 3,
      containedIn: 1,
      name: `member ${i + 1}`,
      ...part,
      serial: `${serial}${'ABC'[i]}`,
    })),
  ];
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

function unpackedAsNew(address: string): Persistent {
  const { running } = factoryVersions[unpacked.model.maker]!;
  const name = `sk12-${running}.img`;
  return {
    store: [factoryImage(unpacked, running, name)],
    nextBoot: name,
    keptSettings: [`name ${unpacked.name}`, `stand at ${address}`, 'gate all open', 'hush winter-tide-4417'],
    boots: 1,
    hostKey: makeHostKey(),
    counters: undefined as never,
  };
}

/** The newer image of the switch that is unpacked. @returns its path */
export function writeUnpackedImage(folder: string): string {
  const { maker, model, hardwareRevision } = unpacked.model;
  const path = join(folder, 'sk12-2.5.0.img');
  mkdirSync(folder, { recursive: true });
  writeFileSync(
    path,
    makeImage({ maker, models: [model], hardwareRevisions: [hardwareRevision], version: '2.5.0', payloadBytes: 512 * 1024 }),
  );
  return path;
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
