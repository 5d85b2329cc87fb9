import { randomBytes } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { isOwn } from './addresses.js';

/** What `staging check` fetches from the stores, from this machine only: two blocks, under a name that nobody guesses. No line in the record. */
export class CheckFile {
  readonly name = `is-anybody-there-${randomBytes(8).toString('hex')}`;
  readonly content = randomBytes(700);
  readonly path: string;

  constructor(dataFolder: string) {
    this.path = join(dataFolder, 'check-file');
    writeFileSync(this.path, this.content, { mode: 0o600 });
  }

  /** Whether a request is our own. */
  is(address: string, name: string): boolean {
    return name === this.name && isOwn(address);
  }
}
