import { readVersion, VersionUnreadable, type deviceChange, type VersionScheme } from '@barrow/core';
import type { DeviceRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import type { z } from 'zod';

/** What a person read off a device, where no probe tells it; a probe that tells it later replaces it. */
const enterable = ['firmware', 'hardwareRevision', 'variant'] as const;
/** What a person calls the variant that is none. */
const plain = 'plain';

/** What is written when a person enters a version or a hardware revision. @throws Refusal for a version that its family cannot read */
export function enteredOf(
  row: DeviceRow,
  change: z.output<typeof deviceChange>,
  families: ReadonlyMap<string, { readonly versions: VersionScheme }>,
  who: string,
): Partial<DeviceRow> {
  const next: Partial<DeviceRow> = {};
  const believedBy = { ...row.believedBy };
  const family = families.get(change.family ?? row.family ?? '');
  for (const field of enterable) {
    const value = change[field];
    if (value === undefined) continue;
    next[field] =
      value === null
        ? null
        : field === 'firmware' && family
          ? canonical(family.versions, value)
          : field === 'variant' && value === plain
            ? ''
            : value;
    if (value === null) delete believedBy[field];
    else believedBy[field] = `entered by ${who} on ${new Date().toISOString().slice(0, 10)}`;
    if (field === 'firmware') next.firmwareNote = value === null ? 'It was taken back, and no probe has told it yet.' : null;
  }
  return Object.keys(next).length === 0 ? {} : { ...next, believedBy };
}

function canonical(scheme: VersionScheme, text: string): string {
  try {
    return readVersion(scheme, text).canonical;
  } catch (error) {
    if (!(error instanceof VersionUnreadable)) throw error;
    throw new Refusal(
      422,
      'version-unreadable',
      'The version was not set',
      `${error.message}.`,
      'Write it as the family does, e.g. as `barrow image list` shows.',
    );
  }
}
