import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto';
import { chmodSync, existsSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { StartFailure } from '../errors.js';
import type { Database } from './database.js';
import { CredentialEntity, MarkEntity, SavedEntity } from './entities.js';

/** Seals secrets with AES-256-GCM (NIST SP 800-38D) under a key file that only its owner may read. */
export class Sealer {
  private constructor(private readonly key: Buffer) {}

  /**
   * Reads the key file; makes it only when nothing was ever sealed under another.
   * @throws StartFailure when it is missing, unusable, or not the one that this database was sealed under.
   */
  static async open(file: string, db: Database): Promise<Sealer> {
    const [check] = await db.find(MarkEntity, { name: 'key-check' });
    const sealed = check?.value ?? (await anySealed(db));
    if (!existsSync(file)) {
      if (sealed !== null)
        throw new StartFailure(
          'key-wrong',
          'The key file is missing',
          `${file} is not there, and the credentials and backups of this database are sealed with it.`,
          'Put it back from a copy. Without it they cannot be opened: to begin anew, move the whole data folder away.',
        );
      writeFileSync(file, randomBytes(32), { mode: 0o600, flag: 'wx', flush: true });
    }
    if ((statSync(file).mode & 0o077) !== 0) chmodSync(file, 0o600);
    const key = readFileSync(file);
    if (key.length !== 32)
      throw new StartFailure(
        'data-unusable',
        'The key file cannot be used',
        `${file} has ${key.length} octets, not 32.`,
        'Restore it from a copy: without it the credentials and backups cannot be opened.',
      );
    const sealer = new Sealer(key);
    if (sealed !== null)
      try {
        sealer.open(sealed);
      } catch {
        throw new StartFailure(
          'key-wrong',
          'The key file is another',
          `${file} does not open what this database was sealed with.`,
          'Put the key file back that belongs to this database; the two are copied together, and kept apart.',
        );
      }
    if (!check) await db.write(async (em) => em.insert(MarkEntity, { name: 'key-check', value: sealer.seal('Barrow') }));
    return sealer;
  }

  seal(text: string): string {
    const nonce = randomBytes(12);
    const cipher = createCipheriv('aes-256-gcm', this.key, nonce);
    const sealed = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
    return Buffer.concat([nonce, cipher.getAuthTag(), sealed]).toString('base64');
  }

  /** @throws Error when the text was sealed under another key or was changed. */
  open(sealed: string): string {
    const bytes = Buffer.from(sealed, 'base64');
    const decipher = createDecipheriv('aes-256-gcm', this.key, bytes.subarray(0, 12));
    decipher.setAuthTag(bytes.subarray(12, 28));
    return Buffer.concat([decipher.update(bytes.subarray(28)), decipher.final()]).toString('utf8');
  }
}

/** Anything that was sealed by a Barrow that wrote no check value yet. */
async function anySealed(db: Database): Promise<string | null> {
  const credential = await db.findOne(CredentialEntity, {});
  if (credential) return credential.sealed;
  return (await db.findOne(SavedEntity, {}))?.sealed ?? null;
}

export const digestOf = (text: string | Buffer): string => createHash('sha256').update(text).digest('hex');

/** A short name that nothing else has: a letter for what it is, and 40 random bits. */
export const newId = (kind: string): string => `${kind}-${randomBytes(5).toString('hex')}`;
