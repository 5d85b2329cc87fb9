import {
  gatheredFor,
  isOverdue,
  noticeOf,
  occasionOf,
  rehearse,
  safeText,
  type JournalEntry,
  type Notice,
  type Occasion,
  type OccasionKind,
  type RolloutEvent,
} from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { MarkEntity, NoticeEntity, ReceiverEntity, type NoticeRow, type ReceiverRow } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import type { ActiveRollout } from '../runner/active.js';
import type { Journal } from '../runner/journal.js';
import type { Runner } from '../runner/runner.js';
import { steadyNow } from '../steady.js';
import { beat, sendHook, sendMail, troubleOf, type Letter, type MailServer } from './send.js';

/** After so long a message that did not go out is tried again; then it is given up. */
const retryMs = [10_000, 60_000, 300_000, 900_000, 3_600_000];
/** How often it is looked whether a rollout takes too long. */
const lookMs = 60_000;
/** Of more devices the end is not rehearsed for that. */
const mostRehearsed = 2000;
const pageOf = 5000;

interface Pending {
  readonly occasions: (Occasion & { readonly seq: number })[];
  timer: NodeJS.Timeout;
  /** When it goes out, by a clock that nobody sets. */
  due: number;
}
/** What is set for all messages; kept as one mark, the secret sealed. */
export interface NoticeSettings {
  readonly mailServer: (Omit<MailServer, 'secret'> & { readonly sealed: string | null }) | null;
  readonly heartbeat: { readonly url: string; readonly everySeconds: number } | null;
  readonly address: string | null;
}
const none: NoticeSettings = { mailServer: null, heartbeat: null, address: null };
const marks = { settings: 'notices', upTo: 'notices-up-to', overdue: 'notices-overdue' };

/**
 * Tells people what they want to be told of rollouts, wherever they are. What is to be told follows from the journal: what was not
 * told when the service died is told when it is back. A message waits in a table until it was taken, or given up.
 */
export class Notices {
  readonly #receivers = new Map<string, ReceiverRow>();
  readonly #pending = new Map<string, Pending>();
  readonly #sheets = new Map<string, Pending>();
  /** On its way into the table. */
  readonly #leaving = new Set<Pending>();
  readonly #overdue = new Set<string>();
  readonly #ends = new Map<string, number>();
  #settings: NoticeSettings = none;
  #heeded = 0;
  #base = '';
  #looking: NodeJS.Timeout | null = null;
  #beating: NodeJS.Timeout | null = null;
  #sending: NodeJS.Timeout | null = null;
  #work: Promise<void> = Promise.resolve();
  #stopped = false;
  heartbeatSeen: { readonly lastAt: number | null; readonly trouble: string | null } = { lastAt: null, trouble: null };

  constructor(
    private readonly context: Context,
    private readonly runner: Runner,
    private readonly journal: Journal,
    private readonly sheetOf: (active: ActiveRollout) => Promise<string>,
  ) {}

  async load(): Promise<void> {
    const { db } = this.context;
    for (const row of await db.find(ReceiverEntity)) this.#receivers.set(row.id, row);
    this.#settings = ((await this.#mark(marks.settings)) as NoticeSettings | null) ?? none;
    for (const id of ((await this.#mark(marks.overdue)) as string[] | null) ?? []) this.#overdue.add(id);
  }

  /** Once the rollouts are taken up: tells what was not told before this service began, and goes on. */
  async resume(base: string): Promise<void> {
    this.#base = base;
    if (this.#receivers.size > 0) await this.#catchUp();
    // What waited is tried at once: perhaps it was we who could not send it.
    await this.context.db.write(async (em) => em.nativeUpdate(NoticeEntity, {}, { due: Date.now() }));
    this.#looking = setInterval(() => this.#lookForOverdue(), lookMs / this.#scale);
    this.#looking.unref();
    this.#beatAnew();
    this.#arm(0);
  }

  async stop(): Promise<void> {
    this.#stopped = true;
    for (const timer of [this.#looking, this.#beating]) if (timer) clearInterval(timer);
    if (this.#sending) clearTimeout(this.#sending);
    for (const { timer } of this.#sheets.values()) clearTimeout(timer);
    // What was gathered goes into the table, and out when the service is back.
    for (const id of [...this.#pending.keys()]) this.#flush(id);
    await this.#work;
  }

  get #scale(): number {
    return this.context.options.timeScale;
  }

  /** What happened in a rollout, after it was applied. */
  heed({ plan, state }: ActiveRollout, { seq, event }: JournalEntry): void {
    this.#heeded = Math.max(this.#heeded, seq);
    if (this.#receivers.size === 0) return;
    const occasion = occasionOf(state, event);
    if (occasion !== null && this.#isWanted(occasion.kind)) this.#gather(plan.id, { ...occasion, seq });
    if (event.kind === 'rollout-ended') this.#ends.delete(plan.id);
  }

  /** What nobody asked for holds up nothing. */
  #isWanted(kind: OccasionKind): boolean {
    return [...this.#receivers.values()].some((r) => r.on.includes(kind));
  }

  #gather(rollout: string, occasion: Occasion & { readonly seq: number }): void {
    if (occasion.kind === 'sheet') return this.#gatherSheet(rollout, occasion);
    const ms = gatheredFor(occasion.kind);
    const due = performance.now() + ms;
    let pending = this.#pending.get(rollout);
    const wait = (): NodeJS.Timeout => {
      const timer = setTimeout(() => this.#flush(rollout), ms);
      timer.unref();
      return timer;
    };
    if (!pending) this.#pending.set(rollout, (pending = { occasions: [], timer: wait(), due }));
    else if (due < pending.due) {
      clearTimeout(pending.timer);
      Object.assign(pending, { timer: wait(), due });
    }
    pending.occasions.push(occasion);
  }

  /** Sheets wait apart, and hold nothing up: one that is lost comes again after the next part of somebody's way. */
  #gatherSheet(rollout: string, occasion: Occasion & { readonly seq: number }): void {
    const known = this.#sheets.get(rollout);
    if (known) return void known.occasions.push(occasion);
    const timer = setTimeout(() => {
      const due = this.#sheets.get(rollout);
      this.#sheets.delete(rollout);
      if (due && !this.#stopped) this.#keep(rollout, due);
    }, gatheredFor('sheet'));
    timer.unref();
    this.#sheets.set(rollout, { occasions: [occasion], timer, due: 0 });
  }

  /** What was gathered of a rollout becomes one message for each who wants to be told of it. */
  #flush(rollout: string): void {
    const pending = this.#pending.get(rollout);
    if (!pending) return;
    clearTimeout(pending.timer);
    this.#pending.delete(rollout);
    this.#leaving.add(pending);
    this.#keep(rollout, pending);
  }

  #keep(rollout: string, pending: Pending): void {
    this.#work = this.#work
      .then(async () => {
        const { plan } = await this.runner.get(rollout);
        const rows = [...this.#receivers.values()].flatMap((receiver): Omit<NoticeRow, 'id'>[] => {
          const wanted = pending.occasions.filter((o) => receiver.on.includes(o.kind));
          return wanted.length === 0 ? [] : [this.#row(receiver.id, rollout, plan.name, noticeOf(plan.name, wanted))];
        });
        await this.context.db.write(async (em) => {
          this.#leaving.delete(pending);
          if (rows.length > 0) await em.insertMany(NoticeEntity, rows as never[]);
          await em.upsert(MarkEntity, { name: marks.upTo, value: JSON.stringify(this.#toldUpTo()) });
        });
        this.#arm(0);
      })
      .catch((error: unknown) => this.context.log.error({ error, rollout }, 'a message could not be kept'));
  }

  /** Whatever is still being gathered is told again after a crash; what stands in the table is not. */
  #toldUpTo(): number {
    const waiting = [...this.#pending.values(), ...this.#leaving].flatMap((p) => p.occasions.map((o) => o.seq - 1));
    return Math.min(this.#heeded, ...waiting);
  }

  #row(receiver: string, rollout: string | null, name: string | null, { kind, subject, lines }: Notice): Omit<NoticeRow, 'id'> {
    const now = Date.now();
    const clean = lines.map((line) => safeText(line, 500));
    return { receiver, rollout, name, kind, subject: safeText(subject, 200), lines: clean, at: now, due: now, tries: 0, trouble: null };
  }

  /** Goes through the journal from where everything was told. */
  async #catchUp(): Promise<void> {
    const from = (await this.#mark(marks.upTo)) as number | null;
    this.#heeded = Math.max(this.#heeded, this.journal.last);
    if (from === null) return this.#keepMark(marks.upTo, this.#heeded);
    for (let seq = from; ;) {
      const page = await this.journal.after(seq, pageOf);
      for (const { seq: at, rollout, event } of page) {
        const active = await this.runner.get(rollout).catch(() => null);
        const occasion = active && this.#asItStands(active, event);
        if (occasion && occasion.kind !== 'sheet' && this.#isWanted(occasion.kind)) this.#gather(rollout, { ...occasion, seq: at });
      }
      if (page.length < pageOf) return;
      seq = page.at(-1)!.seq;
    }
  }

  /** An event of before, by how its rollout stands now: who waited for a hand then may not any more. */
  #asItStands({ state }: ActiveRollout, event: RolloutEvent): Occasion | null {
    if (event.kind === 'step-begun' && state.runs[state.indexOf.get(event.run)!]!.stepBegunAt !== event.at) return null;
    return occasionOf(state, event);
  }

  #lookForOverdue(): void {
    if (this.#receivers.size === 0) return;
    // A start need not go through what nobody had to be told of.
    void this.#keepMark(marks.upTo, this.#toldUpTo()).catch(() => undefined);
    for (const { plan, state } of this.runner.underWay()) {
      if (state.phase !== 'running' || this.#overdue.has(plan.id) || plan.runs.length > mostRehearsed) continue;
      // A person's word is not counted in a rehearsal.
      const wave = state.waves[state.wave];
      if (wave?.phase === 'soaking' && plan.waves[state.wave]!.gate.approval) continue;
      const startedAt = state.startedAt!;
      let end = this.#ends.get(plan.id);
      if (end === undefined) this.#ends.set(plan.id, (end = rehearse(plan, startedAt).endsAt));
      if (!isOverdue({ startedAt, end, now: steadyNow(), timeScale: this.#scale })) continue;
      this.#overdue.add(plan.id);
      void this.#keepMark(marks.overdue, [...this.#overdue].slice(-200)).catch(() => undefined);
      const text = `it was rehearsed to end at ${rfc3339(end)}, and is still under way`;
      this.#gather(plan.id, { kind: 'overdue', device: null, text, seq: this.#heeded });
    }
  }

  #beatAnew(): void {
    if (this.#beating) clearInterval(this.#beating);
    this.#beating = null;
    const { heartbeat } = this.#settings;
    this.heartbeatSeen = { lastAt: null, trouble: null };
    if (heartbeat === null || this.#stopped) return;
    this.#beating = setInterval(() => void this.#beat(heartbeat.url), heartbeat.everySeconds * 1000);
    this.#beating.unref();
    void this.#beat(heartbeat.url);
  }

  /** While a rollout is under way only: when it ends, nobody has to be woken by silence. */
  async #beat(url: string): Promise<void> {
    if (this.#stopped || this.runner.underWay().length === 0) return;
    try {
      await beat(url);
      this.heartbeatSeen = { lastAt: Date.now(), trouble: null };
    } catch (error) {
      this.heartbeatSeen = { ...this.heartbeatSeen, trouble: troubleOf(error) };
      this.context.log.warn({ trouble: this.heartbeatSeen.trouble }, 'the heartbeat was not taken');
    }
  }

  #arm(ms: number): void {
    if (this.#stopped) return;
    if (this.#sending) clearTimeout(this.#sending);
    this.#sending = setTimeout(() => {
      this.#sending = null;
      this.#work = this.#work
        .then(() => this.#sendDue())
        .catch((error: unknown) => this.context.log.error({ error }, 'messages could not be looked at'));
    }, ms);
    this.#sending.unref();
  }

  /** Sends what is due, one after the other; what is not taken waits for its next turn. */
  async #sendDue(): Promise<void> {
    const { db } = this.context;
    const now = Date.now();
    for (const row of await db.find(NoticeEntity, { due: { $lte: now } }, { orderBy: { id: 'asc' } })) {
      if (this.#stopped) return;
      const receiver = this.#receivers.get(row.receiver);
      const trouble = receiver ? await this.#send(receiver, row) : null;
      const wait = retryMs[row.tries];
      await db.write(async (em) => {
        if (trouble === null || wait === undefined) await em.nativeDelete(NoticeEntity, { id: row.id });
        else await em.nativeUpdate(NoticeEntity, { id: row.id }, { tries: row.tries + 1, due: now + wait, trouble });
      });
      if (receiver) await this.#seen(receiver, trouble);
    }
    const [next] = await db.select<{ due: number | null }>('select min(due) as due from notice', []);
    if (next?.due) this.#arm(Math.max(0, next.due - Date.now()));
  }

  async #send(receiver: ReceiverRow, { kind, subject, lines, at, rollout, name }: Omit<NoticeRow, 'id'>): Promise<string | null> {
    const letter: Letter = {
      kind: kind as OccasionKind,
      subject,
      lines,
      at: rfc3339(at),
      rollout: rollout === null ? null : { id: rollout, name: name ?? rollout },
      link: `${this.address}${rollout === null ? '' : `/rollouts/${rollout}`}`,
    };
    try {
      if (receiver.kind === 'hook') await sendHook(receiver.to, this.context.sealer.open(receiver.sealed!), receiver.name, letter);
      else await sendMail(this.#mailServer(), receiver.to, letter, rollout === null ? null : await this.#sheetFor(receiver, rollout));
      return null;
    } catch (error) {
      const trouble = troubleOf(error);
      this.context.log.warn({ receiver: receiver.name, trouble }, 'a message did not reach who was to be told');
      return trouble;
    }
  }

  /** The night sheet as it stands now, for who wants it with what they are told. */
  async #sheetFor(receiver: ReceiverRow, rollout: string): Promise<string | null> {
    if (!receiver.on.includes('sheet')) return null;
    const active = await this.runner.get(rollout).catch(() => null);
    return active && this.sheetOf(active);
  }

  async #seen(receiver: ReceiverRow, trouble: string | null): Promise<void> {
    const change = trouble === null ? { lastAt: Date.now(), trouble: null } : { trouble };
    // Who was removed meanwhile is not there again by that.
    if (this.#receivers.has(receiver.id)) this.#receivers.set(receiver.id, { ...receiver, ...change });
    await this.context.db.write(async (em) => em.nativeUpdate(ReceiverEntity, { id: receiver.id }, change));
    this.context.live.changed('notices');
  }

  #mailServer(): MailServer {
    const { mailServer } = this.#settings;
    if (mailServer === null) throw new Error('no mail server is set');
    const { sealed, ...rest } = mailServer;
    return { ...rest, secret: sealed === null ? null : this.context.sealer.open(sealed) };
  }

  /** Under which address people reach the console. */
  get address(): string {
    return (this.#settings.address ?? this.#base).replace(/\/$/, '');
  }

  get settings(): NoticeSettings {
    return this.#settings;
  }

  receivers(): readonly ReceiverRow[] {
    return [...this.#receivers.values()].sort((a, b) => a.name.localeCompare(b.name));
  }

  /** Messages that wait, by receiver. */
  async waiting(): Promise<ReadonlyMap<string, number>> {
    const rows = await this.context.db.select<{ receiver: string; n: number }>(
      'select receiver, count(*) as n from notice group by receiver',
      [],
    );
    return new Map(rows.map((r) => [r.receiver, r.n]));
  }

  /** @throws Refusal when the name is taken, or mail has no server */
  async add(row: ReceiverRow): Promise<void> {
    if (this.receivers().some((r) => r.name === row.name))
      throw new Refusal(
        409,
        'name-taken',
        'Nobody was added',
        `"${row.name}" is there already.`,
        'Take another name, or remove that one first.',
      );
    if (row.kind === 'hook' && row.on.includes('sheet'))
      throw new Refusal(
        422,
        'sheet-by-mail',
        'Nobody was added',
        'The night sheet goes by mail only.',
        'Leave `sheet` out, or use --mail.',
      );
    if (row.kind === 'mail' && this.#settings.mailServer === null)
      throw new Refusal(
        409,
        'no-mail-server',
        'Nobody was added',
        'Mail has no server to go out through.',
        'Name it first: `barrow notice mail-server HOST:PORT --from ADDRESS`.',
      );
    const isFirst = this.#receivers.size === 0;
    await this.context.db.write(async (em) => em.insert(ReceiverEntity, row));
    // What happened before anybody wanted to be told of it is told to nobody.
    if (isFirst) await this.#keepMark(marks.upTo, (this.#heeded = Math.max(this.#heeded, this.journal.last)));
    this.#receivers.set(row.id, row);
    this.context.live.changed('notices');
  }

  /** @throws Refusal */
  find(word: string): ReceiverRow {
    const row = this.receivers().find((r) => r.id === word || r.name === word);
    if (!row) throw notFound('receiver', word, '`barrow notice list` shows who is told.');
    return row;
  }

  async remove(word: string): Promise<ReceiverRow> {
    const row = this.find(word);
    await this.context.db.write(async (em) => {
      await em.nativeDelete(NoticeEntity, { receiver: row.id });
      await em.nativeDelete(ReceiverEntity, { id: row.id });
    });
    this.#receivers.delete(row.id);
    this.context.live.changed('notices');
    return row;
  }

  /** Sends a message that is about nothing, now. @returns why it did not go out; null: it did */
  async trial(word: string, by: string): Promise<string | null> {
    const row = this.find(word);
    const lines = [`${by} has tried whether a message reaches you. Nothing has happened.`];
    const trouble = await this.#send(row, this.#row(row.id, null, null, { kind: 'wanted', subject: 'a trial', lines }));
    await this.#seen(row, trouble);
    return trouble;
  }

  async set(change: Partial<NoticeSettings>): Promise<void> {
    const settings = { ...this.#settings, ...change };
    await this.#keepMark(marks.settings, settings);
    this.#settings = settings;
    if ('heartbeat' in change) this.#beatAnew();
    // What waited for another server is tried at once.
    if ('mailServer' in change) {
      await this.context.db.write(async (em) => em.nativeUpdate(NoticeEntity, {}, { due: Date.now() }));
      this.#arm(0);
    }
    this.context.live.changed('notices');
  }

  async #mark(name: string): Promise<unknown> {
    const row = await this.context.db.findOne(MarkEntity, { name });
    return row === null ? null : (JSON.parse(row.value) as unknown);
  }

  async #keepMark(name: string, value: unknown): Promise<void> {
    await this.context.db.write(async (em) => em.upsert(MarkEntity, { name, value: JSON.stringify(value) }));
  }
}
