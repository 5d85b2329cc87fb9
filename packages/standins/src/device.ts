import type { Agent } from 'net-snmp';
import { linkDelayMs, nowhere, otherThan } from './access.js';
import { inspectImage, sha256 } from './image.js';
import { startAgent } from './net/agent.js';
import { makeHostKey, startShellServer, type ShellServer, type Terminal } from './net/shell-server.js';
import { pull, pullQuirks } from './net/tftp-client.js';
import type { Surroundings } from './surroundings.js';

/** Faults that can be switched on by name. */
export const faultNames = [
  'wrong-model',
  'damaged-in-transit',
  'no-space',
  'refuses-login',
  'never-returns',
  'returns-on-old-version',
  'returns-with-settings-lost',
  'returns-with-other-key',
  'reboots-during-write',
  'never-asks',
  'goes-dark',
  'way-blocked',
  'asks-from-elsewhere',
  'asks-in-capitals',
  'asks-in-a-folder',
  'refuses-file',
  'cuts-file',
  ...pullQuirks,
] as const;
export type FaultName = (typeof faultNames)[number];

/** What truly happened to a device, whatever anybody believes. */
export interface Counters {
  pulls: number;
  writesBegun: number;
  writesDone: number;
  activations: number;
  reboots: number;
  powerLosses: number;
  /** Restarts, of whatever cause, while the flash was being written. */
  restartsInWrite: number;
  savedSettings: number;
  logins: number;
  refusedLogins: number;
  /** How often its light was made to blink. */
  located: number;
}

export interface StoredImage {
  readonly name: string;
  readonly version: string;
  readonly sha256: string;
  readonly bytes: number;
  /** `null`: sound. */
  readonly fault: string | null;
}

/** What survives a loss of power. */
export interface Persistent {
  /** Slots of a two-slot device, files of a one-flash device. */
  store: StoredImage[];
  /** The name in `store` that will be booted next. */
  nextBoot: string;
  keptSettings: string[];
  boots: number;
  hostKey: string;
  counters: Counters;
}

export interface DeviceModel {
  readonly maker: string;
  readonly model: string;
  readonly hardwareRevision: string;
  readonly variant: string;
  readonly objectId: string;
  readonly ports: number;
  readonly storage: 'two-slots' | 'one-flash';
  /** Octets of one slot, or of the whole flash. */
  readonly capacity: number;
  readonly bootLoader: string;
  readonly describe: (version: string) => string;
}

export interface DeviceOptions {
  readonly name: string;
  readonly site: string;
  readonly address: string;
  readonly snmpPort: number;
  readonly sshPort: number;
  readonly serial: string;
  readonly mac: string;
  readonly model: DeviceModel;
  readonly community: string;
  readonly user: string;
  readonly password: string;
  /** How much faster the device's time runs than ours. */
  readonly timeScale: number;
  readonly upDaysAtStart: number;
  readonly initial: Omit<Persistent, 'counters'> & { counters?: Counters };
  /** Settings in use that were never kept. */
  readonly unsaved: readonly string[];
  readonly shell: ShellStyle;
  /** What its cables let it tell. */
  readonly around: () => Surroundings;
  readonly onChange: () => void;
}

/** A maker's command language. */
export interface ShellStyle {
  /** Its identification, RFC 4253 §4.2. */
  readonly ident: string;
  readonly banner: string;
  readonly prompt: (name: string) => string;
  readonly pagePrompt: string;
  readonly pageKey: string;
  readonly pageLines: number;
  readonly factorySettings: (device: StandIn) => string[];
  readonly command: (line: string, device: StandIn, terminal: Terminal) => Promise<void>;
}

/** Device seconds; real time is this divided by the time scale. */
const bootSeconds = 80;
const octetsPerSecond = 48 * 1024;
const writeSeconds = 20;
const consoleLineSeconds = 0.04;

function noCounters(): Counters {
  return {
    pulls: 0,
    writesBegun: 0,
    writesDone: 0,
    activations: 0,
    reboots: 0,
    powerLosses: 0,
    restartsInWrite: 0,
    savedSettings: 0,
    logins: 0,
    refusedLogins: 0,
    located: 0,
  };
}

/** One simulated device: it truly pulls, checks, writes, restarts, and counts what happened to it. */
export class StandIn {
  readonly faults = new Set<FaultName>();
  readonly persistent: Persistent;
  settings: string[];
  running: StoredImage;
  busy = false;
  writing = false;
  state: 'off' | 'up' | 'booting' | 'dead' = 'off';
  #startedAt = Date.now();
  #agent: Agent | null = null;
  #shell: ShellServer | null = null;
  #power = new AbortController();
  #bootTimer: NodeJS.Timeout | null = null;

  constructor(readonly options: DeviceOptions) {
    this.persistent = { ...structuredClone(options.initial), counters: options.initial.counters ?? noCounters() };
    this.settings = [...this.persistent.keptSettings, ...options.unsaved];
    this.running = this.#bootable();
  }

  get counters(): Counters {
    return this.persistent.counters;
  }

  get hostname(): string {
    return this.settings.find((l) => l.startsWith('name '))?.slice(5) ?? this.options.model.maker.toLowerCase();
  }

  get unsavedSettings(): { added: string[]; gone: string[] } {
    const kept = new Set(this.persistent.keptSettings);
    const now = new Set(this.settings);
    return { added: this.settings.filter((l) => !kept.has(l)), gone: this.persistent.keptSettings.filter((l) => !now.has(l)) };
  }

  get freeBytes(): number {
    if (this.faults.has('no-space')) return 4096;
    const { capacity, storage } = this.options.model;
    return storage === 'two-slots' ? capacity : capacity - this.persistent.store.reduce((sum, f) => sum + f.bytes, 0);
  }

  get upSeconds(): number {
    return ((Date.now() - this.#startedAt) / 1000) * this.options.timeScale;
  }

  /** Begins to answer at once, as a device that has long been up. */
  async start(): Promise<void> {
    this.#startedAt = Date.now() - (this.options.upDaysAtStart * 86_400_000) / this.options.timeScale;
    await this.#up();
  }

  async stop(): Promise<void> {
    if (this.#bootTimer) clearTimeout(this.#bootTimer);
    this.#power.abort();
    await this.#silence();
    this.state = 'off';
  }

  /** Waits device seconds; the promise never settles when the power goes meanwhile. */
  async wait(seconds: number): Promise<void> {
    const { signal } = this.#power;
    await new Promise<void>((resolve) => {
      const dark = (): void => clearTimeout(timer);
      const timer = setTimeout(
        () => {
          signal.removeEventListener('abort', dark);
          resolve();
        },
        (seconds * 1000) / this.options.timeScale,
      );
      signal.addEventListener('abort', dark, { once: true });
    });
  }

  async keepSettings(): Promise<void> {
    await this.wait(1);
    this.persistent.keptSettings = [...this.settings];
    this.counters.savedSettings++;
    this.options.onChange();
  }

  /** Pulls a file. @throws Error in the device's words. */
  async pull(host: string, port: number, file: string, onPercent: (percent: number) => void): Promise<Buffer> {
    this.counters.pulls++;
    if (this.faults.has('goes-dark')) {
      this.goDark();
      await new Promise(() => undefined);
    }
    const nobody = this.faults.has('never-asks') || this.faults.has('way-blocked');
    const asked = this.faults.has('asks-in-capitals')
      ? file.toUpperCase()
      : this.faults.has('asks-in-a-folder')
        ? `firmware/${file}`
        : file;
    const bytes = await pull({
      from: this.faults.has('asks-from-elsewhere') ? this.otherAddress : this.options.address,
      ...(nobody ? nowhere : { host, port }),
      file: asked,
      quirk: pullQuirks.find((q) => this.faults.has(q)) ?? null,
      blockSize: 1428,
      windowSize: 4,
      bytesPerSecond: octetsPerSecond * this.options.timeScale,
      timeoutMs: Math.max(300, 5000 / this.options.timeScale),
      onProgress: (got, total) => onPercent(total > 0 ? Math.floor((got / total) * 100) : 0),
      signal: this.#power.signal,
    });
    if (this.faults.has('damaged-in-transit')) {
      const damaged = Buffer.from(bytes);
      damaged[damaged.length - 7]! ^= 0x20;
      return damaged;
    }
    return bytes;
  }

  /** An address of its own that nobody was told of. */
  get otherAddress(): string {
    return otherThan(this.options.address);
  }

  /** Whether its own ping of an address is answered. */
  hears(address: string): boolean {
    return !this.faults.has('way-blocked') && address.startsWith('127.');
  }

  /** Its power is gone, and does not come back. */
  goDark(): void {
    this.faults.add('never-returns');
    this.losePower();
  }

  /** Why the hardware would not run this file, in the device's words; null when it would. */
  unfit(file: Buffer): string | null {
    const found = inspectImage(file);
    if (found.fault !== null) return found.fault;
    const { model, hardwareRevision, variant } = this.options.model;
    const is = this.faults.has('wrong-model') ? `${model}-X` : model;
    if (!found.models.includes(is)) return `for model ${found.models.join(' ')}, this is ${is}`;
    if (!found.revisions.includes(hardwareRevision)) return `for hardware ${found.revisions.join(' ')}, this is ${hardwareRevision}`;
    if (this.faults.has('refuses-file')) return 'signed by nobody it knows';
    if (found.variant !== variant) return `for variant ${found.variant || 'plain'}, this is ${variant || 'plain'}`;
    return null;
  }

  /** Writes a file to flash under a name; a restart in the middle leaves a torn file. */
  async write(name: string, file: Buffer, onPercent: (percent: number) => void): Promise<void> {
    const place = this.persistent.store.findIndex((s) => s.name === name);
    const put = (stored: StoredImage): void => {
      if (place >= 0) this.persistent.store[place] = stored;
      else {
        const again = this.persistent.store.findIndex((s) => s.name === name);
        if (again >= 0) this.persistent.store[again] = stored;
        else this.persistent.store.push(stored);
      }
      this.options.onChange();
    };
    this.counters.writesBegun++;
    this.writing = true;
    const power = this.#power.signal;
    const inspection = inspectImage(file);
    put({ name, version: '-', sha256: sha256(file.subarray(0, file.length >> 1)), bytes: file.length >> 1, fault: 'torn write' });
    for (let percent = 0; percent < 100; percent += 20) {
      onPercent(percent);
      // Nothing goes on in a device without power, whenever it went.
      if (power.aborted) await new Promise(() => undefined);
      await this.wait(writeSeconds / 5);
      if (percent === 40 && this.faults.has('reboots-during-write')) {
        this.losePower();
        await new Promise(() => undefined);
      }
    }
    this.writing = false;
    this.counters.writesDone++;
    if (this.faults.has('cuts-file') && inspection.fault === null) {
      const kept = file.subarray(0, file.length - 512);
      put({ name, version: inspection.version, sha256: sha256(kept), bytes: kept.length, fault: null });
      onPercent(100);
      return;
    }
    put({
      name,
      version: inspection.fault === null ? inspection.version : '-',
      sha256: sha256(file),
      bytes: file.length,
      fault: inspection.fault,
    });
    onPercent(100);
  }

  choose(name: string): void {
    this.persistent.nextBoot = name;
    this.counters.activations++;
    this.options.onChange();
  }

  /** Restarts because it was told to. */
  restart(): void {
    this.counters.reboots++;
    void this.#goDown();
  }

  /** Restarts because its power went away and came back. */
  losePower(): void {
    this.counters.powerLosses++;
    void this.#goDown();
  }

  /** Somebody went there and switched it off and on again. */
  powerOn(): void {
    if (this.state !== 'dead') return;
    this.faults.delete('never-returns');
    this.state = 'booting';
    this.#bootTimer = setTimeout(() => void this.#boot(), (bootSeconds * 1000) / this.options.timeScale);
  }

  async #goDown(): Promise<void> {
    if (this.writing) this.counters.restartsInWrite++;
    this.writing = false;
    this.busy = false;
    this.state = 'booting';
    this.#power.abort();
    this.#power = new AbortController();
    await this.#silence();
    if (this.faults.has('never-returns')) {
      this.state = 'dead';
      this.options.onChange();
      return;
    }
    this.#bootTimer = setTimeout(() => void this.#boot(), (bootSeconds * 1000) / this.options.timeScale);
  }

  async #boot(): Promise<void> {
    this.persistent.boots++;
    if (this.faults.has('returns-on-old-version')) this.persistent.nextBoot = this.running.name;
    this.running = this.#bootable();
    if (this.faults.has('returns-with-settings-lost')) this.persistent.keptSettings = this.options.shell.factorySettings(this);
    if (this.faults.has('returns-with-other-key')) this.persistent.hostKey = makeHostKey();
    this.settings = [...this.persistent.keptSettings];
    this.#startedAt = Date.now();
    this.options.onChange();
    await this.#up();
  }

  #bootable(): StoredImage {
    const { store, nextBoot } = this.persistent;
    const wanted = store.find((s) => s.name === nextBoot && s.fault === null);
    const found = wanted ?? store.find((s) => s.fault === null);
    if (!found) throw new Error(`${this.options.name} has no sound image`);
    return found;
  }

  async #up(): Promise<void> {
    const { options } = this;
    this.#agent = this.#startAgent();
    const style = options.shell;
    this.#shell = await startShellServer({
      address: options.address,
      port: options.sshPort,
      hostKey: this.persistent.hostKey,
      ident: style.ident,
      mayLogIn: (user, password) => {
        const may = !this.faults.has('refuses-login') && user === options.user && password === options.password;
        if (may) this.counters.logins++;
        else this.counters.refusedLogins++;
        return may;
      },
      banner: style.banner,
      prompt: () => style.prompt(this.hostname),
      command: (line, terminal) => style.command(line, this, terminal),
      lineMs: (consoleLineSeconds * 1000) / options.timeScale,
      pageLines: style.pageLines,
      pagePrompt: style.pagePrompt,
      pageKey: style.pageKey,
    });
    this.state = 'up';
  }

  /** Tells anew what is around it, after cables or neighbours have changed. */
  refresh(): void {
    if (this.state !== 'up') return;
    this.#agent?.close();
    this.#agent = this.#startAgent();
  }

  #startAgent(): Agent {
    const { options } = this;
    const { model } = options;
    return startAgent({
      address: options.address,
      port: options.snmpPort,
      community: options.community,
      sysDescr: model.describe(this.running.version),
      sysObjectId: model.objectId,
      sysName: () => this.hostname,
      sysLocation: options.site,
      upTicks: () => Math.floor(this.upSeconds * 100) % 2 ** 32,
      // RFC 3411 §5: enterprise number 32473 (RFC 5612), format 4, text.
      engineId: Buffer.concat([Buffer.from([0x80, 0x00, 0x7e, 0xd9, 4]), Buffer.from(options.serial)]),
      engineBoots: this.persistent.boots,
      delayMs: linkDelayMs(options.site, options.timeScale),
      services: model.storage === 'two-slots' ? 2 : 4,
      parts: [
        {
          index: 1,
          description: `${model.maker} ${model.model}`,
          class: 3,
          containedIn: 0,
          name: this.hostname,
          hardware: model.hardwareRevision,
          loader: model.bootLoader,
          firmware: this.running.version,
          serial: options.serial,
          maker: model.maker,
          model: model.model,
        },
      ],
      around: options.around(),
    });
  }

  async #silence(): Promise<void> {
    try {
      this.#agent?.close();
    } catch {
      // It was not listening.
    }
    this.#agent = null;
    const shell = this.#shell;
    this.#shell = null;
    await shell?.stop();
  }
}
