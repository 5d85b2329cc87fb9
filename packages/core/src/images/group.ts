import { isChecksumName, type Checksum } from './checksums.js';
import { isNoteName, noteNameOf, type ImageNote } from './note.js';

export interface GroupedFiles {
  /** The files of each release, its note among them; archives stand alone. */
  readonly groups: readonly (readonly string[])[];
  readonly checksumFiles: readonly string[];
}

/** Parts files into releases by their notes, so that one that is refused does not take the others with it. */
export function groupFiles(names: readonly string[], noteOf: (name: string) => ImageNote | null): GroupedFiles {
  const left = new Set(names);
  const groups: string[][] = [];
  const checksumFiles = names.filter((n) => isChecksumName(n) && !isNoteName(n));
  for (const name of checksumFiles) left.delete(name);
  for (const name of names) {
    if (!isNoteName(name)) continue;
    left.delete(name);
    const told = noteOf(name)?.files.map((f) => f.file) ?? [];
    const own = (told.length > 0 ? told : [name.slice(0, -noteNameOf('').length)]).filter((f) => left.delete(f));
    groups.push([...own, name]);
  }
  for (const name of left) groups.push([name]);
  return { groups, checksumFiles };
}

/** The lines of checksum files that speak of some files, as the text of a checksum file. */
export const checksumsFor = (all: readonly Checksum[], files: ReadonlySet<string>): string =>
  all
    .filter((c) => files.has(c.file))
    .map((c) => `${c.digest}  ${c.file}\n`)
    .join('');
