import type { JournalEntry, RolloutEvent } from '@barrow/core';
import { rolloutEventSchema } from '@barrow/core';
import type { Context } from '../context.js';
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

  /** Numbers and writes events; they are on disk when this resolves, and only then may anything be done about them. */
  async append(rollout: string, events: readonly RolloutEvent[]): Promise<JournalEntry[]> {
    // What is believed is what can be read back: as JSON, without what JSON cannot hold.
    const entries = events.map((event): JournalEntry => ({
      seq: ++this.#seq,
      rollout,
      event: JSON.parse(JSON.stringify(event)) as RolloutEvent,
    }));
    const ended = events.some((e) => e.kind === 'rollout-ended') ? true : events.some((e) => e.kind === 'run-retried') ? false : null;
    await this.context.db.write(async (em) => {
      await em.insertMany(
        JournalEntity,
        entries.map((e) => ({ seq: e.seq, rollout, at: e.event.at, event: e.event })),
      );
      if (ended !== null) await em.nativeUpdate(RolloutEntity, { id: rollout }, { ended, summary: null });
    });
    return entries;
  }

  async of(rollout: string): Promise<JournalEntry[]> {
    const rows = await this.context.db.find(JournalEntity, { rollout }, { orderBy: { seq: 'asc' } });
    return rows.map((r) => ({ seq: r.seq, rollout, event: rolloutEventSchema.parse(r.event) }));
  }

  /** Entries after a number, for somebody who listened before. */
  async after(seq: number, most: number): Promise<JournalEntry[]> {
    const rows = await this.context.db.find(JournalEntity, { seq: { $gt: seq } }, { orderBy: { seq: 'asc' }, limit: most });
    return rows.map((r) => ({ seq: r.seq, rollout: r.rollout, event: rolloutEventSchema.parse(r.event) }));
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
