import { compareVersions, type VersionScheme } from '@barrow/core';

/** What the numbers of a version are called, first to last. */
const partNames = ['major', 'minor', 'fix', 'build', 'part5', 'part6', 'part7', 'part8'] as const;
type Token = { readonly kind: 'number' | 'word' | 'mark'; readonly text: string };

const tokensOf = (version: string): Token[] =>
  (version.match(/\d+|[A-Za-z]+|[^A-Za-z\d]/g) ?? []).map((text) => ({
    kind: /\d/.test(text) ? 'number' : /[A-Za-z]/.test(text) ? 'word' : 'mark',
    text,
  }));
export const escaped = (text: string): string => text.replace(/[\\^$.*+?()[\]{}|]/g, '\\$&');

/** Examples that have no shape in common, or stand in another order than the shape says. */
export class ExamplesUnlike extends Error {}

/**
 * How versions like these are read and ordered. What all have and is the same in all is a fixed part; numbers are parts that are
 * compared; what only the longer ones have may be absent.
 *
 * @param examples from the oldest to the newest
 * @throws ExamplesUnlike when they are of different shapes, or the order that follows is not theirs
 */
export function schemeOf(examples: readonly string[]): VersionScheme {
  const all = examples.map(tokensOf).sort((a, b) => b.length - a.length);
  const [longest] = all;
  if (longest === undefined || longest.length === 0) throw new ExamplesUnlike('there is no example');
  const bare = examples.find((example) => !/\d/.test(example));
  if (bare !== undefined) throw new ExamplesUnlike(`"${bare}" has no number, by which versions are in order`);
  const shortest = Math.min(...all.map((t) => t.length));
  let source = '';
  let write = '';
  const order: { part: string; absent: 'first' }[] = [];
  let number = 0;
  let words = 0;
  longest.forEach((token, at) => {
    const here = all.flatMap((tokens) => tokens[at] ?? []);
    if (here.some((t) => t.kind !== token.kind || (token.kind === 'mark' && t.text !== token.text)))
      throw new ExamplesUnlike(`${examples.join(', ')} differ in more than numbers at their part ${at + 1}`);
    const isOptional = at >= shortest;
    // What may be absent is opened where it begins, and closed at the end.
    if (isOptional) source += '(?:';
    if (token.kind === 'number') {
      const part = partNames[number++] ?? `part${number}`;
      source += `(?P<${part}>\\d+)`;
      order.push({ part, absent: 'first' });
      write += `{${part}}`;
    } else if (token.kind === 'word' && new Set(here.map((t) => t.text)).size > 1) {
      const part = words++ === 0 ? 'letter' : `letter${words}`;
      source += `(?P<${part}>[A-Za-z]+)`;
      order.push({ part, absent: 'first' });
      write += `{${part}}`;
    } else {
      source += escaped(token.text);
      write += token.text;
    }
  });
  source += ')?'.repeat(longest.length - shortest);
  if (order.length === 0) throw new ExamplesUnlike(`${examples.join(', ')} have no number by which they could be in order`);
  const scheme: VersionScheme = { patterns: [source], order, write };
  for (const [i, later] of examples.entries()) {
    const before = examples[i - 1];
    if (before !== undefined && compareVersions(scheme, before, later) >= 0)
      throw new ExamplesUnlike(`${later} would not be newer than ${before}: name the oldest first`);
  }
  return scheme;
}
