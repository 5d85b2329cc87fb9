import { RE2JS } from 're2js';

/** How a family's version text is read: patterns tried in order, and the named parts that decide the order. */
export interface VersionScheme {
  /** Patterns in RE2 syntax with named groups; the first that matches the whole text wins. */
  readonly patterns: readonly string[];
  /** Named parts, most significant first. A part that is absent sorts before every value, or after with `absent: last`. */
  readonly order: readonly { readonly part: string; readonly absent: 'first' | 'last' }[];
  /** How the version is written in one way, e.g. `{major}.{minor}.{fix}`; `{minor:2}` has at least two digits. */
  readonly write: string;
}

/** A version that its family could read. Only `readVersion` makes one. */
export interface Version {
  /** As the device or file spelt it. */
  readonly text: string;
  /** The one spelling that all spellings of this version share. */
  readonly canonical: string;
  readonly parts: readonly (string | undefined)[];
}

/** A version text that the family's patterns do not cover; never guessed at. */
export class VersionUnreadable extends Error {
  readonly code = 'version-unreadable';
  constructor(readonly texts: readonly string[]) {
    super(`the family cannot read the version ${texts.map((t) => JSON.stringify(t)).join(' and ')}`);
  }
}

const compiled = new Map<string, RE2JS>();

/** Compiles an RE2 pattern once; throws with the pattern's fault when it is not valid. */
export function pattern(source: string, flags = 0): RE2JS {
  const key = `${flags}/${source}`;
  let found = compiled.get(key);
  if (!found) {
    found = RE2JS.compile(source, flags);
    compiled.set(key, found);
  }
  return found;
}

/**
 * Reads a version by its family's scheme.
 * @throws VersionUnreadable when no pattern matches the whole text.
 */
export function readVersion(scheme: VersionScheme, text: string): Version {
  const trimmed = text.trim();
  for (const source of scheme.patterns) {
    const match = pattern(source).matcher(trimmed);
    if (!match.matches()) continue;
    const named = match.getNamedGroups() as Record<string, string | null>;
    const part = (name: string): string | undefined => {
      const value = named[name];
      if (value === undefined || value === null || value === '') return undefined;
      return /^\d+$/.test(value) ? value.replace(/^0+(?=\d)/, '') : value;
    };
    return {
      text: trimmed,
      canonical: scheme.write.replace(/\{(\w+)(?::(\d))?\}/g, (_, name: string, digits?: string) =>
        (part(name) ?? '').padStart(Number(digits ?? 0), '0'),
      ),
      parts: scheme.order.map(({ part: name }) => part(name)),
    };
  }
  throw new VersionUnreadable([text]);
}

function comparePart(a: string, b: string): number {
  const numeric = /^\d+$/;
  if (numeric.test(a) && numeric.test(b)) {
    // Digits without leading zeros: the longer number is the larger one, whatever its size.
    if (a.length !== b.length) return a.length - b.length;
  }
  return a < b ? -1 : a > b ? 1 : 0;
}

/**
 * Orders two version texts of one family: negative when `a` is older, 0 when they are spellings of one version.
 * @throws VersionUnreadable with both texts when either cannot be read.
 */
export function compareVersions(scheme: VersionScheme, a: string, b: string): number {
  let left: Version, right: Version;
  try {
    left = readVersion(scheme, a);
    right = readVersion(scheme, b);
  } catch (error) {
    if (error instanceof VersionUnreadable) throw new VersionUnreadable([a, b]);
    throw error;
  }
  return compareRead(scheme, left, right);
}

/** Orders two versions that the same family has read. */
export function compareRead(scheme: VersionScheme, left: Version, right: Version): number {
  for (const [i, { absent }] of scheme.order.entries()) {
    const l = left.parts[i];
    const r = right.parts[i];
    if (l === undefined && r === undefined) continue;
    if (l === undefined) return absent === 'first' ? -1 : 1;
    if (r === undefined) return absent === 'first' ? 1 : -1;
    const order = comparePart(l, r);
    if (order !== 0) return order;
  }
  return 0;
}

/** Whether two texts are one version; false when either cannot be read and the texts differ. */
export function sameVersion(scheme: VersionScheme, a: string, b: string): boolean {
  if (a === b) return true;
  try {
    return compareVersions(scheme, a, b) === 0;
  } catch {
    return false;
  }
}
