import type { Backup } from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { BackupEntity, DeviceEntity, type BackupRow } from '../data/entities.js';
import { digestOf, newId } from '../data/seal.js';
import { notFound } from '../errors.js';

/** Configurations saved from devices: sealed, kept by digest. */
export class Backups {
  constructor(private readonly context: Context) {}

  async keep(
    device: string,
    text: string,
    firmware: string | null,
    rollout: string | null,
  ): Promise<{ id: string; sha256: string; bytes: number }> {
    const id = newId('b');
    const sha256 = digestOf(text);
    const bytes = Buffer.byteLength(text);
    await this.context.db.writeSurely(async (em) =>
      em.insert(BackupEntity, {
        id,
        sha256,
        device,
        takenAt: Date.now(),
        rollout,
        bytes,
        firmware,
        sealed: this.context.sealer.seal(text),
      }),
    );
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
    return { row, text: this.context.sealer.open(row.sealed) };
  }

  /** What a rollout saved of a device before it changed it; null when it never came so far. */
  async ofRollout(device: string, rollout: string): Promise<string | null> {
    const row = await this.context.db.findOne(BackupEntity, { device, rollout }, { orderBy: { takenAt: 'asc' } });
    return row === null ? null : this.context.sealer.open(row.sealed);
  }

  async list(device: string | null): Promise<Backup[]> {
    const rows = await this.context.db.find(BackupEntity, device ? { device } : {}, {
      orderBy: { takenAt: 'desc' },
      limit: 1000,
      fields: ['id', 'sha256', 'device', 'takenAt', 'rollout', 'bytes', 'firmware'],
    });
    const names = new Map((await this.context.db.find(DeviceEntity, {}, { fields: ['id', 'name'] })).map((d) => [d.id, d.name]));
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
