import { ailments, type Ailment } from './ailments.js';
import { inspectImage, sha256, type Inspection, type ImageEffects } from './image.js';
import { makeHostKey } from './net/shell-server.js';

/** Faults of the machine itself, whatever door it has; they can be switched on by name. */
export const machineFaults = [
  'wrong-model',
  'no-space',
  'never-returns',
  'hangs-at-restart',
  'returns-on-old-version',
  'returns-with-settings-lost',
  'returns-as-delivered',
  'refuses-a-setting',
  'drops-settings-on-new',
  'adds-settings-on-new',
  'doubles-badly',
  'returns-with-other-key',
  'returns-elsewhere',
  'reboots-during-write',
  'refuses-file',
  'cuts-file',
  ...ailments,
] as const;

/** What truly happened to a device, whatever anybody believes. */
export interface Counters {
  pulls: number;
  writesBegun: number;
  writesDone: number;
  doublesBegun: number;
  activations: number;
  reboots: number;
  powerLosses: number;
  /** How often what feeds it was switched off. */
  powerCuts: number;
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
  /** What it takes away from a device that starts it. */
  readonly effects?: ImageEffects | undefined;
}

/** What survives a loss of power. */
export interface Persistent {
  /** Slots of a two-slot device, files of a one-flash device. */
  store: StoredImage[];
  /** The name in `store` that will be booted next. */
  nextBoot: string;
  keptSettings: string[];
  boots: number;
  /** It lets in as its maker delivers it, until it is given settings. */
  delivered?: boolean;
  hostKey: string;
  counters: Counters;
}

/** What a machine is made of, and how it shows itself. */
export interface Body {
  readonly name: string;
  readonly model: string;
  readonly hardwareRevision: string;
  readonly variant: string;
  /** How much faster its time runs than ours. */
  readonly timeScale: number;
  readonly upDaysAtStart: number;
  readonly initial: Omit<Persistent, 'counters'> & { counters?: Counters };
  /** Settings in use that were never kept. */
  readonly unsaved: readonly string[];
  /** Reads a file as this machine does. */
  readonly inspect?: (file: Buffer) => Inspection;
  readonly onChange: () => void;
  /** It came up, or went down. */
  readonly onState?: () => void;
}

/** Device seconds; real time is this divided by the time scale. */
const bootSeconds = 80;
const writeSeconds = 20;

function noCounters(): Counters {
  return {
    pulls: 0,
    writesBegun: 0,
    writesDone: 0,
    doublesBegun: 0,
    activations: 0,
    reboots: 0,
    powerLosses: 0,
    powerCuts: 0,
    restartsInWrite: 0,
    savedSettings: 0,
    logins: 0,
    refusedLogins: 0,
    located: 0,
  };
}

/** The inside of a simulated device: its power, its flash, what it starts with, and what truly happened to it. */
export abstract class Machine<Fault extends string = string> {
  readonly faults = new Set<Fault | (typeof machineFaults)[number]>();
  readonly persistent: Persistent;
  settings: string[];
  running: StoredImage;
  busy = false;
  writing = false;
  #state: 'off' | 'up' | 'booting' | 'dead' = 'off';
  readonly #cameWith: string;
  #startedAt = Date.now();
  #power = new AbortController();
  #bootTimer: NodeJS.Timeout | null = null;

  constructor(private readonly body: Body) {
    this.persistent = { ...structuredClone(body.initial), counters: { ...noCounters(), ...body.initial.counters } };
    this.settings = [...this.persistent.keptSettings, ...body.unsaved];
    this.running = this.#bootable();
    this.#cameWith = this.running.version;
  }

  get state(): 'off' | 'up' | 'booting' | 'dead' {
    return this.#state;
  }

  set state(state) {
    this.#state = state;
    this.body.onState?.();
  }

  /** Whether something ails it that its new version brings. */
  readonly ails = (ailment: Ailment): boolean => this.faults.has(ailment) && this.running.version !== this.#cameWith;

  /** Begins to answer. */
  protected abstract open(): Promise<void>;
  /** Answers no more. */
  protected abstract close(): Promise<void>;
  protected abstract factorySettings(): string[];

  get counters(): Counters {
    return this.persistent.counters;
  }

  /** Aborted when its power goes. */
  get power(): AbortSignal {
    return this.#power.signal;
  }

  get upSeconds(): number {
    return ((Date.now() - this.#startedAt) / 1000) * this.body.timeScale;
  }

  /** Begins to answer at once, as a device that has long been up. */
  async start(): Promise<void> {
    if (this.#power.signal.aborted) this.#power = new AbortController();
    this.#startedAt = Date.now() - (this.body.upDaysAtStart * 86_400_000) / this.body.timeScale;
    await this.open();
    this.state = 'up';
  }

  async stop(): Promise<void> {
    if (this.#bootTimer) clearTimeout(this.#bootTimer);
    this.#power.abort();
    await this.close();
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
        (seconds * 1000) / this.body.timeScale,
      );
      signal.addEventListener('abort', dark, { once: true });
    });
  }

  async keepSettings(): Promise<void> {
    await this.wait(1);
    this.persistent.keptSettings = [...this.settings];
    this.counters.savedSettings++;
    this.body.onChange();
  }

  /** Takes settings in use, one by one. @returns those that it does not know */
  useSettings(lines: readonly string[]): string[] {
    const unknown = this.faults.has('refuses-a-setting') ? lines.slice(-1) : [];
    this.settings = lines.filter((line) => !unknown.includes(line));
    this.persistent.delivered = false;
    return unknown;
  }

  /** Its power is gone, and does not come back. */
  goDark(): void {
    this.faults.add('never-returns');
    this.losePower();
  }

  /** Why the hardware would not run this file, in the device's words; null when it would. */
  unfit(file: Buffer): string | null {
    const found = this.look(file);
    if (found.fault !== null) return found.fault;
    const { model, hardwareRevision, variant } = this.body;
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
      this.body.onChange();
    };
    this.counters.writesBegun++;
    this.writing = true;
    const power = this.#power.signal;
    const inspection = this.look(file);
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
      ...(inspection.fault === null && inspection.effects ? { effects: inspection.effects } : {}),
    });
    onPercent(100);
  }

  /** Writes what it runs to another name of its flash. */
  async double(name: string): Promise<void> {
    const { version, sha256: sum, bytes } = this.running;
    const place = this.persistent.store.findIndex((s) => s.name === name);
    const put = (stored: StoredImage): void => {
      this.persistent.store[place] = stored;
      this.body.onChange();
    };
    const power = this.#power.signal;
    this.counters.doublesBegun++;
    this.writing = true;
    put({ name, version: '-', sha256: sha256(Buffer.from(sum)), bytes: bytes >> 1, fault: 'torn write' });
    if (power.aborted) await new Promise(() => undefined);
    await this.wait(writeSeconds);
    this.writing = false;
    const bad = this.faults.has('doubles-badly');
    put({ name, version, sha256: bad ? sha256(Buffer.from(sum)) : sum, bytes, fault: null });
  }

  choose(name: string): void {
    this.persistent.nextBoot = name;
    this.counters.activations++;
    this.body.onChange();
  }

  /** Restarts because it was told to. */
  restart(): void {
    this.counters.reboots++;
    void this.#goDown(this.faults.has('hangs-at-restart') ? 'hangs' : 'starts');
  }

  /** Restarts because its power went away and came back. */
  losePower(): void {
    this.counters.powerLosses++;
    void this.#goDown();
  }

  /** What feeds it is switched off. */
  cutPower(): void {
    this.counters.powerCuts++;
    if (this.#bootTimer) clearTimeout(this.#bootTimer);
    void this.#goDown('off');
  }

  /** What feeds it is switched on again: it starts, also when it hung. */
  givePower(): void {
    if (this.state !== 'dead' || this.faults.has('never-returns')) return;
    this.faults.delete('hangs-at-restart');
    this.state = 'booting';
    this.#bootTimer = setTimeout(() => void this.#boot(), (bootSeconds * 1000) / this.body.timeScale);
  }

  /** Somebody went there and switched it off and on again. */
  powerOn(): void {
    if (this.state !== 'dead') return;
    this.faults.delete('never-returns');
    this.faults.delete('hangs-at-restart');
    this.state = 'booting';
    this.#bootTimer = setTimeout(() => void this.#boot(), (bootSeconds * 1000) / this.body.timeScale);
  }

  async #goDown(then: 'starts' | 'hangs' | 'off' = 'starts'): Promise<void> {
    if (this.writing) this.counters.restartsInWrite++;
    this.writing = false;
    this.busy = false;
    const stays = then !== 'starts' || this.faults.has('never-returns');
    this.state = stays ? 'dead' : 'booting';
    this.#power.abort();
    this.#power = new AbortController();
    await this.close();
    if (stays) {
      this.body.onChange();
      return;
    }
    this.#bootTimer = setTimeout(() => void this.#boot(), (bootSeconds * 1000) / this.body.timeScale);
  }

  async #boot(): Promise<void> {
    this.persistent.boots++;
    this.beforeBoot();
    if (this.faults.has('returns-on-old-version')) this.persistent.nextBoot = this.running.name;
    const before = this.running.version;
    this.running = this.#bootable();
    if (before !== this.running.version) this.#takeEffect(before);
    if (this.faults.has('returns-with-settings-lost')) this.persistent.keptSettings = this.factorySettings();
    if (this.faults.has('returns-as-delivered')) {
      this.persistent.keptSettings = this.factorySettings();
      this.persistent.delivered = true;
    }
    if (this.faults.has('returns-with-other-key')) this.persistent.hostKey = makeHostKey();
    this.settings = [...this.persistent.keptSettings];
    // What is kept is sound; another version than it came with does not read its last lines.
    if (this.faults.has('drops-settings-on-new') && this.running.version !== this.#cameWith) this.settings = this.settings.slice(0, -2);
    if (this.faults.has('adds-settings-on-new') && this.running.version !== this.#cameWith)
      this.settings = [...this.settings, 'guard storms on', 'guard loops on'];
    this.#startedAt = Date.now();
    this.booted();
    this.body.onChange();
    await this.open();
    this.state = 'up';
  }

  /** Does what the note of its image says: settings and logins are as delivered. */
  #takeEffect(before: string): void {
    const resets = (this.running.effects?.resets ?? []).filter(({ below }) => below === undefined || isOlder(before, below));
    if (resets.some((r) => r.what === 'settings')) this.persistent.keptSettings = this.factorySettings();
    if (resets.some((r) => r.what === 'logins')) this.persistent.delivered = true;
  }

  /** Whether its image no longer speaks a protocol. */
  lacks(service: string): boolean {
    return this.running.effects?.removes.includes(service) === true;
  }

  /** What it reads in a file. */
  protected look(file: Buffer): Inspection {
    return (this.body.inspect ?? inspectImage)(file);
  }

  /** Called before the device starts. */
  protected beforeBoot(): void {
    // Most devices start with what was chosen.
  }

  /** It has started, and will answer next. */
  protected booted(): void {
    // Nothing more.
  }

  #bootable(): StoredImage {
    const { store, nextBoot } = this.persistent;
    const wanted = store.find((s) => s.name === nextBoot && s.fault === null);
    const found = wanted ?? store.find((s) => s.fault === null);
    if (!found) throw new Error(`${this.body.name} has no sound image`);
    return found;
  }
}

/** Whether one version is older than another, number by number. */
function isOlder(version: string, than: string): boolean {
  const numbers = (text: string): number[] => (text.match(/\d+/g) ?? []).map(Number);
  const [a, b] = [numbers(version), numbers(than)];
  for (let i = 0; i < Math.max(a.length, b.length); i++) if ((a[i] ?? 0) !== (b[i] ?? 0)) return (a[i] ?? 0) < (b[i] ?? 0);
  return false;
}
