import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import Sqlite from 'libsql';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import type { Context } from '../src/context.js';
import { Database } from '../src/data/database.js';
import { BackupEntity, DeviceEntity, RolloutEntity, SavedEntity } from '../src/data/entities.js';
import { Sealer } from '../src/data/seal.js';
import { Live } from '../src/live.js';
import { Backups } from '../src/runner/backups.js';

const day = 86_400_000;

describe('what was saved of devices', () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-backups-'));
  let db: Database;
  let backups: Backups;
  const now = 1000 * day;
  /** As it would be after so many days. */
  const saved = async (
    id: string,
    device: string,
    daysAgo: number,
    firmware: string | null = '4.2.1',
    rollout: string | null = null,
  ): Promise<void> => {
    const { sha256 } = await backups.keep(device, `settings of ${id}`, firmware, rollout);
    const [last] = await db.find(BackupEntity, { sha256 }, { orderBy: { takenAt: 'desc' } });
    await db.write(async (em) => em.nativeUpdate(BackupEntity, { id: last!.id }, { id, takenAt: now - daysAgo * day }));
  };
  const left = async (): Promise<string[]> => (await db.find(BackupEntity)).map((b) => b.id).sort();
  beforeAll(async () => {
    db = await Database.open(dir);
    const sealer = await Sealer.open(join(dir, 'key'), db);
    backups = new Backups({ db, sealer, live: new Live() } as unknown as Context);
  });
  afterAll(async () => {
    await db.close();
    rmSync(dir, { recursive: true });
  });
  beforeEach(async () => {
    await db.write(async (em) => {
      for (const entity of [BackupEntity, SavedEntity, RolloutEntity]) await em.nativeDelete(entity as never, {});
    });
    await backups.retain(null);
  });

  it('counts as seeing the device', async () => {
    await db.write(async (em) =>
      em.insert(DeviceEntity, {
        ...{
          id: 'a',
          name: 'quay-sw-1',
          address: '127.0.0.2',
          kind: 'switch',
          site: 'quay-house',
          network: 'n',
          firstSeen: 1,
          lastSeen: 1,
        },
        ...{ credentials: {}, tags: [], addresses: [], flags: [], note: '' },
      } as never),
    );
    const before = Date.now();
    await backups.keep('a', 'settings', null, null);
    expect((await db.findOne(DeviceEntity, { id: 'a' }))!.lastSeen).toBeGreaterThanOrEqual(before);
  });

  it('is kept once by its digest, and opens for each that has it', async () => {
    const one = await backups.keep('a', 'the same\n', '4.2.1', null);
    const two = await backups.keep('b', 'the same\n', '4.2.1', null);
    const other = await backups.keep('a', 'another\n', '4.2.1', null);
    expect([one.sha256, other.sha256]).toEqual([two.sha256, expect.not.stringMatching(one.sha256) as string]);
    expect(await db.count(SavedEntity)).toBe(2);
    for (const [id, text] of [
      [one.id, 'the same\n'],
      [two.id, 'the same\n'],
      [other.id, 'another\n'],
    ] as const)
      expect((await backups.text(id)).text).toBe(text);
    expect(JSON.stringify(await db.find(SavedEntity))).not.toContain('the same');
  });

  it('stays for ever where nobody says otherwise', async () => {
    await saved('old', 'a', 999);
    expect(await backups.dropOld(now)).toBe(0);
    expect(await left()).toEqual(['old']);
  });

  it('goes when it is older, but not the newest of a device, nor the last of a version that it ran, nor of a rollout under way', async () => {
    await db.write(async (em) => {
      for (const [id, ended] of [
        ['r-on', false],
        ['r-over', true],
      ] as const)
        await em.insert(RolloutEntity, { id, name: id, createdAt: 1, createdBy: 'a', plan: {}, ended, summary: null });
    });
    for (const n of [1, 2, 3, 40, 50, 60]) await saved(`a-${n}`, 'a', n);
    await saved('a-old-version', 'a', 900, '4.1.0');
    await saved('a-older-version', 'a', 950, '4.1.0');
    await saved('a-on', 'a', 70, '4.2.1', 'r-on');
    await saved('a-over', 'a', 80, '4.2.1', 'r-over');
    for (const n of [500, 600]) await saved(`b-${n}`, 'b', n);
    await backups.keep('c', 'settings of a-60', '4.2.1', null);
    await db.write(async (em) => em.upsert('Mark' as never, { name: 'backup-retention', value: '{"days":30,"least":2}' } as never));
    expect(await backups.retention()).toEqual({ days: 30, least: 2 });
    expect(await backups.dropOld(now)).toBe(5);
    const kept = await left();
    // a: three that are young, the last of the version before, and what a rollout needs; b: its two newest, however old.
    expect(kept.filter((id) => /^a-|^b-\d{3}$/.test(id))).toEqual(['a-1', 'a-2', 'a-3', 'a-old-version', 'a-on', 'b-500', 'b-600']);
    // Content that another still has stays, the rest is gone.
    const [c] = await db.find(BackupEntity, { device: 'c' });
    expect((await backups.text(c!.id)).text).toBe('settings of a-60');
    expect(await db.count(SavedEntity)).toBe(8);
    expect(await backups.dropOld(now)).toBe(0);
  });

  it('is taken over from a layout in which each had its content itself', async () => {
    const before = mkdtempSync(join(tmpdir(), 'barrow-backups-before-'));
    const first = await Database.open(before);
    const sealer = await Sealer.open(join(before, 'key'), first);
    await first.close();
    const file = new Sqlite(join(before, 'barrow.db'));
    file.exec('drop table saved; drop index backup_sha256; alter table backup add column sealed text; pragma user_version = 14;');
    file.exec(`delete from mikro_orm_migrations where name like '%saving'`);
    for (const [id, sha256, text] of [
      ['b-1', 'aa', 'one'],
      ['b-2', 'aa', 'one'],
      ['b-3', 'bb', 'two'],
    ] as const)
      file
        .prepare(
          'insert into backup (id, sha256, device, taken_at, rollout, bytes, firmware, sealed) values (?, ?, ?, 1, null, 3, null, ?)',
        )
        .run(id, sha256, 'a', sealer.seal(text));
    file.close();
    const later = await Database.open(before);
    const now_ = new Backups({ db: later, sealer: await Sealer.open(join(before, 'key'), later), live: new Live() } as unknown as Context);
    for (const [id, text] of [
      ['b-1', 'one'],
      ['b-2', 'one'],
      ['b-3', 'two'],
    ] as const)
      expect((await now_.text(id)).text).toBe(text);
    expect(await later.count(SavedEntity)).toBe(2);
    await later.close();
    rmSync(before, { recursive: true });
  });
});
