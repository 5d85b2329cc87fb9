import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Database } from '../src/data/database.js';
import { DeedEntity, DiscoveryEntity, TransferEntity } from '../src/data/entities.js';
import { dropOldest, kept, type Kept } from '../src/data/keeping.js';

describe('what grows by itself', () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-keeping-'));
  let db: Database;
  beforeAll(async () => {
    db = await Database.open(dir);
    await db.write(async (em) => {
      for (let i = 0; i < 4100; i++)
        em.create(DeedEntity, { at: 1000 + i, who: 'w', role: 'admin', method: 'PUT', path: `/${i}`, status: 200 });
      for (let i = 0; i < 3; i++) em.create(DiscoveryEntity, { id: `f-${i}`, startedAt: 5000 - i, result: {} });
      for (let i = 0; i < 6; i++)
        em.create(TransferEntity, {
          ...{ id: `t-${i}`, device: null, deviceName: null, peer: '127.0.0.1', file: 'f', image: null, state: i < 2 ? 'moving' : 'done' },
          ...{
            askedAt: 1000 + i,
            endedAt: i < 2 ? null : 2000,
            askedOptions: {},
            blockSize: null,
            windowSize: null,
            bytes: 0,
            totalBytes: 0,
          },
          ...{ rate: 0, block: 0, resent: 0, detail: null, site: null, protocol: 'tftp' as const, rates: [], verified: null },
          ...{ comparedBy: null, cause: null, evidence: [], findings: [], packets: null },
        });
    });
  });
  afterAll(async () => {
    await db.close();
    rmSync(dir, { recursive: true });
  });
  const few = (table: string, most: number): Kept => ({ ...kept.find((k) => k.table === table)!, most });

  it('stays as it is below its limits', async () => {
    expect(await dropOldest(db)).toEqual({});
    expect(await db.count(DeedEntity)).toBe(4100);
  });

  it('loses its oldest rows above them, in as many pieces as it takes', async () => {
    expect(await dropOldest(db, [few('deed', 10), few('discovery', 2)])).toEqual({ deed: 4090, discovery: 1 });
    const left = await db.find(DeedEntity, {}, { orderBy: { at: 'asc' } });
    expect(left.map((d) => d.path)).toEqual(Array.from({ length: 10 }, (_, i) => `/${4090 + i}`));
    expect((await db.find(DiscoveryEntity)).map((d) => d.id).sort()).toEqual(['f-0', 'f-1']);
  });

  it('never loses what is under way, and ends when nothing else is left', async () => {
    expect(await dropOldest(db, [few('transfer', 3)])).toEqual({ transfer: 3 });
    expect((await db.find(TransferEntity)).map((t) => t.id).sort()).toEqual(['t-0', 't-1', 't-5']);
    expect(await dropOldest(db, [few('transfer', 1)])).toEqual({ transfer: 1 });
    expect(await db.count(TransferEntity)).toBe(2);
  });
});
