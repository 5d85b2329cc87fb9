import type { VersionScheme } from '@barrow/core';
import { versionsOf, type Family } from '@barrow/families';

/** What a leg exchanges on the device: its system, or its boot loader. */
export interface Exchanged {
  readonly scheme: VersionScheme;
  /** What a procedure `record` tells of it. */
  readonly versionIn: (gives: Readonly<Record<string, string>>) => string | null;
  /** Whether what the device boots next is told of it. */
  readonly isBooted: boolean;
}

export const exchangedBy = (family: Family, component: string): Exchanged =>
  component === 'boot-loader'
    ? { scheme: versionsOf(family, component), versionIn: (gives) => gives['bootLoader'] ?? null, isBooted: false }
    : { scheme: family.versions, versionIn: (gives) => gives['firmware'] ?? null, isBooted: true };
