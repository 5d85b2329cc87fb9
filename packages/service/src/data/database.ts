import { chmodSync, existsSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import Sqlite from 'libsql';
import { MikroORM, type EntityManager } from '@mikro-orm/libsql';
import type { EntitySchema } from '@mikro-orm/core';
import { Migrator } from '@mikro-orm/migrations';
import { StartFailure } from '../errors.js';
import { lookAtFile } from './damage.js';
import { entities, MarkEntity, type Entity, type Row } from './entities.js';
import { isAlive, thisProcess, type Holder } from './holder.js';
import { migrations, schemaVersion } from './migrations.js';

/** What one piece of work may do inside the group's transaction: write, and nothing that waits on the world. */
export type WriteWork<T> = (em: EntityManager) => Promise<T>;

/** Nothing can be written now: the disk is full, or cannot be reached. */
export interface WriteTrouble {
  readonly since: number;
  readonly detail: string;
}

/** Waits between tries of a write that must be kept, in milliseconds. */
const [firstWait, longestWait] = [250, 15_000];
/** What SQLite and the file system say when there is no room, or the disk is away; it may come back. */
const noRoom =
  /disk is full|SQLITE_FULL|ENOSPC|EDQUOT|disk I\/O error|SQLITE_IOERR|readonly database|SQLITE_READONLY|unable to open database/i;
export const isNoRoom = (error: unknown): boolean =>
  error instanceof Error && noRoom.test(`${error.message} ${(error as { code?: string }).code ?? ''}`);

/** The table that a statement writes to. */
const written = /^\s*(?:insert (?:or \w+ )?into|replace into|update|delete from) [`"]?(\w+)/i;

interface Pending {
  work: WriteWork<unknown>;
  resolve: (value: unknown) => void;
  reject: (error: unknown) => void;
}

/** The database: reads from anywhere, all writes through one queue that commits in groups with full synchronisation. */
export class Database {
  #pending: Pending[] = [];
  #busy = false;
  #idle: (() => void)[] = [];
  #trouble: WriteTrouble | null = null;
  /** Rows of small tables, as they were read last. */
  readonly #kept = new Map<string, Promise<readonly unknown[]>>();
  readonly #touched = new Set<string>();
  readonly #onTrouble = new Set<(trouble: WriteTrouble | null) => void>();
  /** Ends the waiting of patient writes. */
  readonly #closing = new AbortController();

  private constructor(
    private readonly orm: MikroORM,
    private readonly lock: { close(): void },
  ) {
    const { em } = orm as unknown as { em: EntityManager };
    em.getConnection()
      .getKnex()
      .on('query', ({ sql }: { readonly sql: string }) => {
        const table = written.exec(sql)?.[1];
        if (table === undefined) return;
        this.#kept.delete(table);
        this.#touched.add(table);
      });
  }

  /** @throws StartFailure when another service has the folder, or the database is from a newer Barrow or damaged. */
  static async open(folder: string): Promise<Database> {
    const lock = takeLock(folder);
    const file = join(folder, 'barrow.db');
    try {
      const { version: found, found: damage } = await lookAtFile(file);
      if (damage.length > 0)
        throw new StartFailure(
          'data-damaged',
          'The database is damaged',
          `${file}: ${damage.join('; ')}. Nothing was changed.`,
          'Keep this file, and put a copy from before in its place; `sqlite3 barrow.db .recover` saves what can be read. Look at the disk.',
        );
      if (found > schemaVersion)
        throw new StartFailure(
          'database-newer',
          'The database cannot be opened',
          `${file} has layout ${found}; this Barrow knows up to ${schemaVersion}.`,
          'Start the newer Barrow that wrote it, or point --data to another folder. Nothing was changed.',
        );
      const orm = await MikroORM.init({
        dbName: file,
        entities,
        extensions: [Migrator],
        migrations: { migrationsList: migrations, snapshot: false, silent: true },
        discovery: { disableDynamicFileAccess: true, warnWhenNoEntities: false },
        pool: {
          afterCreate: (connection: unknown, done: (error: Error | null, connection: unknown) => void) => {
            const db = connection as { pragma?: (text: string) => unknown; exec: (text: string) => unknown };
            db.exec('pragma journal_mode = wal');
            db.exec('pragma synchronous = full');
            db.exec('pragma foreign_keys = on');
            done(null, connection);
          },
        },
      } as never);
      if (found < schemaVersion) await orm.getMigrator().up();
      const db = new Database(orm as never, lock);
      for (const name of ['barrow.db', 'barrow.db-wal', 'barrow.db-shm', 'lock.db']) ownerOnly(join(folder, name));
      // The lock lies beside the database and can be deleted; who has the database open stands in it.
      const [held] = await db.find(MarkEntity, { name: 'holder' });
      if (held && isAlive(JSON.parse(held.value) as Holder)) {
        await orm.close(true);
        throw inUse(folder);
      }
      await db.write(async (em) => em.upsert(MarkEntity, { name: 'holder', value: JSON.stringify(thisProcess()) }));
      return db;
    } catch (error) {
      lock.close();
      if (error instanceof StartFailure) throw error;
      throw new StartFailure(
        'data-unusable',
        'The database cannot be opened',
        `${file}: ${(error as Error).message}`,
        'Check the file and its rights, or restore it from a copy.',
      );
    }
  }

  /** Reads rows as plain objects; change them by `write` only. */
  async find<E extends Entity>(entity: E, where: object = {}, options: object = {}): Promise<Row<E>[]> {
    const rows = await this.orm.em.fork().find(entity as EntitySchema<object>, where, { ...options, disableIdentityMap: true });
    return rows.map((row) => ({ ...row })) as Row<E>[];
  }

  async findOne<E extends Entity>(entity: E, where: object, options: object = {}): Promise<Row<E> | null> {
    return (await this.find(entity, where, { ...options, limit: 1 }))[0] ?? null;
  }

  /** All rows of a small table that is read far more often than it is written: read anew once any of them was written. */
  kept<E extends Entity>(entity: E): Promise<readonly Row<E>[]> {
    const { tableName } = (entity as unknown as EntitySchema<object>).meta;
    const known = this.#kept.get(tableName) as Promise<readonly Row<E>[]> | undefined;
    if (known) return known;
    const reading = this.find(entity);
    this.#kept.set(tableName, reading);
    reading.catch(() => this.#kept.delete(tableName));
    return reading;
  }

  /** The row of such a table whose `column` has this value. */
  async keptOne<E extends Entity>(entity: E, column: keyof Row<E>, value: unknown): Promise<Row<E> | null> {
    const found = (await this.kept(entity)).find((row) => row[column] === value);
    return found === undefined ? null : { ...found };
  }

  count(entity: Entity, where: object = {}): Promise<number> {
    return this.orm.em.fork().count(entity as EntitySchema<object>, where);
  }

  /** Runs one statement of plain SQL that only reads. */
  select<T>(sql: string, values: readonly unknown[] = []): Promise<T[]> {
    return this.orm.em
      .fork()
      .getConnection()
      .execute(sql, [...values], 'all') as Promise<T[]>;
  }

  /** Queues a write; resolves when its group is committed and on disk. */
  write<T>(work: WriteWork<T>): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      this.#pending.push({ work, resolve: resolve as (value: unknown) => void, reject });
      if (!this.#busy) {
        this.#busy = true;
        setImmediate(() => void this.#drain());
      }
    });
  }

  /**
   * A write that must be kept, whatever it takes: when there is no room it is tried again, with growing waits, until
   * there is. The work is done anew each time, so it may number what it writes.
   */
  async writeSurely<T>(work: WriteWork<T>): Promise<T> {
    for (let wait = firstWait; ; wait = Math.min(longestWait, wait * 2))
      try {
        const result = await this.write(work);
        this.#tell(null);
        return result;
      } catch (error) {
        if (!isNoRoom(error) || this.#closing.signal.aborted) throw error;
        this.#tell({ since: this.#trouble?.since ?? Date.now(), detail: (error as Error).message });
        await pause(wait, undefined, { signal: this.#closing.signal }).catch(() => {
          throw error;
        });
      }
  }

  /** Why nothing can be written now; null when it can, as far as is known. */
  get trouble(): WriteTrouble | null {
    return this.#trouble;
  }

  /** Is told when writing begins to fail, and when it works again. */
  onTrouble(listener: (trouble: WriteTrouble | null) => void): void {
    this.#onTrouble.add(listener);
  }

  #tell(trouble: WriteTrouble | null): void {
    const changed = (trouble === null) !== (this.#trouble === null);
    this.#trouble = trouble;
    if (changed) for (const listener of this.#onTrouble) listener(trouble);
  }

  async #drain(): Promise<void> {
    while (this.#pending.length > 0) {
      const group = this.#pending.splice(0, 500);
      try {
        const results = await this.#commit(group);
        group.forEach((p, i) => p.resolve(results[i]));
      } catch (error) {
        if (group.length === 1) group[0]!.reject(error);
        else
          // One bad write must not fail its neighbours: each is tried on its own.
          for (const one of group)
            try {
              one.resolve((await this.#commit([one]))[0]);
            } catch (own) {
              one.reject(own);
            }
      }
    }
    this.#busy = false;
    this.#idle.splice(0).forEach((done) => done());
  }

  async #commit(group: readonly Pending[]): Promise<unknown[]> {
    try {
      return await (this.orm.em.fork() as EntityManager).transactional(async (em) => {
        const results: unknown[] = [];
        for (const { work } of group) results.push(await work(em as EntityManager));
        return results;
      });
    } finally {
      // Who has read since the statement, and before it counted, has read what was before.
      for (const table of this.#touched) this.#kept.delete(table);
      this.#touched.clear();
    }
  }

  /** Waits for queued writes, then closes. */
  async close(): Promise<void> {
    this.#closing.abort();
    await this.write(async (em) => em.nativeDelete(MarkEntity, { name: 'holder' })).catch(() => undefined);
    if (this.#busy) await new Promise<void>((resolve) => this.#idle.push(resolve));
    // All of it stands in the one file then, as who copies it expects.
    await this.select('pragma wal_checkpoint(truncate)').catch(() => undefined);
    await this.orm.close(true);
    this.lock.close();
  }
}

const ownerOnly = (file: string): void => {
  if (existsSync(file)) chmodSync(file, 0o600);
};

const inUse = (folder: string): StartFailure =>
  new StartFailure(
    'data-in-use',
    'The data folder is in use',
    `Another Barrow service has ${folder} open.`,
    'Stop that service first, or point --data to another folder.',
  );

/** Two services on one folder would drive one rollout twice; the lock goes with the process, however it ends. */
function takeLock(folder: string): { close(): void } {
  let db: InstanceType<typeof Sqlite> | undefined;
  try {
    db = new Sqlite(join(folder, 'lock.db'));
    db.exec('pragma locking_mode = exclusive; begin exclusive; create table if not exists held (at integer)');
    return db;
  } catch (error) {
    db?.close();
    const { message, code } = error as Error & { code?: string };
    if (/locked|busy/i.test(`${message} ${code ?? ''}`)) throw inUse(folder);
    throw new StartFailure(
      'data-unusable',
      'The data folder cannot be used',
      `${folder}: ${message}.`,
      'The user that runs Barrow has to own it and may write into it; look whether the disk is mounted for reading only, or full.',
    );
  }
}
