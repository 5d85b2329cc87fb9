import { mkdtempSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { Database } from '../src/data/database.js';
import { CredentialEntity, MarkEntity } from '../src/data/entities.js';
import { Sealer } from '../src/data/seal.js';

describe('the key', () => {
  let dir: string;
  let db: Database;
  const file = (): string => join(dir, 'key');
  beforeEach(async () => {
    dir = mkdtempSync(join(tmpdir(), 'barrow-key-'));
    db = await Database.open(dir);
  });
  afterEach(async () => {
    await db.close();
    rmSync(dir, { recursive: true, force: true });
  });

  it('is made once, for its owner alone, and opens what it sealed', async () => {
    const sealed = (await Sealer.open(file(), db)).seal('heron');
    expect(statSync(file()).mode & 0o777).toBe(0o600);
    expect((await Sealer.open(file(), db)).open(sealed)).toBe('heron');
  });
  it('says nothing twice the same way, and does not open what was changed', async () => {
    const sealer = await Sealer.open(file(), db);
    const sealed = sealer.seal('heron at low tide ✓');
    expect(sealer.open(sealed)).toBe('heron at low tide ✓');
    expect(sealer.seal('heron at low tide ✓')).not.toBe(sealed);
    expect(sealed).not.toContain('heron');
    const octets = Buffer.from(sealed, 'base64');
    for (let i = 0; i < octets.length; i++) {
      const changed = Buffer.from(octets);
      changed[i]! ^= 1;
      expect(() => sealer.open(changed.toString('base64')), `octet ${i}`).toThrow();
    }
  });
  it('that is missing is not made anew over what it sealed', async () => {
    await Sealer.open(file(), db);
    rmSync(file());
    await expect(Sealer.open(file(), db)).rejects.toMatchObject({ code: 'key-wrong', what: 'The key file is missing' });
  });
  it('that is another is refused', async () => {
    await Sealer.open(file(), db);
    writeFileSync(file(), randomBytes(32));
    await expect(Sealer.open(file(), db)).rejects.toMatchObject({ code: 'key-wrong', what: 'The key file is another' });
  });
  it('is tried on what an earlier Barrow sealed, which wrote no check value', async () => {
    const sealer = await Sealer.open(file(), db);
    await db.write(async (em) => {
      await em.nativeDelete(MarkEntity, { name: 'key-check' });
      await em.insert(CredentialEntity, {
        id: 'c',
        name: 'n',
        kind: 'snmp-v2c',
        user: null,
        sealed: sealer.seal('x'),
        second: null,
        settings: {},
        createdAt: 1,
      });
    });
    await expect(Sealer.open(file(), db)).resolves.toBeDefined();
    await db.write(async (em) => em.nativeDelete(MarkEntity, { name: 'key-check' }));
    writeFileSync(file(), randomBytes(32));
    await expect(Sealer.open(file(), db)).rejects.toMatchObject({ code: 'key-wrong' });
  });
  it('of another length is none', async () => {
    writeFileSync(file(), 'short');
    await expect(Sealer.open(file(), db)).rejects.toMatchObject({ code: 'data-unusable' });
  });
});
