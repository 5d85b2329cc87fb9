import { spawn } from 'node:child_process';
import { existsSync } from 'node:fs';
import { createRequire } from 'node:module';

/** Tables of more rows are looked at by their structure only; reading each row would take too long at every start. */
const mostRowsRead = 20_000;

/** What the other process does: a damaged file can end the process that reads it, so it is not this one. */
const look = `
const [library, file, most] = process.argv.slice(1);
const Sqlite = require(library);
let db;
try {
  db = new Sqlite(file);
  const { user_version: version } = db.prepare('pragma user_version').get();
  const found = db.prepare('pragma quick_check(3)').all().map((r) => Object.values(r)[0]).filter((t) => t !== 'ok');
  if (found.length === 0)
    for (const { name } of db.prepare("select name from sqlite_master where type = 'table' and name not like 'sqlite_%'").all())
      if (db.prepare('select count(*) as n from "' + name + '"').get().n <= Number(most)) for (const row of db.prepare('select * from "' + name + '"').iterate()) void row;
  process.stdout.write(JSON.stringify({ version, found }));
} catch (error) {
  process.stdout.write(JSON.stringify({ version: -1, found: [String(error.message)], code: error.code ?? null }));
}
`;

export interface LookedAt {
  /** `PRAGMA user_version`; -1 when it cannot be told, 0 for one that is not there yet. */
  readonly version: number;
  /** What is wrong with the file, in the words of the library; empty when nothing was found. */
  readonly found: readonly string[];
}

/** Looks whether a database file is whole, in a process of its own; nothing is changed. */
export function lookAtFile(file: string): Promise<LookedAt> {
  if (!existsSync(file)) return Promise.resolve({ version: 0, found: [] });
  const library = createRequire(import.meta.url).resolve('libsql');
  return new Promise((resolve, reject) => {
    const child = spawn(process.execPath, ['-e', look, library, file, String(mostRowsRead)], { stdio: ['ignore', 'pipe', 'ignore'] });
    let out = '';
    child.stdout.on('data', (d: Buffer) => (out += d.toString()));
    child.once('error', reject);
    child.once('close', (code, signal) => {
      try {
        resolve(JSON.parse(out) as LookedAt);
      } catch {
        resolve({ version: -1, found: [`reading it ended the process that read it (${signal ?? code})`] });
      }
    });
  });
}
