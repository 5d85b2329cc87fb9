import { readdirSync, readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { join } from 'node:path';
import { isMap, isPair, isSeq, LineCounter, parseDocument, type Node, type Document } from 'yaml';
import { compiledFamily } from './compiled.js';
import { familySchema } from './family.js';
import type { Family } from './shape.js';

export interface FamilyFault {
  readonly file: string;
  readonly line: number;
  readonly where: string;
  readonly message: string;
}

/** A family file that cannot be taken, with every fault and its line. */
export class FamilyFileError extends Error {
  readonly code = 'family-file';
  constructor(readonly faults: readonly FamilyFault[]) {
    super(faults.map((f) => `${f.file}:${f.line}: ${f.where ? `${f.where}: ` : ''}${f.message}`).join('\n'));
  }
}

/** The deepest node of a path that is in the file, so that a missing key is told at its parent. */
function nodeAt(document: Document, path: readonly PropertyKey[], unknownKey: string | null): Node | null {
  let node = document.contents as Node | null;
  for (const key of path) {
    let next: unknown = null;
    if (isMap(node)) next = node.get(String(key), true);
    else if (isSeq(node)) next = node.get(Number(key), true);
    if (!next) return node;
    node = next as Node;
  }
  if (unknownKey !== null && isMap(node)) {
    const pair = node.items.find((p) => isPair(p) && String(p.key) === unknownKey);
    if (pair) return pair.key as Node;
  }
  return node;
}

/**
 * Reads one family file.
 * @throws FamilyFileError naming the line of each fault.
 */
export function parseFamily(text: string, file: string): Family {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines });
  const lineOf = (offset: number): number => lines.linePos(offset).line;
  if (document.errors.length > 0)
    throw new FamilyFileError(
      document.errors.map((e) => ({ file, line: lineOf(e.pos[0]), where: '', message: e.message.split('\n')[0]! })),
    );
  const parsed = familySchema.safeParse(document.toJS({ maxAliasCount: 50 }));
  if (parsed.success) return parsed.data;
  throw new FamilyFileError(
    parsed.error.issues.map((issue) => {
      const unknownKey = issue.code === 'unrecognized_keys' ? (issue.keys[0] ?? null) : null;
      const node = nodeAt(document, issue.path, unknownKey);
      return { file, line: lineOf(node?.range?.[0] ?? 0), where: issue.path.join('.'), message: issue.message };
    }),
  );
}

/** Where the family files that ship with Barrow are. */
export const shippedFamilies = fileURLToPath(new URL('../../files', import.meta.url));

/** The families of some folders, and the text of the file that each was read from. */
export interface FamilyFiles {
  readonly families: Map<string, Family>;
  readonly texts: Map<string, string>;
  /** Faults of the files that were left out. */
  readonly skipped: readonly string[];
}

/**
 * Reads every family file of some folders; two files of one family are a fault.
 * @param lenient folders whose files came from elsewhere: one that cannot be taken is left out, and the others are taken
 * @throws FamilyFileError for a file of the first folders
 */
export function loadFamilyFiles(folders: readonly string[] = [shippedFamilies], lenient: readonly string[] = []): FamilyFiles {
  const families = new Map<string, Family>();
  const texts = new Map<string, string>();
  const skipped: string[] = [];
  const take = (folder: string, file: string): void => {
    const text = readFileSync(join(folder, file), 'utf8');
    const family = compiledFamily(text) ?? parseFamily(text, file);
    if (families.has(family.family))
      throw new FamilyFileError([{ file, line: 1, where: 'family', message: `${family.family} is described by another file already` }]);
    families.set(family.family, family);
    texts.set(family.family, text);
  };
  for (const folder of [...folders, ...lenient])
    for (const file of readdirSync(folder).sort()) {
      if (!file.endsWith('.yaml')) continue;
      try {
        take(folder, file);
      } catch (error) {
        if (!(error instanceof FamilyFileError) || !lenient.includes(folder)) throw error;
        skipped.push(error.message);
      }
    }
  return { families, texts, skipped };
}

/** Reads every family file of a folder. @throws FamilyFileError */
export const loadFamilies = (folder = shippedFamilies): Map<string, Family> => loadFamilyFiles([folder]).families;
