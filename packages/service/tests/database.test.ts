import { fork } from 'node:child_process';
import { chmodSync, mkdirSync, mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import Sqlite from 'libsql';
import { afterEach, describe, expect, it } from 'vitest';
import { Database } from '../src/data/database.js';
import { imageNoteSchema } from '@barrow/core';
import {
  CredentialEntity,
  DeviceEntity,
  ImageEntity,
  JournalEntity,
  MarkEntity,
  NetworkEntity,
  ObservationEntity,
  TargetEntity,
  TransferEntity,
} from '../src/data/entities.js';
import { migrations } from '../src/data/migrations.js';

const dirs: string[] = [];
const fresh = () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-db-'));
  dirs.push(dir);
  return dir;
};
afterEach(() => {
  for (const dir of dirs.splice(0)) rmSync(dir, { recursive: true, force: true });
});

const network = (id: string) => ({
  id,
  name: `net ${id}`,
  site: 's',
  ranges: ['127.40.1.1'],
  exclude: [],
  snmpPort: 161,
  sshPort: 22,
  credentials: [],
  packetsPerSecond: 500,
  storeAddress: null,
  httpPort: 80,
  httpsPort: 443,
  wsDiscoveryPort: 3702,
  sipPort: 5060,
  probes: ['snmp'],
  trustNow: false,
});
const entry = (seq: number) => ({ seq, rollout: 'r', at: seq, event: { kind: 'noted' as const, at: seq, by: 'a', text: 'x' } });

describe('the database', () => {
  it('keeps rows as they were written, with null for what is absent, and json as json', async () => {
    const db = await Database.open(fresh());
    await db.write(async (em) => em.insert(NetworkEntity, network('n1')));
    expect(await db.findOne(NetworkEntity, { id: 'n1' })).toEqual(network('n1'));
    expect(await db.findOne(NetworkEntity, { id: 'n2' })).toBeNull();
    expect(await db.count(NetworkEntity)).toBe(1);
    await db.close();
  });

  it('reads a small table once, and anew once any of it was written, however that was', async () => {
    const db = await Database.open(fresh());
    const names = async () => (await db.kept(NetworkEntity)).map((n) => n.name).sort();
    expect(await names()).toEqual([]);
    await db.write(async (em) => em.insert(NetworkEntity, network('n1')));
    expect(await names()).toEqual(['net n1']);
    // Nothing was written meanwhile, or something else was: the same rows.
    const rows = await db.kept(NetworkEntity);
    await db.write(async (em) => em.upsert(MarkEntity, { name: 'any', value: 'thing' }));
    expect(await db.kept(NetworkEntity)).toBe(rows);
    await db.write(async (em) => em.upsert(NetworkEntity, network('n2')));
    expect(await names()).toEqual(['net n1', 'net n2']);
    // Who reads between the statement and its commit does not leave behind what was before.
    let during: string[] = [];
    await db.write(async (em) => {
      await em.nativeUpdate(NetworkEntity, { id: 'n1' }, { name: 'renamed' });
      during = await Promise.race([names(), new Promise<string[]>((resolve) => setImmediate(() => resolve(['waits'])))]);
    });
    expect(['net n1', 'waits']).toContain(during[0]);
    expect(await db.keptOne(NetworkEntity, 'name', 'renamed')).toMatchObject({ id: 'n1' });
    await db.write(async (em) => em.nativeDelete(NetworkEntity, { id: 'n1' }));
    expect(await names()).toEqual(['net n2']);
    // A write that failed leaves no trace.
    await expect(db.write(async (em) => em.insert(NetworkEntity, network('n2')))).rejects.toThrow();
    expect(await names()).toEqual(['net n2']);
    await db.close();
  });

  it('takes a database of the first layout along, with what is in it', async () => {
    const folder = fresh();
    const first = migrations[0]!;
    const old = new Sqlite(join(folder, 'barrow.db'));
    const step = new first.class({} as never, {} as never);
    step.up();
    for (const sql of step.getQueries()) old.exec(sql as string);
    old.exec(
      'create table mikro_orm_migrations (id integer primary key autoincrement, name text, executed_at datetime default current_timestamp)',
    );
    old.prepare('insert into mikro_orm_migrations (name) values (?)').run(first.name);
    old.exec(
      `insert into device (id, name, address, kind, site, network, first_seen, last_seen) values ('d-1', 'old', '127.40.1.1', 'switch', 's', 'n', 1, 2)`,
    );
    old.exec(`insert into observation (device, probe, address, at, raw, parsed) values ('d-1', 'SNMP v2c', '127.40.1.1', 7, '{}', '{}')`);
    old.exec(`insert into image (sha256, file, family, maker, models, hardware_revisions, variant, version, bytes, added_at, added_by)
      values ('${'a'.repeat(64)}', 'x.simg', 'f', 'm', '["M"]', '["1"]', '', '1.0.0', 9, 1, 'me')`);
    old.exec(`insert into target (id, family, version, set_at, set_by) values ('g-1', 'f', '1.0.0', 1, 'me')`);
    old.exec(`insert into transfer (id, peer, file, state, asked_at, asked_options, bytes, total_bytes, rate, block, resent)
      values ('t-1', '127.40.1.1:9', 'x.simg', 'done', 5, '{}', 9, 9, 1.5, 1, 0)`);
    old.exec(`update device set variant = ''`);
    old.close();
    const db = await Database.open(folder);
    const image = (await db.findOne(ImageEntity, { file: 'x.simg' }))!;
    expect(imageNoteSchema.parse(image.note)).toEqual(image.note);
    expect(image.note).toMatchObject({ family: 'f', version: '1.0.0', models: ['M'], files: [{ file: 'x.simg', bytes: 9 }] });
    expect(image).toMatchObject({ component: 'system', channel: 'release', files: image.note.files });
    expect(await db.findOne(TargetEntity, { id: 'g-1' })).toMatchObject({ fromFamilies: [], tag: null, acceptUnreleased: false });
    // A variant that nobody told is not known any more: its twin would take another file.
    expect(await db.findOne(DeviceEntity, { id: 'd-1' })).toMatchObject({
      name: 'old',
      tags: [],
      flags: [],
      credentials: {},
      parent: null,
      variant: null,
      note: '',
      armed: null,
      fetchesFrom: [],
    });
    expect(await db.findOne(TransferEntity, { id: 't-1' })).toMatchObject({
      protocol: 'tftp',
      rates: [],
      findings: [],
      verified: null,
      cause: null,
    });
    expect(await db.findOne(ObservationEntity, { device: 'd-1' })).toMatchObject({ at: 7, lastAt: 7, times: 1 });
    await db.close();
  });

  it('commits many writes in groups, in the order in which they were asked for', async () => {
    const db = await Database.open(fresh());
    await Promise.all(Array.from({ length: 800 }, (_, i) => db.write(async (em) => em.insert(JournalEntity, entry(i + 1)))));
    const rows = await db.find(JournalEntity, {}, { orderBy: { seq: 'asc' } });
    expect(rows.map((r) => r.seq)).toEqual(Array.from({ length: 800 }, (_, i) => i + 1));
    await db.close();
  });

  it('lets one bad write fail alone: its neighbours in the group are kept', async () => {
    const db = await Database.open(fresh());
    await db.write(async (em) => em.insert(NetworkEntity, network('taken')));
    const results = await Promise.allSettled([
      db.write(async (em) => em.insert(NetworkEntity, network('a'))),
      db.write(async (em) => em.insert(NetworkEntity, { ...network('b'), name: 'net taken' })),
      db.write(async () => Promise.reject(new Error('thought better of it'))),
      db.write(async (em) => em.insert(NetworkEntity, network('c'))),
    ]);
    expect(results.map((r) => r.status)).toEqual(['fulfilled', 'rejected', 'rejected', 'fulfilled']);
    expect((await db.find(NetworkEntity, {}, { orderBy: { id: 'asc' } })).map((n) => n.id)).toEqual(['a', 'c', 'taken']);
    await db.close();
  });

  it('is an ordinary SQLite file, in write-ahead mode, that another program may read meanwhile', async () => {
    const dir = fresh();
    const db = await Database.open(dir);
    await db.write(async (em) =>
      em.insert(CredentialEntity, {
        id: 'c',
        name: 'n',
        kind: 'snmp-v2c',
        user: null,
        sealed: 'zz',
        second: null,
        settings: {},
        createdAt: 1,
      }),
    );
    const reader = new Sqlite(join(dir, 'barrow.db'), { readonly: true });
    expect(reader.prepare('select name from credential').all()).toEqual([{ name: 'n' }]);
    expect(reader.prepare('pragma journal_mode').get()).toMatchObject({ journal_mode: 'wal' });
    reader.close();
    await db.close();
  });

  it('is opened by one service at a time, and again as soon as that one is gone', async () => {
    const dir = fresh();
    const first = await Database.open(dir);
    await expect(Database.open(dir)).rejects.toMatchObject({ code: 'data-in-use' });
    await first.close();
    await (await Database.open(dir)).close();
  });

  it('is not opened twice when the lock beside it was deleted', async () => {
    const dir = fresh();
    const other = fork(fileURLToPath(new URL('./writer.mjs', import.meta.url)), [dir], { stdio: ['ignore', 'ignore', 'inherit', 'ipc'] });
    await new Promise<void>((resolve) => other.once('message', () => resolve()));
    rmSync(join(dir, 'lock.db'));
    await expect(Database.open(dir)).rejects.toMatchObject({ code: 'data-in-use' });
    const gone = new Promise<void>((resolve) => other.once('exit', () => resolve()));
    other.kill('SIGKILL');
    await gone;
    await (await Database.open(dir)).close();
  });

  it('tells a folder that nobody may write to from one that another service has', async () => {
    const dir = fresh();
    writeFileSync(join(dir, 'lock.db'), '');
    mkdirSync(join(dir, 'lock.db-journal'));
    const refused = await Database.open(join(dir, 'nowhere')).then(
      () => null,
      (error: { code: string; why: string }) => error,
    );
    expect(refused).toMatchObject({ code: 'data-unusable' });
    expect(refused!.why).not.toContain('Another Barrow');
  });

  it('is read by its owner alone, whoever made the files', async () => {
    const dir = fresh();
    await (await Database.open(dir)).close();
    chmodSync(join(dir, 'barrow.db'), 0o644);
    await (await Database.open(dir)).close();
    expect(statSync(join(dir, 'barrow.db')).mode & 0o777).toBe(0o600);
  });

  it('that is damaged is refused in words, and never ends the process', async () => {
    const dir = fresh();
    const db = await Database.open(dir);
    await db.write(async (em) =>
      em.insertMany(
        JournalEntity,
        Array.from({ length: 400 }, (_, i) => entry(i + 1)),
      ),
    );
    await db.write(async (em) => em.insert(NetworkEntity, network('n1')));
    await db.close();
    const whole = readFileSync(join(dir, 'barrow.db'));
    let refused = 0;
    for (let seed = 1; seed <= 6; seed++) {
      const torn = Buffer.from(whole);
      // The same places each time, spread by a multiplier that is no divisor of the length.
      for (let i = 0; i < 200; i++) torn[100 + ((seed * 7919 + i * 104_729) % (torn.length - 100))]! ^= 1 << (i % 8);
      writeFileSync(join(dir, 'barrow.db'), torn);
      await Database.open(dir).then(
        (open) => open.close(),
        (error: { code: string; why: string }) => {
          refused++;
          expect(error.code).toMatch(/^data-/);
          expect(error.why).toContain('barrow.db');
        },
      );
    }
    expect(refused).toBeGreaterThan(3);
  });

  it('keeps what must be kept when there is no room, as soon as there is some, and says so meanwhile', async () => {
    const db = await Database.open(fresh());
    const told: (string | null)[] = [];
    db.onTrouble((trouble) => told.push(trouble?.detail ?? null));
    let tries = 0;
    const kept = db.writeSurely(async (em) => {
      if (++tries < 3) throw new Error('database or disk is full');
      await em.insert(NetworkEntity, network('n9'));
      return 'kept';
    });
    expect(await kept).toBe('kept');
    expect(told).toEqual(['database or disk is full', null]);
    expect(db.trouble).toBeNull();
    expect(await db.findOne(NetworkEntity, { id: 'n9' })).not.toBeNull();
    await expect(db.writeSurely(async () => Promise.reject(new Error('a fault of ours')))).rejects.toThrow('a fault of ours');
    const waiting = db.writeSurely(async () => Promise.reject(new Error('SQLITE_FULL'))).catch((error: Error) => error.message);
    await new Promise<void>((resolve) => db.onTrouble(() => resolve()));
    await db.close();
    expect(await waiting).toBe('SQLITE_FULL');
  });

  it('that is no database is refused with its path, and left as it is', async () => {
    const dir = fresh();
    writeFileSync(join(dir, 'barrow.db'), 'something else entirely, and long enough to be looked at'.repeat(50));
    await expect(Database.open(dir)).rejects.toMatchObject({
      code: 'data-damaged',
      why: expect.stringContaining(join(dir, 'barrow.db')) as string,
    });
  });

  it('loses no write that was acknowledged, when its process is killed', async () => {
    const dir = fresh();
    const writer = fork(fileURLToPath(new URL('./writer.mjs', import.meta.url)), [dir], { stdio: ['ignore', 'ignore', 'inherit', 'ipc'] });
    let acknowledged = 0;
    await new Promise<void>((resolve) => {
      writer.on('message', (seq: number) => {
        acknowledged = Math.max(acknowledged, seq);
        if (seq >= 300) writer.kill('SIGKILL');
      });
      writer.once('exit', () => resolve());
    });
    expect(acknowledged).toBeGreaterThanOrEqual(300);
    const db = await Database.open(dir);
    const rows = await db.find(JournalEntity, {}, { orderBy: { seq: 'asc' } });
    expect(rows.length).toBeGreaterThanOrEqual(acknowledged);
    expect(rows.map((r) => r.seq)).toEqual(rows.map((_, i) => i + 1));
    await db.close();
  });
});
