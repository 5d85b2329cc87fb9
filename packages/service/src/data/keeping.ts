import type { Database } from './database.js';

/** A table that grows by itself, and how many of its newest rows are kept. */
export interface Kept {
  readonly table: string;
  /** By which the newest are told. */
  readonly by: string;
  readonly most: number;
  /** Rows that are never dropped, however old: what is still under way. */
  readonly unless: string;
}

/**
 * What nobody removes by hand and everything adds to. Journals, backups and reports are not among them: they are proof.
 * A year of a house of ten thousand devices stays below each of these.
 */
export const kept: readonly Kept[] = [
  { table: 'transfer', by: 'asked_at', most: 200_000, unless: 'ended_at is null' },
  { table: 'discovery', by: 'started_at', most: 500, unless: '0' },
  { table: 'history', by: 'at', most: 1_000_000, unless: '0' },
  { table: 'deed', by: 'at', most: 1_000_000, unless: '0' },
];

/** Rows that one statement drops: a write of somebody else does not wait longer than for these. */
const atOnce = 2000;

/** Drops what is older than the newest of each table. @returns how many rows went, by table; those of which none went are left out */
export async function dropOldest(db: Database, of: readonly Kept[] = kept): Promise<Record<string, number>> {
  const dropped: Record<string, number> = {};
  for (const { table, by, most, unless } of of)
    for (;;) {
      const [{ surplus }] = (await db.select<{ surplus: number }>(`select max(0, count(*) - ${most}) as surplus from ${table}`)) as [
        { surplus: number },
      ];
      if (surplus === 0) break;
      const oldest = `select rowid from ${table} where not (${unless}) order by ${by} limit ${Math.min(surplus, atOnce)}`;
      const { affectedRows: gone } = await db.write(async (em) =>
        em
          .getConnection()
          .execute<{ affectedRows: number }>(`delete from ${table} where rowid in (${oldest})`, [], 'run', em.getTransactionContext()),
      );
      if (gone === 0) break;
      dropped[table] = (dropped[table] ?? 0) + gone;
    }
  return dropped;
}
