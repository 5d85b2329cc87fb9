import {
  apply,
  tookOf,
  CauseError,
  check,
  checkWord,
  decide,
  currentStep,
  eventOf,
  initialState,
  legAt,
  legsOf,
  passageOf,
  readPlan,
  rungOf,
  safeText,
  stepsOf,
  whyWaiting,
  type Instant,
  type Plan,
  type PlannedRun,
  type PlannedStep,
  type RolloutEvent,
  type RolloutSummary,
  type StepName,
  type JournalEntry,
} from '@barrow/core';
import { compiledFamily, fillSent, parseFamily, throughParent, wayNamed, type AskPerson, type Family } from '@barrow/families';
import { ownMissed, ownNow, ownPause } from '@barrow/wire';
import { z } from 'zod';
import type { Context } from '../context.js';
import { goOnFrom, resync, steadyBegin, steadyNow } from '../steady.js';
import { machineStart } from '../data/holder.js';
import {
  ConversationEntity,
  DeviceEntity,
  ImageEntity,
  MarkEntity,
  RolloutEntity,
  type AppointmentRow,
  type DeviceRow,
} from '../data/entities.js';
import { isNoRoom } from '../data/database.js';
import { notFound, Refusal } from '../errors.js';
import type { Devices } from '../devices/devices.js';
import type { ImageStore } from '../images/store.js';
import type { Offers } from '../staging/offers.js';
import type { Deliveries } from '../staging/deliveries.js';
import type { Transfers } from '../staging/transfers.js';
import type { Watches } from '../staging/watch.js';
import { toldValues } from '../staging/told.js';
import type { ActiveRollout } from './active.js';
import type { Backups } from './backups.js';
import type { Holdings } from './holdings.js';
import type { Durations } from './durations.js';
import type { Journal } from './journal.js';
import { ByHandWork, LeftUnanswered, type Said } from './by-hand.js';
import { learnAfterFailure } from './learn.js';
import { reconcile } from './reconcile.js';
import { isReset } from './steps/set-up.js';
import { hideInDetail } from '../touch/secrets.js';
import type { Use } from '../touch/procedure.js';
import type { Expected } from './expected.js';
import { lookAgain, type InContext } from './settling.js';
import { Soaks } from './soaks.js';
import type { MapService } from '../map/map.js';
import { doubtPause, longestDoubt } from '../touch/doubts.js';
import { giveAddress } from '../touch/console.js';
import { findAgain } from '../touch/find.js';
import { signOfLife } from '../touch/alive.js';
import { snmpAnew } from '../touch/running-time.js';
import { once, Touch } from '../touch/touch.js';
import { earlierTraceOf, traceOf, Trails, type StepTrace } from './trail.js';
import { ChecksFailed } from './steps/checks.js';
import { preflightFacts } from './steps/before.js';
import { steps } from './steps/index.js';
import { lastNumber } from '../touch/outlets.js';
import { changingLines, sendWord, shownValues } from './shown-lines.js';
import type { StepContext, StepResult } from './steps/step.js';
import { summaryView } from './view.js';

export interface RunnerParts {
  readonly devices: Devices;
  readonly images: ImageStore;
  readonly offers: Offers;
  readonly transfers: Transfers;
  readonly watches: Watches;
  readonly deliveries: Deliveries;
  readonly backups: Backups;
  readonly journal: Journal;
  readonly durations: Durations;
  readonly map: MapService;
  readonly expected: Expected;
}

/** The longest span that a timer of Node.js takes; a longer one would fire at once. */
const longestTimer = 2 ** 31 - 1;

const notKept = (why: string): Refusal =>
  new Refusal(
    503,
    'journal-not-written',
    'It was not kept, and nothing was done',
    `The journal cannot be written: ${why}.`,
    'Make room on the disk of the data folder. What was under way goes on by itself then; say this again.',
  );

/** A gap of our own during a step after which its failure says nothing of the device, in milliseconds. */
const longAway = 3000;

/** The state of a rollout is kept each time when so much has happened. */
const keepEvery = 5000;

/** Who was not there, and who is armed, is asked so often, in milliseconds of its own time; and so many at once. */
const askEvery = { absent: 30_000, armed: 300_000 } as const;
const askAtOnce = 8;

/** Percentages are told at most this often for one run. */
const tellEvery = 250;

/** Whether with a word devices are in hand that were not. */
const takesDevices = ({ kind }: RolloutEvent): boolean =>
  kind === 'rollout-started' || kind === 'run-retried' || kind === 'take-back-asked';

/** It is there, and cannot be asked. */
const answersToNobody: readonly string[] = ['host-key-changed', 'login-refused', 'login-lost', 'locked-out', 'credential-suspended'];

/** Where the time began by which waits are measured. */
const steadyMark = 'steady-time';
const steadyShape = z.object({ wall: z.number(), machine: z.number(), boot: z.string().nullable() });

const isUnderWay = ({ state }: ActiveRollout): boolean => state.phase !== 'planned' && state.phase !== 'ended';

/** Drives rollouts: journals first, applies, then carries out what the scheduler decided. It decides nothing itself. */
export class Runner {
  readonly #rollouts = new Map<string, ActiveRollout>();
  #stopping = false;
  #takes: Promise<void> = Promise.resolve();
  readonly #askTimers = new Map<keyof typeof askEvery, NodeJS.Timeout>();
  readonly #byHand = new ByHandWork();

  #parts!: RunnerParts;
  #soaks!: Soaks;
  /** Rollouts whose soak is being judged. */
  readonly #judging = new Map<string, AbortController>();
  #heard: (active: ActiveRollout) => void = () => undefined;
  #heeded: (active: ActiveRollout, entry: JournalEntry) => void = () => undefined;
  #begins: (rollout: string) => AppointmentRow | null = () => null;

  constructor(
    private readonly context: Context,
    private readonly holdings: Holdings,
  ) {
    holdings.nameBy(({ rollout, run }) => {
      const active = this.#rollouts.get(rollout);
      const index = active?.state.indexOf.get(run);
      if (!active || index === undefined) return null;
      const { name } = active.plan.runs[index]!;
      return active.state.runs[index]!.phase === 'ended' ? `${name} (failed: retry it, or release it)` : name;
    });
    context.doubts.leaveAlone(() => this.#troubled(''));
    holdings.onRelease(() => this.#look());
    context.live.listen((event) => {
      if (event.kind === 'changed' && event.what === 'devices') void this.#releaseSeen();
    });
  }

  /** Gives the runner what its steps work with; once, before anything else. */
  use({ devices, images, offers, transfers, watches, deliveries, backups, journal, durations, map, expected }: RunnerParts): void {
    this.#parts = { devices, images, offers, transfers, watches, deliveries, backups, journal, durations, map, expected };
    this.#soaks = new Soaks(this.context, devices);
  }

  /** Tells somebody of each entry of a journal, after it was applied. */
  onEntry(heeded: (active: ActiveRollout, entry: JournalEntry) => void): void {
    this.#heeded = heeded;
  }

  /** All rollouts that have begun and not ended. */
  underWay(): readonly ActiveRollout[] {
    return [...this.#rollouts.values()].filter(isUnderWay);
  }

  /** Tells somebody, after each thing that happened, in which rollout it was. */
  onHappened(heard: (active: ActiveRollout) => void): void {
    this.#heard = heard;
  }

  /** Who knows when rollouts begin by themselves. */
  beginsBy(of: (rollout: string) => AppointmentRow | null): void {
    this.#begins = of;
  }

  /** Folds the journal of every rollout that had not ended; nothing is begun. */
  async load(): Promise<void> {
    for (const row of await this.context.db.find(RolloutEntity, { ended: false }, { fields: ['id'] })) {
      const { fault } = await this.#load(row.id);
      if (fault !== null) this.context.log.error({ rollout: row.id, fault }, 'a rollout cannot go on');
    }
    const underWay = this.underWay();
    if (underWay.length > 0) {
      const kept = await this.context.db.findOne(MarkEntity, { name: steadyMark });
      const before = steadyShape
        .nullable()
        .catch(null)
        .parse(kept && JSON.parse(kept.value));
      goOnFrom(before, machineStart(), Math.max(...underWay.map((r) => r.lastAt)));
    }
    await this.#keepSteady();
  }

  /** So that a service that is started again measures by the same time. */
  async #keepSteady(): Promise<void> {
    const value = JSON.stringify(steadyBegin(machineStart()));
    await this.context.db.writeSurely(async (em) => em.upsert(MarkEntity, { name: steadyMark, value }));
  }

  /** Takes up again what was loaded and had been started. */
  async resume(): Promise<void> {
    for (const [id, active] of this.#rollouts) {
      if (active.state.phase === 'planned' || active.state.phase === 'ended' || active.fault !== null) continue;
      this.context.log.info({ rollout: id, phase: active.state.phase }, 'rollout taken up again');
      this.#serial(active, async () => {
        await this.#happen(active, [{ kind: 'service-started', at: steadyNow() }]);
        await this.#tick(active);
      }).catch((error: unknown) => {
        if (!this.#stopping)
          this.#stopFor(active, `it could not be taken up again: ${error instanceof Error ? error.message : String(error)}`);
      });
    }
  }

  /** @throws Refusal */
  async get(id: string): Promise<ActiveRollout> {
    const known = this.#rollouts.get(id);
    if (known) return known;
    return this.#load(id);
  }

  /** @throws Refusal */
  async #load(id: string): Promise<ActiveRollout> {
    // As text: a plan is of megabytes, and is read once.
    const [row] = await this.context.db.select<KeptPlan>(
      'select id, name, created_at as "createdAt", created_by as "createdBy", plan from rollout where id = ?',
      [id],
    );
    if (!row) throw notFound('rollout', id, '`barrow rollout list` shows what was planned.');
    const { journal } = this.#parts;
    const { plan, fault } = planIn(row);
    const kept = fault === null ? await journal.keptOf(id, plan) : null;
    const { entries, unreadable } = await journal.of(id, kept ?? undefined);
    const already = this.#rollouts.get(id);
    if (already) return already;
    const active: ActiveRollout = {
      plan,
      state: kept?.state ?? initialState(plan),
      trails: new Trails(
        (run) => legsOf(plan, plan.runs[active.state.indexOf.get(run)!]!).length,
        async (run) => (await journal.ofRun(id, run)).entries,
      ),
      familyOf: familiesOf(plan, this.context),
      percent: new Map(),
      delayed: new Map(),
      questions: new Map(),
      shown: new Set(),
      doing: new Map(),
      lastAt: entries.at(-1)?.event.at ?? (await journal.lastAtOf(id)),
      seq: entries.at(-1)?.seq ?? kept?.seq ?? 0,
      kept: kept?.state.events ?? 0,
      fault: fault ?? unreadable,
      begins: () => this.#begins(id),
      unwritten: () => this.context.db.trouble,
      waits: (index) => {
        const delayed = active.delayed.get(plan.runs[index]!.id);
        if (delayed !== undefined) return { text: `waits: ${delayed}`, until: null };
        return whyWaiting(active.state, index, this.holdings.ledger, this.holdings.nameOf, Date.now(), steadyNow());
      },
      chain: Promise.resolve(),
      wake: null,
    };
    for (const { seq, event } of fault === null ? entries : []) {
      const why = check(active.state, event);
      if (why !== null) {
        active.fault = `entry ${seq} of its journal says "${event.kind}", and that cannot be: ${why}`;
        break;
      }
      active.state = apply(active.state, event);
    }
    this.#rollouts.set(id, active);
    if (isUnderWay(active)) this.holdings.ledger.add(active.state);
    if (active.fault === null && active.state.events - active.kept >= keepEvery) void this.#keep(active);
    return active;
  }

  /** Keeps the state as it is, so that the next start need not fold all that led to it. */
  async #keep(active: ActiveRollout): Promise<void> {
    const { plan, seq, state } = active;
    active.kept = state.events;
    await this.#parts.journal
      .keep(plan.id, seq, state)
      .catch((error: unknown) => this.context.log.warn({ error, rollout: plan.id }, 'the state of a rollout was not kept; its journal is'));
  }

  /** Keeps a new plan. */
  async add(plan: Plan): Promise<ActiveRollout> {
    const { id, name, createdAt, createdBy } = plan;
    await this.context.db.write(async (em) =>
      em.insert(RolloutEntity, { id, name, createdAt, createdBy, plan, ended: false, summary: null }),
    );
    this.context.live.changed('rollouts');
    return this.get(id);
  }

  /** The newest rollouts: those that ended from their row, the others as they stand. */
  async summaries(most: number): Promise<RolloutSummary[]> {
    const rows = await this.context.db.find(
      RolloutEntity,
      {},
      { orderBy: { createdAt: 'desc' }, limit: most, fields: ['id', 'createdAt', 'ended', 'summary'] },
    );
    return Promise.all(
      rows.map(async (row) => {
        if (row.summary) return row.summary;
        const summary = summaryView(await this.get(row.id));
        if (row.ended) await this.context.db.write(async (em) => em.nativeUpdate(RolloutEntity, { id: row.id, ended: true }, { summary }));
        return summary;
      }),
    );
  }

  /** The rollout in which a device is being upgraded, or will be as soon as its turn comes. */
  rolloutOf(device: string): string | null {
    for (const [id, { state }] of this.#rollouts) {
      if (state.phase === 'planned' || state.phase === 'ended') continue;
      const index = state.indexOf.get(device);
      if (index !== undefined && state.runs[index]!.phase !== 'ended') return id;
    }
    return null;
  }

  /** Why an image must stay, or null. */
  neededBy(sha256: string): string | null {
    for (const { plan, state } of this.#rollouts.values())
      // A plan that was never started holds nothing: its preflight names what is missing.
      if (state.phase !== 'planned' && state.phase !== 'ended' && plan.runs.some((r) => imagesOf(plan, r).includes(sha256)))
        return `the rollout "${plan.name}" needs it`;
    return null;
  }

  /**
   * Lets a person's word happen: start, hold, continue, stop, approve, skip, retry, note.
   * @throws Refusal when it cannot happen now; nothing is journalled then.
   */
  async say(id: string, event: RolloutEvent): Promise<ActiveRollout> {
    const active = await this.get(id);
    this.#refuseStuck(active);
    const work = (): Promise<void> =>
      this.#serial(active, async () => {
        if (takesDevices(event)) this.#refuseBusyDevices(active, id, event);
        // A clock that was set while nothing ran is the one that counts from here on.
        if (event.kind === 'rollout-started' && this.underWay().length === 0 && resync()) await this.#keepSteady();
        const why = checkWord(active.state, event);
        if (why !== null)
          throw new Refusal(
            409,
            'rollout-not-so',
            'That cannot be done now',
            // A name is spelt as it is.
            active.plan.runs.some((r) => why.startsWith(r.name)) ? `${why}.` : `${why[0]!.toUpperCase()}${why.slice(1)}.`,
            event.kind === 'stop-asked' && active.state.phase === 'planned'
              ? `\`barrow rollout discard ${id}\` forgets a plan that was not started.`
              : `\`barrow rollout show ${id}\` shows how it stands.`,
          );
        try {
          await this.#happen(active, [event], false);
        } catch (error) {
          throw isNoRoom(error) ? notKept((error as Error).message) : error;
        }
        this.#letHandsRest(active, event);
        await this.#tick(active);
      });
    // Who takes devices does so one after the other: two that begin at once must not take the same one.
    if (takesDevices(event)) await (this.#takes = this.#takes.then(work, work));
    else await work();
    return active;
  }

  /** A person has done what was asked, or answers. @throws Refusal when that is not asked of anybody for this device */
  async done(id: string, run: string, said: Said): Promise<ActiveRollout> {
    const active = await this.get(id);
    this.#refuseStuck(active);
    const { name } = active.plan.runs[active.state.indexOf.get(run)!]!;
    const question = this.#byHand.questionOf(id, run);
    switch (this.#byHand.say(id, run, said)) {
      case null:
        return active;
      case 'asked-to-tell':
        throw new Refusal(
          409,
          'answer-missing',
          'An answer is waited for',
          `For ${name} it is asked: ${question!.words}`,
          `Answer it: \`barrow rollout answer ${id} ${name} ANSWER\`.`,
        );
      case 'does-not-fit':
        throw new Refusal(
          422,
          'answer-unfit',
          'The answer cannot be that',
          `For ${name} it is asked: ${question!.words} An answer looks like ${question!.like ?? `\`${question!.fits!}\``}.`,
          'Look again at what is asked for, and answer once more. Nothing was sent to the device.',
        );
      case 'nothing-asked':
        throw new Refusal(
          409,
          'nothing-asked',
          'Nothing is waited for',
          `Nobody is asked to ${said.answer == null ? 'do anything by hand' : 'answer anything'} for ${name} now.`,
          `\`barrow rollout show ${id}\` shows how it stands.`,
        );
    }
  }

  /** What nobody has to do any more is not waited for: who is to be left out, or all of a rollout that is stopped. */
  #letHandsRest({ plan, state }: ActiveRollout, event: RolloutEvent): void {
    if (event.kind !== 'skip-asked' && event.kind !== 'stop-asked') return;
    const [runs, why] =
      event.kind === 'skip-asked' ? [[event.run], event.reason] : [this.#byHand.runsOf(plan.id), 'the rollout was stopped'];
    for (const run of runs) {
      if (state.runs[state.indexOf.get(run)!]!.pastReturn) continue;
      const said = this.#byHand.questionOf(plan.id, run)
        ? { note: `${why}; nobody answered what was asked`, answer: null, stops: event.kind === 'stop-asked' }
        : { note: 'not done: it is left out' };
      this.#byHand.say(plan.id, run, { by: event.by, ...said });
    }
  }

  /** @throws Refusal when nothing that is said to this rollout could be kept. */
  #refuseStuck(active: ActiveRollout): void {
    if (active.fault !== null)
      throw new Refusal(
        409,
        'rollout-faulty',
        'This rollout cannot go on',
        `${active.fault[0]!.toUpperCase()}${active.fault.slice(1)}.`,
        `Look at its devices, then release them: \`barrow rollout discard ${active.plan.id}\`. Report it with the log: this is a fault of Barrow.`,
      );
    const { trouble } = this.context.db;
    if (trouble) throw notKept(trouble.detail);
  }

  /** Forgets a plan that was never started, or gives up a rollout whose journal cannot be followed. @throws Refusal */
  async discard(id: string): Promise<ActiveRollout> {
    const active = await this.get(id);
    await this.#serial(active, async () => {
      const planned = active.state.phase === 'planned' && active.fault === null;
      if (!planned && active.fault === null)
        throw new Refusal(
          409,
          'rollout-not-so',
          'That cannot be done now',
          `The rollout was started: it is ${active.state.phase}.`,
          `\`barrow rollout stop ${id}\` ends it early; what has ended stays, as evidence.`,
        );
      await this.context.db.write(async (em) =>
        planned ? em.nativeDelete(RolloutEntity, { id }) : em.nativeUpdate(RolloutEntity, { id }, { ended: true }),
      );
      this.#rollouts.delete(id);
      this.holdings.ledger.remove(id);
    });
    this.holdings.letGo();
    this.context.live.changed('rollouts');
    return active;
  }

  /** A device is in at most one running rollout at a time. */
  #refuseBusyDevices(active: ActiveRollout, id: string, event: RolloutEvent): void {
    const runs = 'run' in event ? active.plan.runs.filter((r) => r.id === event.run) : active.plan.runs;
    const busy = runs.flatMap((run) => {
      const other = this.rolloutOf(run.device);
      return other !== null && other !== id ? [`${run.name} (${other})`] : [];
    });
    if (busy.length > 0)
      throw new Refusal(
        409,
        'device-in-rollout',
        'Devices are in another rollout',
        `${busy.slice(0, 5).join(', ')}${busy.length > 5 ? ` and ${busy.length - 5} more` : ''}.`,
        'Wait for that rollout to end, or stop it, then start this one.',
      );
  }

  /** Stops without leaving anything half-done: writes are finished, runs are parked between steps, waiting is given up. */
  async stop(): Promise<void> {
    this.#stopping = true;
    for (const abort of this.#judging.values()) abort.abort();
    await this.#soaks.stop();
    for (const timer of this.#askTimers.values()) clearTimeout(timer);
    const running = [...this.#rollouts.values()].filter((a) => a.state.phase !== 'planned' && a.state.phase !== 'ended');
    await Promise.all(
      running.map(async (active) => {
        if (active.wake) clearTimeout(active.wake);
        await this.#serial(active, async () => {
          // What is not kept of this is known from the journal at the next start all the same.
          await this.#happen(active, [{ kind: 'service-stopping', at: steadyNow() }], false).catch((error: unknown) =>
            this.context.log.error({ error, rollout: active.plan.id }, 'that the service stops could not be written down'),
          );
          active.state.draining = true;
          for (const [id, { abort }] of active.doing) {
            const index = active.state.indexOf.get(id)!;
            const { stoppable, waits } = currentStep(active.state, index);
            if (waits || (stoppable && !active.state.runs[index]!.pastReturn)) abort.abort();
          }
          await this.#tick(active);
        });
        while (active.doing.size > 0) {
          this.context.log.info({ rollout: active.plan.id, runs: [...active.doing.keys()] }, 'finishing what must not be cut');
          await Promise.all([...active.doing.values()].map((d) => d.done));
          await active.chain;
        }
        if (active.state.events > active.kept && active.fault === null) await this.#keep(active);
      }),
    );
  }

  #serial<T>(active: ActiveRollout, work: () => Promise<T>): Promise<T> {
    const done = active.chain.then(work);
    active.chain = done.catch(() => undefined);
    return done;
  }

  /** Journal first, then believe it, then tell it. What cannot follow is never written: it stops this rollout. */
  async #happen(active: ActiveRollout, events: readonly RolloutEvent[], surely = true): Promise<void> {
    for (const event of events) {
      // The journal's own times never go backwards, whatever a clock does between two starts.
      event.at = active.lastAt = Math.max(event.at, active.lastAt);
      const why = check(active.state, event);
      if (why !== null) return this.#stopFor(active, `"${event.kind}" was to be written down, and that cannot be: ${why}`);
    }
    const entries = await this.#parts.journal.append(active.plan.id, events, surely);
    const before = this.holdings.ledger.releases;
    const taken = entries.flatMap(({ event }) => tookOf(active.state, event) ?? []);
    for (const entry of entries) {
      active.state = apply(active.state, entry.event);
      this.holdings.ledger.follow(active.state, entry.event);
      active.seq = entry.seq;
      if ('run' in entry.event && entry.event.run !== undefined) {
        const { run } = entry.event;
        active.trails.follow(run, entry, active.state.runs[active.state.indexOf.get(run)!]?.phase === 'ended');
      }
      this.#parts.journal.told(entry.seq);
      this.context.live.tell({ kind: 'journal', entry });
      this.#heeded(active, entry);
    }
    this.#parts.durations.keep(taken, steadyNow());
    if (active.state.events - active.kept >= keepEvery) void this.#keep(active);
    for (const those of ['absent', 'armed'] as const) if (active.state[those].size > 0) this.#keepAsking(those);
    if (events.some((e) => e.kind === 'rollout-started' || e.kind === 'rollout-ended' || e.kind === 'run-retried'))
      this.context.live.changed('rollouts');
    if (this.holdings.ledger.releases !== before) this.holdings.letGo();
    this.#heard(active);
  }

  /** Who failed and was seen since by a discovery is neither down nor writing any more. */
  async #releaseSeen(): Promise<void> {
    for (const active of this.#rollouts.values()) {
      if (!isUnderWay(active) || active.fault !== null || this.#stopping) continue;
      const guarded = active.state.runs.flatMap((run, i) => (run.phase === 'ended' && run.claims ? [active.plan.runs[i]!] : []));
      if (guarded.length === 0) continue;
      const rows = await this.context.db.find(DeviceEntity, { id: { $in: guarded.map((r) => r.device) } }, { fields: ['id', 'lastSeen'] });
      const seen = new Map(rows.map((r) => [r.id, r.lastSeen]));
      for (const { id, device } of guarded)
        await this.#serial(active, async () => {
          const run = active.state.runs[active.state.indexOf.get(id)!]!;
          if (run.phase !== 'ended' || !run.claims || (seen.get(device) ?? 0) <= run.endedAt!) return;
          await this.#happen(active, [{ kind: 'run-released', at: steadyNow(), run: id, by: 'Barrow', reason: 'it was seen again' }]);
        });
    }
  }

  /**
   * Asks again and again, in every rollout under way, as long as there are any: those that were not there whether they are, and those
   * that are armed whether they have restarted, for a restart of whatever cause takes what they hold.
   */
  #keepAsking(those: keyof typeof askEvery): void {
    if (this.#askTimers.has(those)) return;
    const timer = setTimeout(
      () => {
        this.#askTimers.delete(those);
        void (those === 'absent' ? this.#askAbsent() : this.#askArmed())
          .catch((error: unknown) => this.context.log.error({ error }, `those that are ${those} could not be asked`))
          .finally(() => {
            if (!this.#stopping && [...this.#rollouts.values()].some((a) => isUnderWay(a) && a.state[those].size > 0))
              this.#keepAsking(those);
          });
      },
      Math.max(500, askEvery[those] / this.context.options.timeScale),
    );
    timer.unref();
    this.#askTimers.set(those, timer);
  }

  async #askAbsent(): Promise<void> {
    const { db } = this.context;
    for (const active of this.#rollouts.values()) {
      if (!isUnderWay(active) || active.fault !== null || active.state.absent.size === 0) continue;
      const runs = [...active.state.absent].map((index) => active.plan.runs[index]!);
      const rows = new Map((await db.find(DeviceEntity, { id: { $in: runs.map((r) => r.device) } })).map((r) => [r.id, r]));
      const queue = [...runs];
      const next = async (): Promise<void> => {
        for (let run = queue.shift(); run && !this.#stopping; run = queue.shift()) {
          const row = rows.get(run.device);
          const family = active.familyOf(run.family);
          const { absences, absentSince, cause } = active.state.runs[active.state.indexOf.get(run.id)!]!;
          const again = cause !== 'unreachable' || absences > 1;
          const due = absentSince! + (again ? (askEvery.absent * 2 ** (absences - 1)) / this.context.options.timeScale : 0);
          if (!row || !family || steadyNow() < due) continue;
          if (!(await signOfLife(this.context, row, family, 1000, 1)).answers) continue;
          const detail = cause === 'unreachable' ? `it answers at ${row.address}` : 'it is asked again';
          const event: RolloutEvent = { kind: 'run-seen', at: steadyNow(), run: run.id, detail };
          await this.#serial(active, async () => {
            if (this.#stopping || active.fault !== null || check(active.state, event) !== null) return;
            await this.#happen(active, [event]);
            await this.#tick(active);
          });
        }
      };
      await Promise.all(Array.from({ length: Math.min(askAtOnce, runs.length) }, next));
    }
  }

  async #askArmed(): Promise<void> {
    for (const active of this.#rollouts.values()) {
      if (!isUnderWay(active) || active.fault !== null) continue;
      const queue = [...active.state.armed];
      const next = async (): Promise<void> => {
        for (let index = queue.shift(); index !== undefined && !this.#stopping; index = queue.shift()) {
          const run = active.plan.runs[index]!;
          const detail = await this.#takenEarly(active, run, currentStep(active.state, index).leg);
          const event: RolloutEvent = { kind: 'taken-early', at: steadyNow(), run: run.id, detail: detail ?? '' };
          if (detail !== null)
            await this.#serial(active, async () => {
              if (this.#stopping || active.fault !== null || check(active.state, event) !== null) return;
              await this.#happen(active, [event]);
              await this.#tick(active);
            });
        }
      };
      await Promise.all(Array.from({ length: Math.min(askAtOnce, queue.length) }, next));
    }
  }

  /** Whether an armed device counts more boots than before it was armed; who does not answer is asked again, or at its hour. */
  async #takenEarly(active: ActiveRollout, run: PlannedRun, leg: number): Promise<string | null> {
    const row = await this.context.db.findOne(DeviceEntity, { id: run.device });
    const family = active.familyOf(run.family);
    const trail = await active.trails.of(run.id);
    const before = preflightFacts({ trail: { get: (name) => traceOf(trail, name, leg) } })?.running.bootCount;
    if (!row || !family || before == null) return null;
    const doors = run.via === undefined ? { row, family } : await this.#doorsOf(active, run.via, family);
    const boots = await once(this.context, doors.row, doors.family, 'record').then(
      ({ gives }) => Number(gives['bootCount']),
      () => NaN,
    );
    return boots > before ? `it counts ${boots} boots, and counted ${before} before` : null;
  }

  /** Decides again for every rollout under way: what somebody let go, another may be waiting for. */
  #look(): void {
    for (const active of this.#rollouts.values())
      if (isUnderWay(active) && active.fault === null && !this.#stopping)
        this.#serial(active, () => this.#tick(active)).catch((error: unknown) =>
          this.#stopFor(active, `what was due could not be done: ${error instanceof Error ? error.message : String(error)}`),
        );
  }

  #stopFor(active: ActiveRollout, fault: string): void {
    if (active.fault !== null) return;
    active.fault = fault;
    this.context.log.error({ rollout: active.plan.id, fault }, 'a rollout cannot go on');
    this.context.live.changed('rollouts');
  }

  async #tick(active: ActiveRollout): Promise<void> {
    if (active.wake) clearTimeout(active.wake);
    active.wake = null;
    while (active.fault === null) {
      const commands = decide(active.state, this.holdings.ledger, steadyNow(), Date.now());
      const events: RolloutEvent[] = [];
      for (const command of commands) {
        const event = eventOf(command, steadyNow());
        if (event) events.push(event);
        else if (command.kind === 'wake' && !this.#stopping) this.#wakeAt(active, command.at);
      }
      this.#soaks.follow(active);
      const judges = commands.find((c) => c.kind === 'judge-soak');
      if (judges) this.#judge(active, judges.wave);
      if (events.length === 0) return;
      await this.#happen(active, events);
      this.#soaks.follow(active);
      if (active.fault !== null) return;
      for (const command of commands)
        if (command.kind === 'begin-step') this.#begin(active, command.run, (c) => this.#carryOut(active, c));
        else if (command.kind === 'reconcile') this.#begin(active, command.run, (c) => this.#ask(active, c));
    }
  }

  /** Tells what devices showed while they soaked, and decides again. */
  #judge(active: ActiveRollout, wave: number): void {
    const { id } = active.plan;
    if (this.#judging.has(id) || this.#stopping) return;
    const abort = new AbortController();
    this.#judging.set(id, abort);
    const inHand = this.#troubled('');
    const inContext: InContext = async (run, step, work) => {
      const closers: (() => Promise<void>)[] = [];
      try {
        await work(await this.#stepContext(active, run, step, abort.signal, closers, true));
      } finally {
        for (const close of closers) await close();
        active.trails.forget(run.id);
      }
    };
    void this.#soaks
      .judge(active, wave, inHand, () => lookAgain(active, wave, inHand, inContext))
      .then((event) =>
        this.#serial(active, async () => {
          this.#judging.delete(id);
          if (this.#stopping || active.fault !== null || check(active.state, event) !== null) return;
          await this.#happen(active, [event]);
          await this.#tick(active);
        }),
      )
      .catch((error: unknown) => {
        this.#judging.delete(id);
        this.#stopFor(active, `its soak could not be judged: ${error instanceof Error ? error.message : String(error)}`);
      });
  }

  /** Decides again at a moment, or as far towards it as a timer reaches. */
  #wakeAt(active: ActiveRollout, at: Instant): void {
    const wait = Math.min(longestTimer, Math.max(1, at - steadyNow()));
    active.wake = setTimeout(
      () =>
        void this.#serial(active, () => this.#tick(active)).catch((error: unknown) =>
          this.#stopFor(active, `what was due could not be done: ${error instanceof Error ? error.message : String(error)}`),
        ),
      wait,
    );
  }

  /** What nobody has seen work is shown before it is sent; who is changed already is not asked about. @throws LeftUnanswered */
  async #showLines(active: ActiveRollout, run: PlannedRun, { context, family, device, askPerson }: StepContext): Promise<void> {
    const { pastReturn } = active.state.runs[active.state.indexOf.get(run.id)!]!;
    if (!run.unproven || pastReturn || active.shown.has(run.family)) return;
    const images = await context.db.find(ImageEntity, { sha256: { $in: imagesOf(active.plan, run) } });
    const parts = { context, ...this.#parts };
    const given = new Map(await Promise.all(images.map(async (i) => [i.sha256, shownValues(await toldValues(parts, device, i))] as const)));
    const words = changingLines(active.plan, run, family, (image) => given.get(image) ?? {});
    if (words !== null) await askPerson(words, { fits: `^${sendWord}$`, like: sendWord, secret: false });
    active.shown.add(run.family);
  }

  #begin(active: ActiveRollout, runId: string, work: (context: InStep) => Promise<RolloutEvent>): void {
    const abort = new AbortController();
    const index = active.state.indexOf.get(runId)!;
    const run = active.plan.runs[index]!;
    const planned = currentStep(active.state, index);
    const { step } = planned;
    const done = (async () => {
      const closers: (() => Promise<void>)[] = [];
      let event: RolloutEvent | null;
      let answered = false;
      try {
        const context = { ...(await this.#stepContext(active, run, planned, abort.signal, closers)), step: planned };
        try {
          await this.#showLines(active, run, context);
          event = await work(context);
        } catch (error) {
          if (!abort.signal.aborted && error instanceof CauseError) answered = await this.#learnAfter(active, context, error);
          throw error;
        }
      } catch (error) {
        event =
          error instanceof LeftUnanswered
            ? unanswered(run.id, error.said)
            : asAbsence(active, run, this.#failure(active, run, planned, error));
      }
      for (const close of closers) await close();
      active.percent.delete(runId);
      active.delayed.delete(runId);
      // A step that was given up for the sake of stopping has no outcome; it is begun again at the next start.
      if (abort.signal.aborted && (event?.kind === 'step-failed' || event?.kind === 'run-absent')) event = null;
      await this.#serial(active, async () => {
        active.doing.delete(runId);
        if (event && active.state.runs[active.state.indexOf.get(runId)!]!.phase === 'ended')
          this.context.log.warn(
            { rollout: active.plan.id, run: runId, step, event: event.kind },
            'an outcome came after the run had ended',
          );
        else if (event && active.fault === null) {
          await this.#happen(active, [event]);
          const { phase, claims } = active.state.runs[active.state.indexOf.get(runId)!]!;
          if (answered && phase === 'ended' && claims)
            await this.#happen(active, [
              { kind: 'run-released', at: steadyNow(), run: runId, by: 'Barrow', reason: 'it answered after its failure' },
            ]);
        }
        await this.#tick(active);
      });
    })().catch((error: unknown) => {
      active.doing.delete(runId);
      if (this.#stopping) return;
      this.context.log.fatal({ error, rollout: active.plan.id, run: runId, step }, 'the outcome of a step could not be journalled');
      this.#stopFor(
        active,
        `the outcome of ${step} of ${run.name} could not be written down: ${error instanceof Error ? error.message : String(error)}`,
      );
    });
    active.doing.set(runId, { step, abort, done });
  }

  /** After a failure past the point of no return the record must not go on telling what was before. @returns whether it answered */
  async #learnAfter(active: ActiveRollout, step: InStep, error: CauseError): Promise<boolean> {
    const { pastReturn } = active.state.runs[active.state.indexOf.get(step.run.id)!]!;
    // The checks have written what they saw; who does not answer or lets nobody in cannot be asked.
    if (!pastReturn || step.step.step === 'checks' || ['never-returned', ...answersToNobody].includes(error.code))
      return answersToNobody.includes(error.code);
    return learnAfterFailure(step).then(
      () => true,
      (why: unknown) => {
        this.context.log.warn({ device: step.run.name, why: (why as Error).message }, 'what it runs after the failure could not be asked');
        return false;
      },
    );
  }

  async #carryOut(active: ActiveRollout, step: InStep): Promise<RolloutEvent> {
    const carryOut = steps[step.step.step]!;
    const again = async (): Promise<StepResult> => {
      if (step.step.whenLost === 'ask' && (await reconcile(step, step.step)).truth === 'done') return { kind: 'done' };
      return carryOut(step);
    };
    const missed = ownMissed();
    let result: StepResult;
    try {
      result = await this.#withLogin(active, step, () => carryOut(step), again);
    } catch (error) {
      const away = ownMissed() - missed;
      if (!(error instanceof CauseError) || away < longAway || step.signal.aborted) throw error;
      // We were away in the middle of it: the device is asked before it is judged.
      this.context.log.warn(
        { device: step.run.name, step: step.step.step, awayMs: Math.round(away), cause: error.code },
        'a step failed while we were away; it is asked again',
      );
      result = await this.#withLogin(active, step, again);
    }
    const at = steadyNow();
    const run = step.run.id;
    if (result.kind === 'skip') return { kind: 'run-skipped', at, run, by: 'Barrow', reason: result.reason };
    if (result.kind === 'skip-leg') return { kind: 'leg-skipped', at, run, leg: step.step.leg, reason: result.reason };
    if (result.kind === 'proven') return { kind: 'leg-proven', at, run, leg: step.step.leg, reason: result.reason, facts: result.facts };
    return { kind: 'step-done', at, run, ...named(step.step), facts: result.facts };
  }

  /**
   * Does what needs a login, and does it again when one that several refuse may be tried again.
   * @throws CauseError, LeftUnanswered when the run is to be left out meanwhile
   */
  async #withLogin<T>(active: ActiveRollout, step: InStep, work: () => Promise<T>, again = work): Promise<T> {
    const { doubts, options } = this.context;
    const until = ownNow() + longestDoubt(options.timeScale);
    for (let next = work; ; next = again) {
      let doubt: CauseError;
      try {
        step.delayed(null);
        return await next();
      } catch (error) {
        if (!(error instanceof CauseError) || !this.#isDoubt(active, step, error) || ownNow() >= until) throw error;
        doubt = error;
      }
      step.delayed(doubt.detail);
      do {
        await ownPause(doubtPause(options.timeScale), step.signal);
        if (step.signal.aborted) throw doubt;
        this.#leaveIfAsked(active, step.run.id);
      } while (ownNow() < until && doubts.rests(doubt.detail));
    }
  }

  /** A login server that leaves a login unanswered is waited for by who is changed; who is not is asked again as others that are not ready. */
  #isDoubt({ state }: ActiveRollout, { run }: InStep, { code }: CauseError): boolean {
    return code === 'credential-suspended' || (code === 'login-slow' && state.runs[state.indexOf.get(run.id)!]!.pastReturn);
  }

  /** @throws LeftUnanswered when a run whose login is waited for is to be left out */
  #leaveIfAsked({ state }: ActiveRollout, run: string): void {
    const { pastReturn, wish } = state.runs[state.indexOf.get(run)!]!;
    const stops = state.phase === 'stopping';
    if (pastReturn || (!wish && !stops)) return;
    const note = `${wish?.reason ?? 'the rollout was stopped'}; its login was waited for`;
    throw new LeftUnanswered({ by: wish?.by ?? 'Barrow', note, answer: null, stops });
  }

  async #ask(active: ActiveRollout, step: InStep): Promise<RolloutEvent> {
    const { truth, detail } = await this.#withLogin(active, step, () => reconcile(step, step.step));
    return { kind: 'reconciled', at: steadyNow(), run: step.run.id, ...named(step.step), truth, detail: safeText(detail, 400) };
  }

  #failure(active: ActiveRollout, run: PlannedRun, planned: PlannedStep, error: unknown): RolloutEvent & { kind: 'step-failed' } {
    const at = steadyNow();
    const { step } = planned;
    if (error instanceof CauseError) {
      const detail = hideInDetail(error.detail, active.familyOf(run.family), []);
      this.context.log.warn({ device: run.name, step, cause: error.code, detail }, 'step failed');
      const facts = error instanceof ChecksFailed ? error.facts : undefined;
      return { kind: 'step-failed', at, run: run.id, ...named(planned), cause: error.code, detail: safeText(detail, 2000), facts };
    }
    this.context.log.error({ error, device: run.name, step }, 'step failed by a fault of Barrow');
    return {
      kind: 'step-failed',
      at,
      run: run.id,
      ...named(planned),
      cause: 'service-fault',
      detail: safeText(error instanceof Error ? error.message : String(error), 400),
    };
  }

  async #stepContext(
    active: ActiveRollout,
    run: PlannedRun,
    planned: PlannedStep,
    signal: AbortSignal,
    closers: (() => Promise<void>)[],
    /** Nobody is asked for anything meanwhile. */
    alone = false,
  ): Promise<StepContext> {
    const { context } = this;
    const parts = this.#parts;
    const device = await context.db.findOne(DeviceEntity, { id: run.device });
    const family = active.familyOf(run.family);
    if (!device || !family) throw new CauseError('service-fault', `the ${device ? `family ${run.family}` : 'device'} is no longer known`);
    const legs = legsOf(active.plan, run);
    const leg = legAt(active.plan, run, planned.leg);
    const all = stepsOf(active.plan, run);
    // What was saved before a leg counts for what takes it back, too.
    const failed = planned.leg < legs.length ? planned.leg : rungOf(active.state, active.state.indexOf.get(run.id)!)!.leg;
    const trail = await active.trails.of(run.id);
    const trace = (name: StepName): StepTrace | undefined => traceOf(trail, name, name === 'backup' ? failed : planned.leg);
    const way = wayNamed(family, leg.component, leg.way);
    if (!way) throw new CauseError('service-fault', `the family ${run.family} has no way "${leg.way}" for a ${leg.component} any more`);
    const image = await parts.images.get(leg.image).catch(() => {
      throw new CauseError('image-missing', `image ${leg.image.slice(0, 12)}… is no longer in the store`);
    });
    // A family whose images Barrow carries speaks of each of their files.
    const files = image.files.map((f) => ({
      name: parts.offers.nameFor(image, f, device),
      path: parts.images.pathOf(f.sha256),
      bytes: f.bytes,
      sha256: f.sha256,
    }));
    const doors = run.via === undefined ? { row: device, family } : await this.#doorsOf(active, run.via, family);
    // What mends may meet it as after a reset; that it is as it was, is for our own logins to show.
    const rung = rungOf(active.state, active.state.indexOf.get(run.id)!);
    const taken = planned.leg >= legs.length || rung?.means === 'console';
    const reset = isReset({ leg }) && planned.leg < legs.length && ['return', 'set-up'].includes(planned.step);
    const factory: boolean | 'only' = reset
      ? 'only'
      : rung?.factory === true && run.via === undefined && taken && planned.step !== 'checks';
    const { factoryLogin } = image.note;
    let toldAt = 0;
    const tell = (percent: number): void => {
      active.percent.set(run.id, percent);
      const now = steadyNow();
      if (now - toldAt < tellEvery && percent < 100) return;
      toldAt = now;
      context.live.tell({ kind: 'progress', rollout: active.plan.id, run: run.id, percent });
    };
    let toldDelay: string | null = null;
    const delayed = (why: string | null): void => {
      if (why === null) return void active.delayed.delete(run.id);
      active.delayed.set(run.id, why);
      // It may be taken back and said again with each try.
      if (why !== toldDelay) context.live.changed('rollouts', [active.plan.id]);
      toldDelay = why;
    };
    const person: AskPerson = async (words, how) => {
      const changed = (): void => context.live.changed('rollouts', [active.plan.id]);
      const written = (event: RolloutEvent): void => {
        this.#serial(active, async () => {
          if (active.fault === null && check(active.state, event) === null) await this.#happen(active, [event]);
        }).catch((error: unknown) => context.log.error({ error }, 'what was asked is not in the journal'));
      };
      active.questions.set(run.id, words);
      changed();
      written({ kind: 'person-asked', at: steadyNow(), run: run.id, text: words });
      try {
        const said = await this.#byHand.ask(active.plan.id, run.id, signal, { words, ...how });
        if (said.answer == null) throw new LeftUnanswered(said);
        written({ kind: 'person-answered', at: steadyNow(), run: run.id, by: said.by });
        return said.answer;
      } finally {
        active.questions.delete(run.id);
        changed();
      }
    };
    const asked = alone ? {} : { person };
    /** Lets go at the end of the step, and keeps what was said. */
    const kept = (touch: Touch): Touch => {
      closers.push(async () => {
        touch.close();
        const text = touch.conversation();
        await context.db
          .writeSurely(async (em) =>
            em.insert(ConversationEntity, { rollout: active.plan.id, run: run.id, step: planned.step, at: steadyNow(), text } as never),
          )
          .catch((error: unknown) => context.log.error({ error }, 'conversation not kept'));
      });
      return touch;
    };
    const login = async (more: Use = {}): Promise<Touch> => {
      const given = { ...(await toldValues({ context, ...parts }, device, image)), backTo: leg.to };
      return kept(
        new Touch(context, doors.row, doors.family, { given, files, signal, factory, factoryLogin, onPercent: tell, ...asked, ...more }),
      );
    };
    return {
      context,
      plan: active.plan,
      run,
      leg,
      legs: { index: planned.leg, all: legs },
      steps: all.filter((s) => s.leg === planned.leg),
      saves: all.some((s) => s.leg === failed && s.step === 'backup'),
      family,
      returnMs: way.returns.within / context.options.timeScale,
      writeLimitMs: way.writeLimitMs === undefined ? null : way.writeLimitMs / context.options.timeScale,
      device,
      image,
      ...parts,
      trail: {
        get: trace,
        ofLeg: (name) => traceOf(trail, name, failed),
        earlier: (name) => earlierTraceOf(trail, name, planned.leg),
      },
      begunAt: steadyNow(),
      signal,
      login,
      once: async (name, more = {}) =>
        once(context, doors.row, doors.family, name, {
          given: { ...(await toldValues({ context, ...parts }, device, image)), ...more },
          signal,
          factory,
          factoryLogin,
          person,
        }),
      onFeeder: async (name) => {
        const { power } = run;
        const feeder = power && (await context.db.findOne(DeviceEntity, { id: power.device }));
        const its = feeder?.family == null ? null : active.familyOf(feeder.family);
        if (!power || !feeder || !its) throw new CauseError('service-fault', 'what feeds it is no longer known');
        const given = { outlet: power.outlet, outletNumber: lastNumber(power.outlet) };
        return kept(new Touch(context, feeder, its, { given, signal })).run(name);
      },
      onConsole: async () => {
        const { console } = run;
        const server = console && (await context.db.findOne(DeviceEntity, { id: console.device }));
        const its = server?.family == null ? null : active.familyOf(server.family);
        if (!console || !server || !its) throw new CauseError('console-unreached', 'its console server is no longer known');
        const given = { line: console.line, lineNumber: lastNumber(console.line) };
        const over = kept(new Touch(context, server, its, { given, signal }));
        const logins = await new Touch(context, device, family, { factory, factoryLogin, signal }).passwords();
        return giveAddress(context, over, { console, device, family, serial: run.serial }, logins, signal);
      },
      around: (id) => parts.map.beside(id),
      troubled: (except) => this.#troubled(except),
      lookElsewhere: async () => {
        if (run.via !== undefined) return null;
        const was = device.address;
        for (const { address, how } of await findAgain(context, device, signal)) {
          const told = await once(context, { ...device, address }, family, 'record', {
            signal,
            person,
            factory: reset ? 'only' : false,
            factoryLogin,
          }).catch((error: unknown) => {
            if (error instanceof CauseError) return null;
            throw error;
          });
          if (told?.gives['serial'] !== run.serial) continue;
          const seen = { probe: `a rollout, by ${how}`, address, at: Date.now(), raw: { was }, parsed: { address } };
          await parts.devices.observe({ id: device.id, address }, seen);
          context.log.warn({ device: run.name, was, address, how }, 'it came back at another address');
          device.address = address;
          return { address, how, was };
        }
        return null;
      },
      fillIn: async (text) => {
        const given = await toldValues({ context, ...parts }, device, image);
        return fillSent(text, (name) => given[name]);
      },
      alive: async (timeoutMs, retries) =>
        run.via === undefined ? signOfLife(context, device, family, timeoutMs, retries, !reset) : { system: null, answers: true },
      askAnew: () => snmpAnew(context, device),
      delayed,
      tell,
      askPerson: person,
      byHand: async () => this.#byHand.ask(active.plan.id, run.id, signal),
    };
  }

  /** Who of all rollouts is being changed, or was and came to no good end. */
  #troubled(except: string): ReadonlyMap<string, string> {
    const found = new Map<string, string>();
    for (const { plan, state } of this.#rollouts.values())
      for (const [index, { device }] of plan.runs.entries()) {
        const { phase, outcome } = state.runs[index]!;
        if (device === except) continue;
        if (phase === 'ended' ? outcome === 'failed' : !['waiting', 'parked', 'absent'].includes(phase))
          found.set(device, phase === 'ended' || phase === 'broken' ? 'it failed itself' : 'it is being changed itself');
      }
    return found;
  }

  /** Through which doors a device is handled that cannot be reached itself. @throws CauseError */
  async #doorsOf(active: ActiveRollout, via: string, family: Family): Promise<{ row: DeviceRow; family: Family }> {
    const row = await this.context.db.findOne(DeviceEntity, { id: via });
    const parent = row?.family == null ? null : active.familyOf(row.family);
    if (!row || !parent) throw new CauseError('service-fault', 'what it is handled through is no longer known');
    return { row, family: throughParent(parent, family) };
  }
}

/**
 * The families of a plan as they were when it was made, each read when it is first asked for. One that this Barrow cannot read any more,
 * or of a plan of before, is taken as it is now.
 */
function familiesOf({ id, families = {} }: Plan, context: Context): (name: string) => Family | null {
  const read = new Map<string, Family | null>();
  return (name) => {
    const known = read.get(name);
    if (known !== undefined) return known;
    const text = families[name];
    let family = context.families.get(name) ?? null;
    if (text !== undefined && text !== context.familyTexts.get(name))
      try {
        family = compiledFamily(text) ?? parseFamily(text, `${name} of ${id}`);
      } catch (error) {
        const why = error instanceof Error ? error.message : String(error);
        context.log.warn({ rollout: id, family: name, why }, 'its family file of then cannot be read any more; the one of now is used');
      }
    if (text !== undefined) read.set(name, family);
    return family;
  };
}

/** The images that a run may take: those of its legs, and those by which it may be taken back. */
const imagesOf = (plan: Plan, run: PlannedRun): string[] =>
  [...legsOf(plan, run), ...passageOf(plan, run).rungs.flatMap((r) => (r.takes ? [r.takes] : []))].map((l) => l.image);

/** Who is not there, or not ready, when it is to be begun with, is absent where that may pass: nothing was tried, and nobody is at fault. */
/** Whom a question was for is left out before anybody answered: it ends as it is. */
function unanswered(run: string, { by, note, stops }: Said): RolloutEvent {
  const at = steadyNow();
  return stops ? { kind: 'run-withdrawn', at, run, reason: note } : { kind: 'run-skipped', at, run, by, reason: note };
}

function asAbsence({ state }: ActiveRollout, run: PlannedRun, failed: RolloutEvent & { kind: 'step-failed' }): RolloutEvent {
  const { at, cause, detail } = failed;
  const absent: RolloutEvent = { kind: 'run-absent', at, run: run.id, cause, detail };
  // Who was changed is not waited for as one that was never begun with.
  const isKept = run.via !== undefined || state.runs[state.indexOf.get(run.id)!]!.changed;
  return !isKept && check(state, absent) === null ? absent : failed;
}

/** A step with all that it may use, and what it is. */
type InStep = StepContext & { readonly step: PlannedStep };

/** A step as events name it: that of a first leg without its number. */
const named = ({ step, leg }: PlannedStep): { step: StepName; leg?: number } => (leg === 0 ? { step } : { step, leg });

/** What is kept of a rollout before anything has happened in it; its plan is JSON. */
interface KeptPlan {
  readonly id: string;
  readonly name: string;
  readonly createdAt: number;
  readonly createdBy: string;
  readonly plan: string;
}

/** The plan of a rollout; one that cannot be read is an empty one, with the reason, and stops nothing but its rollout. */
function planIn({ id, name, createdAt, createdBy, plan }: KeptPlan): { plan: Plan; fault: string | null } {
  try {
    return { plan: readPlan(JSON.parse(plan)), fault: null };
  } catch (error) {
    const fault = `its plan cannot be read: ${safeText(error instanceof Error ? error.message : String(error), 200)}`;
    const nothing = { waves: [], passages: [], runs: [], capacity: {}, leftOut: [] };
    return { plan: { version: 2, id, name, createdAt, createdBy, unsaved: 'hold', wayBack: false, ...nothing }, fault };
  }
}
