import { algorithmOf, CauseError, compareHeld, type ComparedBy } from '@barrow/core';
import { comparesBy, type Procedure } from '@barrow/families';
import type { ImageRow } from '../data/entities.js';
import { digestOfFile } from './digest.js';
import type { ImageStore } from './store.js';

/**
 * Compares what a device told of what it holds with the image.
 * @returns by what it was compared, `nothing` when neither procedure nor device could tell
 * @throws CauseError when it holds something else
 */
export async function compareWithHeld(
  images: ImageStore,
  image: ImageRow,
  procedure: Procedure,
  gives: Readonly<Record<string, string>>,
): Promise<ComparedBy> {
  const [first] = image.files;
  const digest = gives['digest'] ?? null;
  const algorithm = digest === null ? null : algorithmOf(digest);
  const ours =
    algorithm === null
      ? null
      : algorithm === 'sha256'
        ? first!.sha256
        : await digestOfFile(images.pathOf(first!.sha256), { kind: algorithm });
  const verdict = compareHeld({ digest, bytes: gives['bytes'] ?? null }, first!.bytes, ours);
  if (!verdict.same) throw new CauseError(verdict.cause, verdict.detail);
  // A release of several files is compared by the procedure, file by file; one digest that was told speaks of one of them.
  const own = comparesBy(procedure);
  const told = image.files.length === 1 ? verdict.by : 'nothing';
  return own === 'digest' || told === 'digest' ? 'digest' : own === 'size' || told === 'size' ? 'size' : 'nothing';
}
