import {
  isRolloutEvent,
  keepState,
  restoreState,
  rolloutEventSchema,
  type JournalEntry,
  type Plan,
  type RolloutEvent,
  type RolloutState,
} from '@barrow/core';
import type { Context } from '../context.js';
import type { WriteWork } from '../data/database.js';
import { chainOf, firstChanged, type Chained } from './chain.js';
import { FoldEntity, JournalEntity, RolloutEntity } from '../data/entities.js';

/** What was read, and why no more. */
interface Read {
  readonly entries: JournalEntry[];
  readonly unreadable: string | null;
}

const runOf = (event: RolloutEvent): string | null => ('run' in event && event.run !== undefined ? event.run : null);

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}

/** What an entry says: where its digest holds, it is as it was written, and need not be looked at word by word. */
function eventIn({ event, chain }: Chained, isHeld: boolean): RolloutEvent | null {
  const value = parsed(event);
  if (isHeld && chain !== null) return isRolloutEvent(value) ? value : null;
  return rolloutEventSchema.safeParse(value).data ?? null;
}

/** The append-only journal of all rollouts, numbered in one row; in each rollout every entry tells of the one before it. */
export class Journal {
  #seq = 0;
  #told = 0;
  /** The digest of the last entry, by rollout. */
  readonly #heads = new Map<string, string>();

  constructor(private readonly context: Context) {}

  async open(): Promise<void> {
    const [row] = await this.context.db.select<{ last: number | null }>('select max(seq) as last from journal');
    this.#seq = row?.last ?? 0;
    this.#told = this.#seq;
  }

  /**
   * Numbers and writes events; they are on disk when this resolves, and only then may anything be done about them.
   * @param surely whether to wait until there is room, when there is none
   */
  async append(rollout: string, events: readonly RolloutEvent[], surely: boolean): Promise<JournalEntry[]> {
    const ended = events.some((e) => e.kind === 'rollout-ended') ? true : events.some((e) => e.kind === 'run-retried') ? false : null;
    const { db } = this.context;
    let entries: JournalEntry[] = [];
    const before = await this.#headOf(rollout);
    let head = before;
    const work: WriteWork<void> = async (em) => {
      // Numbered when they are written, so that a number that was told is never followed by a smaller one.
      // What is believed is what can be read back: as JSON, without what JSON cannot hold.
      entries = events.map((event): JournalEntry => ({
        seq: ++this.#seq,
        rollout,
        event: JSON.parse(JSON.stringify(event)) as RolloutEvent,
      }));
      head = before;
      await em.insertMany(
        JournalEntity,
        entries.map(({ seq, event }) => {
          head = chainOf(head, seq, JSON.stringify(event));
          return { seq, rollout, run: runOf(event), at: event.at, event, chain: head };
        }),
      );
      if (ended !== null) await em.nativeUpdate(RolloutEntity, { id: rollout }, { ended, summary: null });
    };
    await (surely ? db.writeSurely(work) : db.write(work));
    this.#heads.set(rollout, head);
    return entries;
  }

  /** The digest over all entries of a rollout up to one; undefined when it was written before entries had any. */
  async headAt(rollout: string, seq: number): Promise<string | undefined> {
    const [row] = await this.context.db.select<{ chain: string | null }>('select chain from journal where rollout = ? and seq = ?', [
      rollout,
      seq,
    ]);
    return row?.chain ?? undefined;
  }

  async #headOf(rollout: string): Promise<string> {
    const known = this.#heads.get(rollout);
    if (known !== undefined) return known;
    const [last] = await this.context.db.select<{ chain: string | null }>(
      'select chain from journal where rollout = ? order by seq desc limit 1',
      [rollout],
    );
    return last?.chain ?? '';
  }

  /**
   * All entries of a rollout after one, up to the first that cannot be read or is not as it was written.
   * @param after the entry before them, with its digest
   */
  of(rollout: string, after: { readonly seq: number; readonly chain: string | null } = { seq: 0, chain: null }): Promise<Read> {
    return this.#read('rollout = ? and seq > ?', [rollout, after.seq], -1, after.chain ?? '');
  }

  /** Entries of a rollout after one that was read before. */
  since(rollout: string, seq: number): Promise<Read> {
    return this.#read('rollout = ? and seq > ?', [rollout, seq]);
  }

  /** Those of one device in a rollout. */
  ofRun(rollout: string, run: string): Promise<Read> {
    return this.#read('rollout = ? and run = ?', [rollout, run]);
  }

  /** Those of one kind in a rollout, that are of none of its devices. */
  ofKind(rollout: string, kind: RolloutEvent['kind']): Promise<Read> {
    return this.#read("rollout = ? and run is null and json_extract(event, '$.kind') = ?", [rollout, kind]);
  }

  /** Entries after a number, for somebody who listened before. */
  async after(seq: number, most: number): Promise<JournalEntry[]> {
    return (await this.#read('seq > ?', [seq], most)).entries;
  }

  /** `before`: the digest that the first of them tells of, where they are all of a rollout from there on. */
  async #read(where: string, values: readonly unknown[], most = -1, before: string | null = null): Promise<Read> {
    const rows = await this.context.db.select<Chained & { rollout: string }>(
      `select seq, rollout, event, chain from journal where ${where} order by seq limit ${most}`,
      values,
    );
    const entries: JournalEntry[] = [];
    const changed = before === null ? null : firstChanged(rows, before);
    for (const row of rows) {
      const { seq, rollout } = row;
      if (seq === changed)
        return { entries, unreadable: `entry ${seq} of its journal is not as Barrow wrote it, or one before it was taken away` };
      const event = eventIn(row, before !== null);
      if (event === null) return { entries, unreadable: `entry ${seq} of its journal cannot be read` };
      entries.push({ seq, rollout, event });
    }
    return { entries, unreadable: null };
  }

  /** The moment of the last entry of a rollout; 0 when it has none. */
  async lastAtOf(rollout: string): Promise<number> {
    const [last] = await this.context.db.select<{ at: number }>('select at from journal where rollout = ? order by seq desc limit 1', [
      rollout,
    ]);
    return last?.at ?? 0;
  }

  /** Keeps the state of a rollout up to an entry, beside its journal. */
  async keep(rollout: string, seq: number, state: RolloutState): Promise<void> {
    const row = { rollout, seq, count: state.events, state: keepState(state), chain: await this.#chainAt(rollout, seq) };
    await this.context.db.write(async (em) => em.upsert(FoldEntity, row as never));
  }

  /** The newest state that was kept of a rollout, and up to which entry; null when none fits its plan and its journal. */
  async keptOf(
    rollout: string,
    plan: Plan,
  ): Promise<{ readonly seq: number; readonly state: RolloutState; readonly chain: string | null } | null> {
    const { db } = this.context;
    const [row] = await db.select<{ seq: number; count: number; chain: string | null; state: string }>(
      'select seq, count, chain, state from fold where rollout = ?',
      [rollout],
    );
    if (!row) return null;
    const [there] = await db.select<{ n: number }>('select count(*) as n from journal where rollout = ? and seq <= ?', [rollout, row.seq]);
    const { seq, count, chain } = row;
    const isOfThese = there!.n === count && (await this.#chainAt(rollout, seq)) === chain;
    const state = isOfThese ? restoreState(plan, parsed(row.state)) : null;
    return state === null || state.events !== count ? null : { seq, state, chain };
  }

  async #chainAt(rollout: string, seq: number): Promise<string | null> {
    const [entry] = await this.context.db.select<{ chain: string | null }>('select chain from journal where rollout = ? and seq = ?', [
      rollout,
      seq,
    ]);
    return entry?.chain ?? null;
  }

  /** Says that an entry is believed and told; entries are written, and so told, in their order. */
  told(seq: number): void {
    this.#told = Math.max(this.#told, seq);
  }

  /** The last entry that everybody was told of. One that is only being written is not among them: who begins to listen now hears it. */
  get last(): number {
    return this.#told;
  }
}
