import { execFileSync } from 'node:child_process';
import { appendFileSync, closeSync, cpSync, existsSync, mkdirSync, openSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { causes, type LiveEvent, type Rollout, type RunView } from '@barrow/core';
import { ProblemError, UnreachableError } from '@barrow/client';
import {
  answerFaults,
  community,
  factoryLogin,
  faultNames,
  Fleet,
  login,
  powerCommunity,
  raiseWord,
  writeScenarioImages,
  writeScenarioLibrary,
} from '@barrow/standins';
import { Loaded, loadSecondDay } from '../../packages/cli/dist/demo/data.js';
import { folder, serve, type Served, type Unruly } from './service.js';
import { addWholeNetworks } from './whole.js';

/** Numbers that are the same for the same seed (a linear congruence modulo 2^32). */
export class Dice {
  #state: number;
  constructor(seed: number) {
    this.#state = Math.imul(seed, 2654435761) + 1;
    for (let n = 0; n < 3; n++) this.next();
  }
  next(): number {
    this.#state = (Math.imul(this.#state, 1664525) + 1013904223) >>> 0;
    return this.#state / 2 ** 32;
  }
  chance = (part: number): boolean => this.next() < part;
  between = (least: number, most: number): number => least + Math.floor(this.next() * (most - least + 1));
  pick = <T>(list: readonly T[]): T => list[Math.floor(this.next() * list.length)]!;
  some = <T>(list: readonly T[], many: number): T[] =>
    list
      .map((one) => [this.next(), one] as const)
      .sort(([a], [b]) => a - b)
      .slice(0, many)
      .map(([, one]) => one);
}

/** What came of one rollout in which anything happened. */
export interface Night {
  readonly seed: number;
  readonly devices: number;
  /** What was done to it, in order. */
  readonly deeds: readonly string[];
  readonly outcomes: Readonly<Record<string, number>>;
  /** What must never be; none is as it should be. */
  readonly harm: readonly string[];
}

/** After so many of our deeds nothing more is done to it, and it is only helped to its end. */
const mostDeeds = 40;
const scale = 100;
/** The data folder has a disk of its own, so that it can be full; who may not mount one has nights without that. */
const mayMount = process.platform === 'linux' && process.getuid?.() === 0;
const diskSize = '96m';
/** A patience that no device's time and no busy machine comes near. */
const quietMs = 40_000;

/** Faults by which a device does not come back by itself, whatever anybody does. */
const keepsItDown = ['never-returns', 'hangs-at-restart', 'goes-dark', 'reboots-during-write', 'keeps-power-off'];
/** By which its flash holds something else than was sent. */
const spoils = ['cuts-file', 'damaged-in-transit', 'reboots-during-write', 'flash-full', 'doubles-badly', 'no-space'];

/** By which the flash of a device is cut off while it is written. */
const cutsWrites = ['reboots-during-write', 'goes-dark'];
/** The steps in which a device may be told what to start. */
const chooses = ['activate', 'fall-back', 'transfer', 'level'];
const secrets = [community, factoryLogin.password, login.password, powerCommunity, raiseWord];

/** The whole of the demo, as it was found; each night begins there anew. */
export class ChaosHouse {
  readonly #dir = folder();

  private constructor(readonly network: number) {}

  static async build(network: number): Promise<ChaosHouse> {
    const house = new ChaosHouse(network);
    const path = (name: string): string => join(house.#dir.path, name);
    const fleet = new Fleet({ timeScale: scale, network, stateFile: path('fleet.json') });
    await fleet.start();
    const served = await serve(path('data'), { scale });
    try {
      await addWholeNetworks(served.client, network);
      const images = writeScenarioImages(path('images'));
      const library = await writeScenarioLibrary(path('library'));
      await loadSecondDay(
        served.client,
        new Loaded(path('data')),
        images.filter((i) => !/\/(damaged|other)\//.test(i)),
        library,
      );
    } finally {
      await served.stop();
      await fleet.stop();
    }
    return house;
  }

  remove(): void {
    this.#dir.remove();
  }

  /**
   * One night: a random plan, random faults, kills, freezes and words, and then the looking.
   *
   * @param meddle done to the devices when all is over, before they are looked at
   */
  async night(seed: number, meddle: (fleet: Fleet, runs: readonly RunView[]) => void = () => undefined): Promise<Night> {
    const dice = new Dice(seed);
    const at = join(this.#dir.path, `night-${seed}`);
    mkdirSync(join(at, 'disk'), { recursive: true });
    if (mayMount) execFileSync('mount', ['-t', 'tmpfs', '-o', `size=${diskSize}`, 'tmpfs', join(at, 'disk')]);
    cpSync(join(this.#dir.path, 'data'), join(at, 'disk', 'data'), { recursive: true });
    cpSync(join(this.#dir.path, 'fleet.json'), join(at, 'fleet.json'));
    const fleet = new Fleet({ timeScale: scale, network: this.network, stateFile: join(at, 'fleet.json') });
    await fleet.start();
    const night = new OneNight(seed, dice, fleet, join(at, 'disk'));
    try {
      return await night.pass(meddle);
    } finally {
      await night.end();
      await fleet.stop();
      if (mayMount) execFileSync('umount', ['-l', join(at, 'disk')]);
      rmSync(at, { recursive: true, force: true });
    }
  }
}

class OneNight {
  readonly #deeds: string[] = [];
  readonly #harm: string[] = [];
  /** What each device was made to do wrong, ever. */
  readonly #wronged = new Map<string, Set<string>>();
  #served!: Served;
  #id = '';
  /** How the world around the service is; the same over its deaths. */
  #world: Unruly;
  /** What those logged that are dead. */
  #logged = '';
  #stops = 0;
  #hadNoRoom = false;
  /** How often in a row nothing happened for long. */
  #quiet = 0;

  constructor(
    readonly seed: number,
    readonly dice: Dice,
    readonly fleet: Fleet,
    readonly disk: string,
  ) {
    this.#world = { seed };
  }

  async end(): Promise<void> {
    await this.#served?.kill();
  }

  /** A service where there was none. */
  async #serve(): Promise<void> {
    this.#served = await serve(join(this.disk, 'data'), { scale, unruly: this.#world });
  }

  async #kill(): Promise<void> {
    await this.#served.kill();
    this.#logged += this.#served.log();
  }

  async pass(meddle: (fleet: Fleet, runs: readonly RunView[]) => void): Promise<Night> {
    const { dice } = this;
    await this.#serve();
    const before = new Map([...this.fleet.devices, ...this.fleet.fixtures].map((m) => [nameOf(m), { ...m.counters }]));
    const { client } = this.#served;
    const able = (await client.devices({ plannable: true })).map((d) => d.name);
    const devices = dice.chance(0.2) ? able : dice.some(able, dice.between(2, 16));
    const plan = await client.plan({
      devices,
      first: dice.between(0, 2),
      atOnce: dice.between(1, 8),
      perSite: dice.pick([0, 0, 2]),
      soakSeconds: dice.between(0, 1),
      failureLimit: dice.between(1, 9),
      wayBack: dice.chance(0.6),
      level: dice.chance(0.5),
      unsaved: dice.pick(['hold', 'save'] as const),
      approval: dice.chance(0.2),
    });
    this.#id = plan.id;
    this.#did(`planned ${plan.runs.length} of ${devices.length}`);
    for (const run of plan.runs) if (dice.chance(0.25)) await this.#wrong(run.name);
    await client.say(plan.id, 'start', { accept: ['all'] });
    let after = plan.journal;
    for (;;) {
      const ended = await this.#follow(after, (seq) => (after = seq));
      if (ended) break;
    }
    const view = await this.#served.client.rollout(this.#id);
    meddle(this.fleet, view.runs);
    await this.#look(view, before);
    const outcomes: Record<string, number> = {};
    for (const run of view.runs) outcomes[run.outcome ?? 'none'] = (outcomes[run.outcome ?? 'none'] ?? 0) + 1;
    return { seed: this.seed, devices: view.runs.length, deeds: this.#deeds, outcomes, harm: this.#harm };
  }

  #did(what: string): void {
    this.#deeds.push(what);
    if (process.env['CHAOS_TRACE']) appendFileSync(process.env['CHAOS_TRACE'], `${this.seed} ${new Date().toISOString()} ${what}\n`);
  }

  async #wrong(device: string): Promise<void> {
    const isFixture = this.fleet.fixtures.some((f) => f.facts.name === device);
    const fault = this.dice.pick<string>(isFixture ? answerFaults : faultNames);
    this.#wronged.set(device, (this.#wronged.get(device) ?? new Set()).add(fault));
    await this.fleet.fault(device, fault);
    this.#did(`${device}: ${fault}`);
  }

  /** Follows what happens, and does something at some of it; true when the rollout has ended. */
  async #follow(after: number, seen: (seq: number) => void): Promise<boolean> {
    const stop = new AbortController();
    const { client } = this.#served;
    // Where nothing happens for long a person looks, then stops it, and then it is one that never ends.
    const quiet = setTimeout(() => stop.abort(), quietMs);
    try {
      if ((await this.#helped()) === 'ended') return true;
      if (this.#quiet === 2) await this.#say('stopped, for nothing happened', client.say(this.#id, 'stop'));
      if (this.#quiet === 5) {
        const { phase, runs } = await client.rollout(this.#id);
        const left = runs.filter((r) => r.outcome === null).map((r) => `${r.name} ${r.phase} at ${r.step}`);
        this.#harm.push(`it came to no end: ${phase}, ${left.join(', ')}`);
        return true;
      }
      this.#quiet++;
      for await (const event of client.events({ after, signal: stop.signal })) {
        if (event.kind === 'journal') {
          this.#quiet = 0;
          quiet.refresh();
        }
        if (event.kind === 'journal') seen(event.entry.seq);
        const how = await this.#at(event);
        if (how === 'goes on') continue;
        // Who is gone is not waited for.
        stop.abort();
        return how === 'ended';
      }
    } finally {
      clearTimeout(quiet);
      stop.abort();
    }
    return false;
  }

  /** Says something of it; that it cannot be done now (who is being stopped is not stopped again) is an answer, too. */
  async #say(what: string, done: Promise<unknown>): Promise<void> {
    const how = await done.then(
      () => '',
      (error: unknown) => {
        if (error instanceof ProblemError) return ` (${error.problem.code})`;
        throw error;
      },
    );
    this.#did(`${what}${how}`);
  }

  /** What a person does so that it comes to its end. */
  async #helped(): Promise<'ended' | 'goes on'> {
    const { client } = this.#served;
    const view = await client.rollout(this.#id);
    if (view.phase === 'ended') return 'ended';
    if (view.phase === 'held') await this.#say('continued', client.say(this.#id, 'continue'));
    for (const [index, wave] of view.waves.entries())
      if (wave.gate.approval && wave.approvedBy === null && wave.phase === 'soaking')
        await this.#say(`approved wave ${index + 1}`, client.say(this.#id, 'approve', { wave: index }));
    return 'goes on';
  }

  async #at(event: LiveEvent): Promise<'ended' | 'goes on' | 'again'> {
    if (event.kind !== 'journal' && event.kind !== 'progress') return 'goes on';
    const { dice } = this;
    if (event.kind === 'journal') {
      const { kind } = event.entry.event;
      // Somebody may have had it go on since.
      if (kind === 'rollout-ended' && (await this.#served.client.rollout(this.#id)).phase === 'ended') return 'ended';
      if (kind === 'held' || kind === 'wave-ended' || kind === 'soak-ended') return this.#helped();
    }
    if (this.#deeds.length >= mostDeeds || !dice.chance(0.12)) return 'goes on';
    return this.#deed();
  }

  async #deed(): Promise<'goes on' | 'again' | 'ended'> {
    const { dice, fleet } = this;
    const { client } = this.#served;
    const what = dice.between(0, 99);
    if (what < 18) {
      this.#did('the service was killed');
      await this.#kill();
      await this.#serve();
      return 'again';
    }
    if (what < 24) {
      this.#did('the service stood still');
      this.#served.freeze();
      await this.#aWhile(1500);
      this.#served.thaw();
      return 'goes on';
    }
    if (what < 29) return this.#noRoom();
    if (what < 38) {
      this.#otherwise();
      return 'goes on';
    }
    const view = await client.rollout(this.#id);
    const open = view.runs.filter((r) => r.outcome === null);
    const one = dice.pick(open.length > 0 ? open : view.runs);
    const say = async (word: string, done: Promise<unknown>): Promise<'goes on'> => {
      const code = await done.then(
        () => 'obeyed',
        (error: unknown) => {
          // Refused in words is as good as obeyed.
          if (error instanceof ProblemError && (error.problem.status < 500 || this.#hadNoRoom)) return error.problem.code;
          if (error instanceof UnreachableError) return 'unreachable';
          throw error;
        },
      );
      this.#did(`${word}: ${code}`);
      return 'goes on';
    };
    if (what < 46) return say('hold', client.say(this.#id, 'hold', { reason: 'a look' })).then(() => this.#helped());
    if (what < 54) return say(`skip ${one.name}`, client.sayRun(this.#id, one.id, 'skip', { reason: 'thought better of it' }));
    if (what < 56) return this.#stops++ > 0 || dice.chance(0.5) ? 'goes on' : say('stop', client.say(this.#id, 'stop'));
    if (what < 68) {
      const failed = view.runs.filter((r) => r.outcome === 'failed' || r.outcome === 'not-begun');
      if (failed.length === 0) return 'goes on';
      const other = dice.pick(failed);
      const word = dice.pick(['retry', 'take-back'] as const);
      return say(`${word} ${other.name}`, client.sayRun(this.#id, other.id, word, word === 'take-back' ? { accept: ['cut-off'] } : {}));
    }
    if (what < 73) return say('note', client.say(this.#id, 'note', { text: 'seen' }));
    if (what < 86) {
      await this.#wrong(one.name);
      return 'goes on';
    }
    // Somebody mends it.
    const machine = fleet.machine(one.name);
    for (const fault of [...machine.faults]) await fleet.fault(one.name, fault, false);
    machine.powerOn();
    this.#did(`${one.name} was mended`);
    return 'goes on';
  }

  #aWhile = (mostMs: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, this.dice.between(100, mostMs)));

  /** The disk is full for a while; now and then the service is killed in that time, and cannot start before there is room. */
  async #noRoom(): Promise<'goes on' | 'again'> {
    const { dice } = this;
    const killed = dice.chance(0.3);
    const forMs = dice.between(100, 3000);
    if (!mayMount) return 'goes on';
    this.#hadNoRoom = true;
    const filler = join(this.disk, 'filler');
    const file = openSync(filler, 'w');
    const block = Buffer.alloc(65_536);
    try {
      for (let size = block.length; size >= 512;)
        try {
          writeSync(file, block, 0, size);
        } catch (error) {
          if ((error as NodeJS.ErrnoException).code !== 'ENOSPC') throw error;
          size /= 2;
        }
    } finally {
      closeSync(file);
    }
    if (killed) await this.#kill();
    await new Promise((resolve) => setTimeout(resolve, forMs));
    let started = false;
    if (killed)
      started = await this.#serve().then(
        () => true,
        () => false,
      );
    if (existsSync(filler)) rmSync(filler);
    this.#did(
      `the disk was full${killed ? `, and the service killed; it ${started ? 'started' : 'did not start'} before there was room` : ''}`,
    );
    if (killed && !started) await this.#serve();
    return killed ? 'again' : 'goes on';
  }

  /** A clock that is set, a disk that becomes slow or well again, packets that are lost and doubled, or no more. */
  #otherwise(): void {
    const { dice } = this;
    const what = dice.pick(['clock', 'disk', 'packets', 'packets'] as const);
    const worse = dice.chance(0.7);
    const change: Unruly =
      what === 'clock'
        ? { clockMs: dice.between(-7_200, 7_200) * 1000 }
        : what === 'disk'
          ? { writeMs: worse ? dice.between(5, 120) : 0 }
          : { lose: worse ? dice.between(1, 10) / 100 : 0, double: worse ? dice.between(0, 20) / 100 : 0 };
    this.#world = { ...this.#world, ...change };
    this.#served.unruly(this.#world);
    this.#did(`the world is ${JSON.stringify(change)}`);
  }

  /** Whether anything is that must never be. */
  async #look(view: Rollout, before: ReadonlyMap<string, { activations: number; restartsInWrite: number }>): Promise<void> {
    const { client } = this.#served;
    const harm = (what: string): void => void this.#harm.push(what);
    let told = JSON.stringify(await client.report(this.#id));
    for (const run of view.runs) {
      if (run.outcome === null) harm(`${run.name} has no outcome`);
      else if (!isExplained(run)) harm(`${run.name} ended ${run.outcome}, and nothing says why`);
      const { events } = await client.run(this.#id, run.id);
      told += JSON.stringify(events);
      const moments = events.map(({ event }) => event.at);
      if (moments.some((at, n) => at < (moments[n - 1] ?? 0)))
        harm(`what happened to ${run.name} is told in another order than it happened`);
      const harmed = this.#harm.length;
      const machine = this.fleet.machine(run.name);
      const wronged = this.#wronged.get(run.name) ?? new Set<string>();
      const is = (list: readonly string[]): boolean => list.some((fault) => wronged.has(fault));
      const was = before.get(run.name)!;
      const activated = machine.counters.activations - was.activations;
      const begun = events.filter(({ event }) => event.kind === 'step-begun' && chooses.includes(event.step)).length;
      if (activated > begun) harm(`${run.name} was activated ${activated} times in ${begun} steps`);
      if (machine.counters.restartsInWrite > was.restartsInWrite && !is(cutsWrites)) harm(`${run.name} was restarted while it wrote`);
      if (run.outcome === 'verified' && machine.running.version !== run.target && run.legs.at(-1)?.component === 'system')
        harm(`${run.name} is said to run ${run.target}, and runs ${machine.running.version}`);
      const next = machine.persistent.store.find((s) => s.name === machine.persistent.nextBoot);
      if (next?.fault && !is(spoils)) harm(`${run.name} would start what is ${next.fault}`);
      if (machine.state === 'dead' && !is(keepsItDown)) harm(`${run.name} is dark`);
      if (this.#harm.length > harmed)
        this.#did(`${run.name}, which was harmed: ${events.map(({ event }) => JSON.stringify(event)).join('\n    ')}`);
    }
    for (const secret of secrets) if (told.includes(secret)) harm(`what is told has a secret in it: ${secret.slice(0, 3)}…`);
    const faults = (this.#logged + this.#served.log())
      .split('\n')
      .filter((line) => /"level":(50|60)/.test(line) && !(this.#hadNoRoom && /disk is full|ENOSPC|SQLITE_FULL/.test(line)));
    for (const line of faults.slice(0, 3)) harm(`the service logged ${line.slice(0, 200)}`);
  }
}

const nameOf = (m: Fleet['devices'][number] | Fleet['fixtures'][number]): string => ('facts' in m ? m.facts.name : m.options.name);

/** Why it ended as it did is said: by a cause that is known, or in words. */
const isExplained = (run: RunView): boolean =>
  run.outcome === 'verified' || (run.cause !== null && causes.some((c) => c.code === run.cause!.code)) || (run.detail ?? '') !== '';
