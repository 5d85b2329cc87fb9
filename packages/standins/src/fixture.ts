import type { Kind } from '@barrow/core';
import { Shelf } from './shelf.js';
import type { Part, Surroundings } from './surroundings.js';

/** What a simulated device that is only looked at is; its facts may be changed between a stop and a start. */
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
  readonly bootLoader: string;
}

/** Faults of answering, which can be switched on by name. */
export const answerFaults = [
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
] as const;
export type AnswerFault = (typeof answerFaults)[number];

export interface Door {
  close(): unknown;
}

/** Opens what a device answers at; called whenever it comes up. */
export type Doors = (fixture: Fixture) => Promise<Door[]>;

/** A simulated device that answers and is never upgraded: it says what it is, and counts who asked. */
export class Fixture {
  readonly faults = new Set<AnswerFault>();
  readonly counters = { logins: 0, refusedLogins: 0, located: 0 };
  /** Where it, or its children, can be given an image ahead of an upgrade. */
  readonly shelf: Shelf;
  state: 'off' | 'up' = 'off';
  #doors: Door[] = [];
  readonly #startedAt = Date.now();

  constructor(
    readonly facts: FixtureFacts,
    readonly options: {
      readonly timeScale: number;
      readonly upDays: number;
      readonly hostKey: () => string;
      readonly doors: Doors;
      readonly around: () => Surroundings;
      readonly parts: readonly Part[] | null;
      /** Those that are known only through it. */
      readonly children: () => readonly Fixture[];
    },
  ) {
    this.shelf = new Shelf(facts.kind === 'controller' ? 300 * 1024 : 512 * 1024);
    if (facts.kind === 'controller') {
      this.shelf.hold(`own-${facts.firmware}.simg`, 96 * 1024, 'running');
      this.shelf.hold('fa310-9.1.0.simg', 120 * 1024, 'old');
    }
  }

  get upSeconds(): number {
    return this.options.upDays * 86_400 + ((Date.now() - this.#startedAt) / 1000) * this.options.timeScale;
  }

  /** The rows of its ENTITY-MIB: one chassis unless the scenario says otherwise. */
  get parts(): readonly Part[] {
    const { facts } = this;
    return (
      this.options.parts ?? [
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

  async start(): Promise<void> {
    if (this.state === 'up') return;
    this.state = 'up';
    if (this.facts.address !== null && !this.faults.has('silent')) this.#doors = await this.options.doors(this);
  }

  async stop(): Promise<void> {
    this.state = 'off';
    const doors = this.#doors.splice(0);
    await Promise.all(doors.map((d) => d.close()));
  }

  async restart(): Promise<void> {
    await this.stop();
    await this.start();
  }
}
