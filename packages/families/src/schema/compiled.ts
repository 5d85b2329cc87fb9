import { createHash } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import type { Family } from './shape.js';

/** Made by the build from the files that ship: what each was read as, by the SHA-256 of its text. */
const place = fileURLToPath(new URL('../compiled.json', import.meta.url));

/** Whether it was made after the last change of how files are read. */
function isCurrent(): boolean {
  if (!existsSync(place)) return false;
  const made = statSync(place).mtimeMs;
  const here = new URL('.', import.meta.url);
  return readdirSync(here).every((name) => statSync(new URL(name, here)).mtimeMs <= made);
}

const digestOf = (text: string): string => createHash('sha256').update(text).digest('hex');

let compiled: Map<string, Family> | null = null;

/** What a file of this very text was read as when Barrow was built; undefined when it is no file that ships, or was changed since. */
export function compiledFamily(text: string): Family | undefined {
  compiled ??= new Map(isCurrent() ? (JSON.parse(readFileSync(place, 'utf8')) as [string, Family][]) : []);
  return compiled.get(digestOf(text));
}

/** Writes down what files were read as, for the starts to come. */
export function writeCompiled(read: Iterable<readonly [text: string, family: Family]>): void {
  writeFileSync(place, JSON.stringify([...read].map(([text, family]) => [digestOf(text), family])));
}
