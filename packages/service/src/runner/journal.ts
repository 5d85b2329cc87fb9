import type { JournalEntry, RolloutEvent } from '@barrow/core';
import { rolloutEventSchema } from '@barrow/core';
import type { Context } from '../context.js';
import type { WriteWork } from '../data/database.js';
import { JournalEntity, RolloutEntity } from '../data/entities.js';

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
        entries.map((e) => ({ seq: e.seq, rollout, at: e.event.at, event: e.event })),
      );
      if (ended !== null) await em.nativeUpdate(RolloutEntity, { id: rollout }, { ended, summary: null });
    };
    await (surely ? db.writeSurely(work) : db.write(work));
    return entries;
  }

  /** All entries of a rollout, up to the first that cannot be read. */
  async of(rollout: string): Promise<{ entries: JournalEntry[]; unreadable: string | null }> {
    const rows = await this.context.db.find(JournalEntity, { rollout }, { orderBy: { seq: 'asc' } });
    const entries: JournalEntry[] = [];
    for (const { seq, event } of rows) {
      const read = rolloutEventSchema.safeParse(event);
      if (!read.success) return { entries, unreadable: `entry ${seq} of its journal cannot be read` };
      entries.push({ seq, rollout, event: read.data });
    }
    return { entries, unreadable: null };
  }

  /** Entries after a number, for somebody who listened before. */
  async after(seq: number, most: number): Promise<JournalEntry[]> {
    const rows = await this.context.db.find(JournalEntity, { seq: { $gt: seq } }, { orderBy: { seq: 'asc' }, limit: most });
    return rows.flatMap((r) => {
      const read = rolloutEventSchema.safeParse(r.event);
      return read.success ? [{ seq: r.seq, rollout: r.rollout, event: read.data }] : [];
    });
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
