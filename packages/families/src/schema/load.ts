import { readdirSync, readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { join } from 'node:path';
import { compiledFamily } from './compiled.js';
import { familySchema } from './family.js';
import type { Family } from './shape.js';
import { faultLines, readWritten, type FileFault } from './written.js';

/** A family file that cannot be taken, with every fault and its line. */
export class FamilyFileError extends Error {
  readonly code = 'family-file';
  constructor(readonly faults: readonly FileFault[]) {
    super(faultLines(faults));
  }
}

/**
 * Reads one family file.
 * @throws FamilyFileError naming the line of each fault.
 */
export function parseFamily(text: string, file: string): Family {
  const { value, faults } = readWritten(text, file, familySchema);
  if (faults) throw new FamilyFileError(faults);
  return value;
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
      throw new FamilyFileError([
        { file, line: 1, column: 1, where: 'family', message: `${family.family} is described by another file already` },
      ]);
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
