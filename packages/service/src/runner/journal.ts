import {
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

/** The append-only journal of all rollouts, numbered in one row. */
export class Journal {
  #seq = 0;
  #told = 0;

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
    const work: WriteWork<void> = async (em) => {
      // Numbered when they are written, so that a number that was told is never followed by a smaller one.
      // What is believed is what can be read back: as JSON, without what JSON cannot hold.
      entries = events.map((event): JournalEntry => ({
        seq: ++this.#seq,
        rollout,
        event: JSON.parse(JSON.stringify(event)) as RolloutEvent,
      }));
      await em.insertMany(
        JournalEntity,
        entries.map((e) => ({ seq: e.seq, rollout, run: runOf(e.event), at: e.event.at, event: e.event })),
      );
      if (ended !== null) await em.nativeUpdate(RolloutEntity, { id: rollout }, { ended, summary: null });
    };
    await (surely ? db.writeSurely(work) : db.write(work));
    return entries;
  }

  /** All entries of a rollout after a number, up to the first that cannot be read. */
  of(rollout: string, after = 0): Promise<Read> {
    return this.#read('rollout = ? and seq > ?', [rollout, after]);
  }

  /** Those of one device in a rollout. */
  ofRun(rollout: string, run: string): Promise<Read> {
    return this.#read('rollout = ? and run = ?', [rollout, run]);
  }

  /** Entries after a number, for somebody who listened before. */
  async after(seq: number, most: number): Promise<JournalEntry[]> {
    return (await this.#read('seq > ?', [seq], most)).entries;
  }

  async #read(where: string, values: readonly unknown[], most = -1): Promise<Read> {
    const rows = await this.context.db.select<{ seq: number; rollout: string; event: string }>(
      `select seq, rollout, event from journal where ${where} order by seq limit ${most}`,
      values,
    );
    const entries: JournalEntry[] = [];
    for (const { seq, rollout, event } of rows) {
      const read = rolloutEventSchema.safeParse(parsed(event));
      if (!read.success) return { entries, unreadable: `entry ${seq} of its journal cannot be read` };
      entries.push({ seq, rollout, event: read.data });
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
    const row = { rollout, seq, count: state.events, state: keepState(state) };
    await this.context.db.write(async (em) => em.upsert(FoldEntity, row as never));
  }

  /** The newest state that was kept of a rollout, and up to which entry; null when none fits its plan and its journal. */
  async keptOf(rollout: string, plan: Plan): Promise<{ readonly seq: number; readonly state: RolloutState } | null> {
    const { db } = this.context;
    const row = await db.findOne(FoldEntity, { rollout });
    if (!row) return null;
    const [there] = await db.select<{ n: number }>('select count(*) as n from journal where rollout = ? and seq <= ?', [rollout, row.seq]);
    const state = there!.n === row.count ? restoreState(plan, row.state) : null;
    return state === null || state.events !== row.count ? null : { seq: row.seq, state };
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
