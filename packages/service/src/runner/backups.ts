import type { Backup } from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { BackupEntity, DeviceEntity, MarkEntity, SavedEntity, type BackupRow } from '../data/entities.js';
import { digestOf, newId } from '../data/seal.js';
import { notFound } from '../errors.js';

/** Backups older than so many days are dropped, but of each device so many newest. */
export interface Retention {
  readonly days: number;
  readonly least: number;
}
const mark = 'backup-retention';

/** Configurations saved from devices: sealed, kept by digest. */
export class Backups {
  constructor(private readonly context: Context) {}

  /** Keeps settings that were read from a device just now; the device was seen with them. */
  async keep(
    device: string,
    text: string,
    firmware: string | null,
    rollout: string | null,
  ): Promise<{ id: string; sha256: string; bytes: number }> {
    const id = newId('b');
    const sha256 = digestOf(text);
    const bytes = Buffer.byteLength(text);
    const takenAt = Date.now();
    await this.context.db.writeSurely(async (em) => {
      if ((await em.count(SavedEntity, { sha256 })) === 0) await em.insert(SavedEntity, { sha256, sealed: this.context.sealer.seal(text) });
      await em.insert(BackupEntity, { id, sha256, device, takenAt, rollout, bytes, firmware });
      await em.nativeUpdate(DeviceEntity, { id: device }, { lastSeen: takenAt });
    });
    this.context.live.changed('devices', [device]);
    this.context.live.changed('backups');
    return { id, sha256, bytes };
  }

  /** By its id, or by the digest that a report tells, of which six digits are enough. */
  async text(asked: string): Promise<{ row: BackupRow; text: string }> {
    const { db } = this.context;
    const isDigest = /^[0-9a-f]{6,64}$/.test(asked);
    const row =
      (await db.findOne(BackupEntity, { id: asked })) ??
      (isDigest ? await db.findOne(BackupEntity, { sha256: { $like: `${asked}%` } }, { orderBy: { takenAt: 'desc' } }) : null);
    if (!row) throw notFound('backup', asked, '`barrow backup list` shows what was saved.');
    return { row, text: await this.#content(row.sha256) };
  }

  /** What a rollout saved of a device before it changed it; null when it never came so far. */
  async ofRollout(device: string, rollout: string): Promise<string | null> {
    const row = await this.context.db.findOne(BackupEntity, { device, rollout }, { orderBy: { takenAt: 'asc' } });
    return row === null ? null : this.#content(row.sha256);
  }

  async #content(sha256: string): Promise<string> {
    const saved = await this.context.db.findOne(SavedEntity, { sha256 });
    if (!saved) throw new Error(`the content ${sha256} of a backup is not there`);
    return this.context.sealer.open(saved.sealed);
  }

  /** For how long backups are kept; null: for ever. */
  async retention(): Promise<Retention | null> {
    const row = await this.context.db.findOne(MarkEntity, { name: mark });
    return row === null ? null : (JSON.parse(row.value) as Retention | null);
  }

  async retain(retention: Retention | null): Promise<void> {
    await this.context.db.write(async (em) => em.upsert(MarkEntity, { name: mark, value: JSON.stringify(retention) }));
    this.context.live.changed('backups');
    await this.dropOld();
  }

  /**
   * Drops what is older than is kept. Of each device the newest so many stay, the newest of each version that it ran, which is the
   * last that could be given back to it, and all of a rollout that has not ended.
   * @returns how many went
   */
  async dropOld(now = Date.now()): Promise<number> {
    const { db } = this.context;
    const retention = await this.retention();
    if (retention === null) return 0;
    const old = await db.select<{ id: string }>(
      `select id from (
         select id, taken_at, rollout, row_number() over (partition by device order by taken_at desc, id) as nth,
           row_number() over (partition by device, firmware order by taken_at desc, id) as of_version
         from backup)
       where nth > ? and of_version > 1 and taken_at < ? and (rollout is null or rollout not in (select id from rollout where not ended))`,
      [retention.least, now - retention.days * 86_400_000],
    );
    if (old.length === 0) return 0;
    await db.write(async (em) => {
      const run = (sql: string, values: readonly unknown[]): Promise<unknown> =>
        em.getConnection().execute(sql, [...values], 'run', em.getTransactionContext());
      await run('delete from backup where id in (select value from json_each(?))', [JSON.stringify(old.map((b) => b.id))]);
      await run('delete from saved where sha256 not in (select sha256 from backup)', []);
    });
    this.context.live.changed('backups');
    return old.length;
  }

  async list(device: string | null): Promise<Backup[]> {
    const rows = await this.context.db.find(BackupEntity, device ? { device } : {}, {
      orderBy: { takenAt: 'desc' },
      limit: 1000,
      fields: ['id', 'sha256', 'device', 'takenAt', 'rollout', 'bytes', 'firmware'],
    });
    const known = await this.context.db.select<{ id: string; name: string }>('select id, name from device');
    const names = new Map(known.map((d) => [d.id, d.name]));
    return rows.map((r) => ({
      id: r.id,
      sha256: r.sha256,
      device: r.device,
      deviceName: names.get(r.device) ?? r.device,
      takenAt: rfc3339(r.takenAt),
      rollout: r.rollout ?? null,
      bytes: r.bytes,
      firmware: r.firmware ?? null,
    }));
  }
}
