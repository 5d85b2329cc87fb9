import { sameVersion, VersionUnreadable, type VersionScheme } from '../versions/version.js';
import type { Check } from './check.js';

/** A member of a stack, or a board of a chassis, as its whole tells of it. */
export interface Member {
  readonly name: string;
  readonly serial: string;
  /** null: it is not told. */
  readonly firmware: string | null;
  /** What it is in its whole, in its own words: the one that leads, or that follows; null: it is not told. */
  readonly role: string | null;
}

/** Those of before that are not among those of now, by their serial. */
export const missingMembers = (before: readonly Member[], after: readonly Member[]): Member[] => {
  const there = new Set(after.map((m) => m.serial));
  return before.filter((m) => !there.has(m.serial));
};

const named = ({ name, serial }: Member): string => (name === '' ? serial : `${name} (${serial})`);

/**
 * Every member that was there is there again in its place, and each runs the target: a whole that tells the version of its first member
 * alone says nothing of the others, and settings are of ports by their place. Who leads may be another after a restart, and is told.
 *
 * @param target null where another component than their system was changed
 */
export function checkMembers(scheme: VersionScheme, before: readonly Member[], after: readonly Member[], target: string | null): Check {
  const missing = missingMembers(before, after);
  const isOther = ({ firmware }: Member): boolean => {
    if (target === null || firmware === null) return false;
    try {
      return !sameVersion(scheme, firmware, target);
    } catch (error) {
      if (error instanceof VersionUnreadable) return true;
      throw error;
    }
  };
  const behind = after.filter(isOther);
  const known = new Map(before.map((m) => [m.serial, m]));
  const added = after.filter((m) => !known.has(m.serial));
  const moved = after.filter((m) => ![undefined, '', m.name].includes(known.get(m.serial)?.name) && m.name !== '');
  const other = after.filter((m) => m.role !== null && (known.get(m.serial)?.role ?? m.role) !== m.role);
  return {
    name: 'members',
    result: missing.length + behind.length + moved.length > 0 ? 'failed' : 'passed',
    before: `${before.length}`,
    after: `${after.length}${behind.length > 0 ? `, ${behind.length} of them on another version` : ''}`,
    evidence: [
      ...missing.map((m) => `${named(m)} is not there any more`),
      ...behind.map((m) => `${named(m)} runs ${m.firmware}, and the target is ${target}`),
      ...moved.map((m) => `${named(known.get(m.serial)!)} is ${m.name} now`),
      ...other.map((m) => `${named(m)} was ${known.get(m.serial)!.role}, and is ${m.role}`),
      ...added.map((m) => `${named(m)} was not there before`),
    ],
    cause: missing.length > 0 ? 'member-missing' : behind.length > 0 ? 'member-behind' : moved.length > 0 ? 'member-moved' : null,
  };
}
