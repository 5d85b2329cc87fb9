import { createHash } from 'node:crypto';
import type { ImageNote, PathImage } from '@barrow/core';

/** What of an image's row the path solver looks at. */
export function pathImageOf(row: { sha256: string; file: string; bytes: number; note: ImageNote }): PathImage {
  const { sha256, file, bytes, note } = row;
  const { family, models, hardwareRevisions, variant, version, component, channel, withdrawn, from, reboots, goingDown } = note;
  const { resets, drops, bringsBootLoader, needs } = note;
  return {
    sha256,
    file,
    bytes,
    family,
    models,
    hardwareRevisions,
    variant,
    version,
    component,
    channel,
    withdrawn,
    from,
    reboots,
    goingDown,
    resets,
    drops,
    bringsBootLoader,
    needs,
  };
}

/** The digest that names a release: of its one file, or of the list of its files. */
export function releaseDigest(files: readonly { readonly file: string; readonly sha256: string }[]): string {
  if (files.length === 1) return files[0]!.sha256;
  return createHash('sha256')
    .update(files.map((f) => `${f.sha256}  ${f.file}\n`).join(''))
    .digest('hex');
}
