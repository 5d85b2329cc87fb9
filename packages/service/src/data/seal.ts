import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto';
import { chmodSync, existsSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { StartFailure } from '../errors.js';

/** Seals secrets with AES-256-GCM (NIST SP 800-38D) under a key file that only its owner may read. */
export class Sealer {
  private constructor(private readonly key: Buffer) {}

  /** Reads the key file, or makes it. @throws StartFailure when it is unusable. */
  static open(file: string): Sealer {
    if (!existsSync(file)) writeFileSync(file, randomBytes(32), { mode: 0o600, flag: 'wx' });
    if ((statSync(file).mode & 0o077) !== 0) chmodSync(file, 0o600);
    const key = readFileSync(file);
    if (key.length !== 32)
      throw new StartFailure(
        'data-unusable',
        'The key file cannot be used',
        `${file} has ${key.length} octets, not 32.`,
        'Restore it from a copy: without it the credentials and backups cannot be opened.',
      );
    return new Sealer(key);
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

export const digestOf = (text: string | Buffer): string => createHash('sha256').update(text).digest('hex');

/** A short name that nothing else has: a letter for what it is, and 40 random bits. */
export const newId = (letter: string): string => `${letter}-${randomBytes(5).toString('hex')}`;
