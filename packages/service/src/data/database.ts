import { join } from 'node:path';
import Sqlite from 'libsql';
import { MikroORM, type EntityManager } from '@mikro-orm/libsql';
import type { EntitySchema } from '@mikro-orm/core';
import { Migrator } from '@mikro-orm/migrations';
import { StartFailure } from '../errors.js';
import { entities, type Entity, type Row } from './entities.js';
import { migrations, schemaVersion } from './migrations.js';

/** What one piece of work may do inside the group's transaction: write, and nothing that waits on the world. */
export type WriteWork<T> = (em: EntityManager) => Promise<T>;

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

  private constructor(
    private readonly orm: MikroORM,
    private readonly lock: { close(): void },
  ) {}

  /** @throws StartFailure when another service has the folder, or the database is from a newer Barrow or damaged. */
  static async open(folder: string): Promise<Database> {
    const lock = takeLock(folder);
    const file = join(folder, 'barrow.db');
    try {
      const found = versionOf(file);
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
      return new Database(orm as never, lock);
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

  #commit(group: readonly Pending[]): Promise<unknown[]> {
    return (this.orm.em.fork() as EntityManager).transactional(async (em) => {
      const results: unknown[] = [];
      for (const { work } of group) results.push(await work(em as EntityManager));
      return results;
    });
  }

  /** Waits for queued writes, then closes. */
  async close(): Promise<void> {
    if (this.#busy) await new Promise<void>((resolve) => this.#idle.push(resolve));
    await this.orm.close(true);
    this.lock.close();
  }
}

function versionOf(file: string): number {
  const db = new Sqlite(file);
  try {
    const row = db.prepare('pragma user_version').get() as { user_version: number };
    return row.user_version;
  } finally {
    db.close();
  }
}

/** Two services on one folder would drive one rollout twice; the lock goes with the process, however it ends. */
function takeLock(folder: string): { close(): void } {
  const db = new Sqlite(join(folder, 'lock.db'));
  try {
    db.exec('pragma locking_mode = exclusive; begin exclusive; create table if not exists held (at integer)');
  } catch {
    db.close();
    throw new StartFailure(
      'data-in-use',
      'The data folder is in use',
      `Another Barrow service has ${folder} open.`,
      'Stop that service first, or point --data to another folder.',
    );
  }
  return db;
}
