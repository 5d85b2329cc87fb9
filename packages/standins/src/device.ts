import type { Agent } from 'net-snmp';
import { factoryLogin, linkDelayMs, nowhere, otherThan, powerCommunity, snmpUser } from './access.js';
import { ailing, healthOf } from './ailments.js';
import { outlets } from './outlets.js';
import { Machine, machineFaults, type Counters, type Persistent } from './machine.js';
import { startAgent } from './net/agent.js';
import { startShellServer, type ShellServer, type Terminal } from './net/shell-server.js';
import { pull, pullQuirks } from './net/tftp-client.js';
import type { Surroundings } from './surroundings.js';

/** A power supply, as an ENTITY-MIB lists it. */
const supply = {
  ...{
    description: 'power supply',
    class: 6,
    containedIn: 1,
    name: '',
    hardware: '',
    loader: '',
    firmware: '',
    serial: '',
    maker: '',
    model: '',
  },
} as const;

/** Faults that can be switched on by name: those of the machine, and those of how it fetches and answers. */
export const faultNames = [
  ...machineFaults,
  'damaged-in-transit',
  'refuses-login',
  'never-asks',
  'goes-dark',
  'way-blocked',
  'returns-without-address',
  'refuses-address',
  'keeps-power-on',
  'keeps-power-off',
  'hides-power',
  'asks-from-elsewhere',
  'asks-in-capitals',
  'asks-in-a-folder',
  ...pullQuirks,
] as const;
export type FaultName = (typeof faultNames)[number];

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
  /** Switches the power of what hangs on a port of it. */
  readonly turn: (port: number, on: boolean) => void;
  readonly onChange: () => void;
  /** Another number whenever a device of the fleet came up or went down. */
  readonly changes: () => number;
  readonly onState: () => void;
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

/** In the device's own time. */
const octetsPerSecond = 48 * 1024;
const consoleLineSeconds = 0.04;

/** A simulated switch or router of the first line: it truly pulls, checks, writes, restarts, and counts what happened to it. */
export class StandIn extends Machine<FaultName> {
  #agent: Agent | null = null;
  #shell: ShellServer | null = null;
  #address: string | null = null;
  /** It has no address: only its console answers. */
  #addressless = false;
  readonly #ports = outlets(
    () => this.options.turn,
    (on) => this.faults.has(on ? 'keeps-power-on' : 'keeps-power-off'),
    () => this.faults.has('hides-power'),
  );

  /** The word on its label. */
  factoryPassword: string = factoryLogin.password;
  /** Whom it let in by no login, in their order. */
  readonly refusedUsers: string[] = [];

  constructor(readonly options: DeviceOptions) {
    const { name, model, timeScale, upDaysAtStart, initial, unsaved, onChange, onState } = options;
    const { model: type, hardwareRevision, variant } = model;
    super({ name, model: type, hardwareRevision, variant, timeScale, upDaysAtStart, initial, unsaved, onChange, onState });
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
      from: this.faults.has('asks-from-elsewhere') ? this.otherAddress : this.address,
      ...(nobody ? nowhere : { host, port }),
      file: asked,
      quirk: pullQuirks.find((q) => this.faults.has(q)) ?? null,
      blockSize: 1428,
      windowSize: 4,
      bytesPerSecond: octetsPerSecond * this.options.timeScale,
      timeoutMs: Math.max(300, 5000 / this.options.timeScale),
      onProgress: (got, total) => onPercent(total > 0 ? Math.floor((got / total) * 100) : 0),
      signal: this.power,
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

  /** Where it is now. */
  get address(): string {
    return this.#address ?? this.options.address;
  }

  protected override booted(): void {
    // What it was told last, it answers at from its next start on.
    const told = /^address (127\.\S+)$/m.exec(this.settings.join('\n'))?.[1];
    if (told !== undefined) this.#address = told;
    if (this.faults.has('returns-elsewhere')) this.#address = otherThan(this.options.address);
    // What it has forgotten once it is not given back by another restart, and not taken again.
    this.#addressless ||= this.faults.delete('returns-without-address');
    if (this.#addressless) this.settings = this.settings.map((line) => (line.startsWith('address ') ? 'address none' : line));
  }

  /** Whether a login opens it, by its network or its console. */
  opens(user: string, password: string): boolean {
    const login = this.persistent.delivered ? { ...factoryLogin, password: this.factoryPassword } : this.options;
    const may = !this.faults.has('refuses-login') && user === login.user && password === login.password;
    if (may) this.counters.logins++;
    else {
      this.counters.refusedLogins++;
      this.refusedUsers.push(user);
    }
    return may;
  }

  /** Answers at an address from now on. @returns whether that is one of this network */
  async answerAt(address: string): Promise<boolean> {
    if (this.faults.has('refuses-address') || !address.startsWith('127.')) return false;
    this.settings = this.settings.map((line) => (line.startsWith('address ') ? `address ${address}` : line));
    if (!this.#addressless) return true;
    this.#addressless = false;
    this.#address = address;
    await this.open();
    return true;
  }

  protected factorySettings(): string[] {
    return this.options.shell.factorySettings(this);
  }

  protected async open(): Promise<void> {
    const { options } = this;
    if (this.#addressless) return;
    this.#agent = this.ails('snmp-shut-on-new') ? null : this.#startAgent();
    const style = options.shell;
    this.#shell = await startShellServer({
      address: this.address,
      port: options.sshPort,
      hostKey: this.persistent.hostKey,
      ident: style.ident,
      mayLogIn: (user, password) => this.opens(user, password),
      banner: style.banner,
      prompt: () => style.prompt(this.hostname),
      command: (line, terminal) => style.command(line, this, terminal),
      lineMs: (consoleLineSeconds * 1000) / options.timeScale,
      pageLines: style.pageLines,
      pagePrompt: style.pagePrompt,
      pageKey: style.pageKey,
    });
  }

  #startAgent(): Agent {
    const { options } = this;
    const { model } = options;
    return startAgent({
      address: this.address,
      port: options.snmpPort,
      community: this.lacks('snmp-v2c') ? null : options.community,
      user: this.lacks('snmp-v2c') ? snmpUser : undefined,
      sysDescr: model.describe(this.running.version),
      sysObjectId: model.objectId,
      sysName: () => this.hostname,
      sysLocation: options.site,
      upTicks: () => Math.floor(this.upSeconds * 100) % 2 ** 32,
      // RFC 3411 §5: enterprise number 32473 (RFC 5612), format 4, text.
      engineId: Buffer.concat([Buffer.from([0x80, 0x00, 0x7e, 0xd9, 4]), Buffer.from(options.serial)]),
      engineBoots: this.persistent.boots,
      delayMs: linkDelayMs(options.site, options.timeScale),
      services: model.maker === 'Wendlock' ? 4 : 2,
      parts: () => [
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
        // Routers have two power supplies, which tell nothing else of themselves.
        ...(model.maker === 'Wendlock' ? [2, 3].map((index) => ({ ...supply, index })) : []),
      ],
      clock: () => (this.ails('clock-lost-on-new') ? this.upSeconds * 1000 : Date.now()),
      around: () => ailing(options.around(), this.ails),
      changes: options.changes,
      health: () => healthOf(this.upSeconds, this.ails, model.ports),
      power: { community: powerCommunity, ...this.#ports },
    });
  }

  protected async close(): Promise<void> {
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
