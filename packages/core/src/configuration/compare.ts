import { structuredPatch } from 'diff';
import { pattern } from '../versions/version.js';

/** How a family's configuration text is made comparable: lines that change by themselves are left out. */
export interface NormaliseRules {
  /** RE2 patterns; a line in which one is found is left out. */
  readonly ignoreLines: readonly string[];
}

/** The lines of a configuration that count, without trailing space, blank lines at the end, and volatile lines. */
export function normaliseConfiguration(text: string, rules: NormaliseRules): string {
  const ignored = rules.ignoreLines.map((source) => pattern(source));
  const lines = text
    .replace(/\r\n?/g, '\n')
    .split('\n')
    .map((line) => line.trimEnd())
    .filter((line) => !ignored.some((p) => p.matcher(line).find()));
  while (lines.length > 0 && lines[lines.length - 1] === '') lines.pop();
  return lines.length === 0 ? '' : `${lines.join('\n')}\n`;
}

export interface ConfigurationDifference {
  readonly same: boolean;
  readonly added: number;
  readonly removed: number;
  /** Lines with a leading `+`, `-` or space, three lines of context, at most `most` of them. */
  readonly lines: readonly string[];
  /** How many lines were left out of `lines`. */
  readonly cut: number;
}

/** A difference without the lines that were expected, and how many of them there were. */
export function unexpectedOf(
  difference: ConfigurationDifference,
  expected: ReadonlySet<string>,
): { readonly difference: ConfigurationDifference; readonly expected: number } {
  const left = difference.lines.filter((line) => !expected.has(line));
  const [added, removed] = ['+', '-'].map((sign) => left.filter((l) => l.startsWith(sign)).length) as [number, number];
  const gone = difference.lines.length - left.length;
  const same = added + removed === 0 && difference.cut === 0;
  return { difference: { ...difference, same, added, removed, lines: same ? [] : left }, expected: gone };
}

/** Compares two configurations after normalisation. */
export function compareConfigurations(before: string, after: string, rules: NormaliseRules, most = 400): ConfigurationDifference {
  const left = normaliseConfiguration(before, rules);
  const right = normaliseConfiguration(after, rules);
  if (left === right) return { same: true, added: 0, removed: 0, lines: [], cut: 0 };
  const patch = structuredPatch('before', 'after', left, right, '', '', { context: 3 });
  const lines = patch.hunks.flatMap((h) => h.lines.filter((l) => !l.startsWith('\\')));
  return {
    same: false,
    added: lines.filter((l) => l.startsWith('+')).length,
    removed: lines.filter((l) => l.startsWith('-')).length,
    lines: lines.slice(0, most),
    cut: Math.max(0, lines.length - most),
  };
}
