import type { Kind } from '@barrow/core';
import { otherThan } from './access.js';
import type { StandIn } from './device.js';
import { sha256, type Inspection } from './image.js';
import { Machine, machineFaults, type Persistent } from './machine.js';
import { outlets } from './outlets.js';
import { Shelf } from './shelf.js';
import type { Part, Surroundings } from './surroundings.js';

/** What a simulated device is; its facts may be changed between a stop and a start. */
export interface FixtureFacts {
  readonly name: string;
  readonly site: string;
  readonly kind: Kind;
  /** null: not reachable itself, known only through its parent. */
  address: string | null;
  mac: string;
  serial: string;
  readonly maker: string;
  readonly model: string;
  readonly hardwareRevision: string;
  firmware: string;
  bootLoader: string;
}

/** Faults that can be switched on by name: those of the machine, and those of answering. */
export const answerFaults = [
  ...machineFaults,
  'silent',
  'sessions-full',
  'slow-login',
  'refuses-login',
  'wrong-clock',
  'hides-clock',
  'way-blocked',
  'never-asks',
  'asks-in-capitals',
  'asks-from-elsewhere',
  'forgets-login',
  'closes-connection',
  'restarts-transfer',
  'damaged-in-transit',
  'in-a-call',
  'keeps-power-on',
  'keeps-power-off',
  'hides-power',
  /** Its lines are held by somebody else. */
  'line-held',
  /** The last member of a stack starts what it ran before, or does not come back. */
  'member-stays-behind',
  'member-stays-away',
  'members-change-places',
] as const;
export type AnswerFault = (typeof answerFaults)[number];

export interface Door {
  close(): unknown;
}

/** Opens what a device answers at; called whenever it comes up. */
export type Doors = (fixture: Fixture) => Promise<Door[]>;

export interface FixtureOptions {
  readonly timeScale: number;
  readonly upDays: number;
  /** Made when it is first asked for. */
  readonly hostKey: () => string;
  readonly doors: Doors;
  readonly around: () => Surroundings;
  /** Switches the power of what hangs on a port or an outlet of it. */
  readonly turn: (outlet: number, on: boolean) => void;
  /** The rows of its ENTITY-MIB; null: one chassis. */
  readonly parts: ((facts: FixtureFacts) => readonly Part[]) | null;
  /** The device whose console is plugged into a line of it. */
  readonly onLine: (line: number) => StandIn | null;
  /** Those that are known only through it. */
  readonly children: () => readonly Fixture[];
  /** What it is set to from the works. */
  readonly settings: readonly string[];
  /** What survived since it last ran. */
  readonly kept: Persistent | null;
  readonly inspect?: (file: Buffer) => Inspection;
  /** The device starts with the newest file of its shelf whose header fits; the group is the version there. */
  readonly startsFrom?: RegExp;
  readonly onChange: () => void;
  /** Another number whenever a device of the fleet came up or went down. */
  readonly changes: () => number;
  readonly onState: () => void;
}

/** A simulated device behind any door: pages, a shell, standards. What it is upgraded with it truly writes and starts. */
export class Fixture extends Machine<AnswerFault> {
  /** Where it, or its children, can be given an image ahead of an upgrade. */
  readonly shelf: Shelf;
  readonly outlets = outlets(
    () => this.options.turn,
    (on) => this.faults.has(on ? 'keeps-power-on' : 'keeps-power-off'),
    () => this.faults.has('hides-power'),
  );
  #doors: Door[] = [];
  #nextLoader: string | null = null;
  /** What has become of the last member of a stack at the last start. */
  #last: { readonly away: boolean; readonly swapped: boolean; readonly firmware: string | null } = {
    away: false,
    swapped: false,
    firmware: null,
  };

  constructor(
    readonly facts: FixtureFacts,
    readonly options: FixtureOptions,
  ) {
    const { name, model, hardwareRevision, firmware } = facts;
    const own = {
      name: `own-${firmware}`,
      version: firmware,
      sha256: sha256(Buffer.from(`${model} ${firmware}`)),
      bytes: 96 * 1024,
      fault: null,
    };
    super({
      name,
      model,
      hardwareRevision,
      variant: '',
      timeScale: options.timeScale,
      upDaysAtStart: options.upDays,
      initial: options.kept ?? { store: [own], nextBoot: own.name, keptSettings: [...options.settings], boots: 3, hostKey: '' },
      unsaved: [],
      ...(options.inspect ? { inspect: options.inspect } : {}),
      onChange: options.onChange,
      onState: options.onState,
    });
    if (options.kept) facts.firmware = this.running.version;
    this.shelf = new Shelf(facts.kind === 'controller' ? 300 * 1024 : 512 * 1024);
    if (facts.kind === 'controller') {
      this.shelf.hold(`own-${facts.firmware}.simg`, 96 * 1024, 'running');
      this.shelf.hold('fa310-9.1.0.simg', 120 * 1024, 'old');
    }
  }

  get hostKey(): string {
    return (this.persistent.hostKey ||= this.options.hostKey());
  }

  /** The rows of its ENTITY-MIB: one chassis unless the scenario says otherwise. */
  get parts(): readonly Part[] {
    const { facts } = this;
    const told = this.options.parts?.(facts);
    if (told && told.length > 2) {
      const last = told.at(-1)!;
      const others = told.slice(0, -1);
      // The last two have each other's number.
      if (this.#last.swapped) {
        const before = told.at(-2)!;
        return [...told.slice(0, -2), { ...before, serial: last.serial }, { ...last, serial: before.serial }];
      }
      return this.#last.away ? others : [...others, { ...last, firmware: this.#last.firmware ?? last.firmware }];
    }
    return (
      told ?? [
        {
          index: 1,
          description: `${facts.maker} ${facts.model}`,
          class: 3,
          containedIn: 0,
          name: facts.name,
          hardware: facts.hardwareRevision,
          loader: facts.bootLoader,
          firmware: facts.firmware,
          serial: facts.serial,
          maker: facts.maker,
          model: facts.model,
        },
      ]
    );
  }

  login(accepted: boolean): boolean {
    const may = accepted && !this.faults.has('refuses-login');
    if (may) this.counters.logins++;
    else this.counters.refusedLogins++;
    return may;
  }

  /** Writes an image and has it started next; a boot loader is exchanged at the next start. @throws Error in its own words */
  async install(name: string, file: Buffer): Promise<void> {
    const unfit = this.unfit(file);
    if (unfit !== null) throw new Error(unfit);
    const found = this.look(file);
    if (found.fault === null && found.component === 'boot-loader') {
      this.counters.writesBegun++;
      await this.wait(4);
      this.counters.writesDone++;
      this.#nextLoader = found.version;
      return;
    }
    await this.write(name, file, () => undefined);
    this.choose(name);
  }

  /** It answers, and restarts a moment later. */
  restartSoon(): void {
    void this.wait(1).then(() => this.restart());
  }

  protected factorySettings(): string[] {
    return this.options.settings.slice(0, 1);
  }

  protected async open(): Promise<void> {
    if (this.facts.address !== null && !this.faults.has('silent')) this.#doors = await this.options.doors(this);
  }

  protected async close(): Promise<void> {
    const doors = this.#doors.splice(0);
    await Promise.all(doors.map((d) => d.close()));
  }

  protected override beforeBoot(): void {
    const { startsFrom } = this.options;
    const staged = startsFrom && this.shelf.files.findLast((file) => file.use === 'staged' && file.content !== null);
    const version = staged && startsFrom.exec(staged.content!.toString('latin1'))?.[1];
    if (!staged || version === undefined) return;
    const { name, bytes, sha256 } = staged;
    this.persistent.store.push({ name, version, sha256, bytes, fault: null });
    this.persistent.nextBoot = name;
  }

  protected override booted(): void {
    const behind = this.faults.has('member-stays-behind');
    const swapped = this.faults.has('members-change-places');
    this.#last = {
      away: this.faults.has('member-stays-away'),
      swapped,
      firmware: behind ? (this.#last.firmware ?? this.facts.firmware) : null,
    };
    if (this.faults.has('returns-elsewhere') && this.facts.address !== null) this.facts.address = otherThan(this.facts.address);
    this.facts.firmware = this.running.version;
    this.facts.bootLoader = this.#nextLoader ?? this.facts.bootLoader;
    this.#nextLoader = null;
    // What it was given to start with is no longer aside.
    for (const { name, use } of this.shelf.files) if (use === 'staged' && name === this.running.name) this.shelf.drop(name);
  }

  /** Closes its doors and opens them again, without a restart. */
  async reopen(): Promise<void> {
    await this.close();
    await this.open();
  }
}
