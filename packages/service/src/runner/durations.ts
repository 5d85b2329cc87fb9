import { learnedFrom, type Learned, type Took } from '@barrow/core';
import type { Context } from '../context.js';
import { TookEntity } from '../data/entities.js';

/** Of each step of a family and model the last so many are looked at; and so many rows are kept in all. */
const [mostOfOne, mostKept] = [40, 50_000];
const writtenAtOnce = 30;

interface Found {
  readonly family: string;
  readonly model: string | null;
  readonly way: string;
  readonly step: string;
  readonly permille: number;
}

const keyOf = (...parts: readonly (string | null)[]): string => JSON.stringify(parts);

/** How long steps took here: written as they end, and read by plans. */
export class Durations {
  #unwritten: (Took & { readonly at: number })[] = [];

  constructor(private readonly context: Context) {}

  /** Written some at once; nothing hangs on them: what a service that is killed had not written is forgotten. */
  keep(taken: readonly Took[], at: number): void {
    for (const took of taken) this.#unwritten.push({ ...took, at });
    if (this.#unwritten.length >= writtenAtOnce) void this.write();
  }

  /** Writes what there is; what cannot be written is logged, and forgotten. */
  async write(): Promise<void> {
    const rows = this.#unwritten.splice(0);
    if (rows.length === 0) return;
    await this.context.db
      .write(async (em) => {
        await em.insertMany(TookEntity, rows as never[]);
        await em
          .getConnection()
          .execute('delete from took where id <= (select max(id) from took) - ?', [mostKept], 'run', em.getTransactionContext());
      })
      .catch((error: unknown) => this.context.log.warn({ error }, 'how long steps took was not kept'));
  }

  /** What was learned of the steps of these families. */
  async learned(families: readonly string[]): Promise<(family: string, model: string | null, way: string, step: string) => Learned | null> {
    await this.write();
    const rows = await this.context.db.select<Found>(
      `select family, model, way, step, permille from (
         select t.family, d.model, t.way, t.step, t.permille, t.id,
           row_number() over (partition by t.family, d.model, t.way, t.step order by t.id desc) as nth
         from took t join device d on d.id = t.device where t.family in (select value from json_each(?)))
       where nth <= ${mostOfOne}`,
      [JSON.stringify(families)],
    );
    const taken = new Map<string, number[]>();
    for (const { family, model, way, step, permille } of rows) {
      const key = keyOf(family, model, way, step);
      const list = taken.get(key);
      if (list) list.push(permille);
      else taken.set(key, [permille]);
    }
    const known = new Map([...taken].map(([key, list]) => [key, learnedFrom(list)]));
    return (family, model, way, step) => known.get(keyOf(family, model, way, step)) ?? null;
  }
}
