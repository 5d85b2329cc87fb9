import { appendFileSync, readFileSync, writeFileSync } from 'node:fs';
import { promisify } from 'node:util';
import { execFile } from 'node:child_process';
import { expect } from 'vitest';
import { barrow } from './service.js';

/** One block of a page: what it is, and what stands in it. */
export interface Block {
  readonly what: string;
  readonly text: string;
}

/** The blocks of a page, in their order. */
export const blocksOf = (page: string): Block[] =>
  [...page.matchAll(/^```(\w+)( \w+)?\n([\s\S]*?)^```$/gm)].map((m) => ({ what: `${m[1]!}${m[2] ?? ''}`, text: m[3]! }));

/** A command line in words, with quotes as a shell reads them. */
const wordsOf = (line: string): string[] => (line.match(/'[^']*'|\S+/g) ?? []).map((w) => w.replace(/^'(.*)'$/, '$1'));

/**
 * Does what a page says, word by word: commands are run, what stands in a text is typed into the command before it, and what is YAML is
 * added to the family file, or below its procedures.
 *
 * @param put the names of the page, as they are here
 * @param before done before each command
 * @returns all that was said
 */
export async function followPage(
  blocks: readonly Block[],
  use: { readonly file: string; readonly data: string; readonly put: (text: string) => string; readonly before?: () => Promise<void> },
): Promise<string> {
  const { file, data, put } = use;
  const said: string[] = [];
  for (const [i, { what, text }] of blocks.entries()) {
    // What is typed is the input of the command before it.
    if (what === 'text') continue;
    if (what === 'yaml') {
      appendFileSync(file, put(text));
      continue;
    }
    if (what === 'yaml procedures') {
      writeFileSync(
        file,
        readFileSync(file, 'utf8').replace(/^procedures:\n/m, (head) => head + put(text)),
      );
      continue;
    }
    const lines = put(text).trim().split('\n');
    for (const [n, line] of lines.entries()) {
      await use.before?.();
      const next = blocks[i + 1];
      const input = n === lines.length - 1 && next?.what === 'text' ? put(next.text) : '';
      const [program, ...words] = wordsOf(line);
      if (program !== 'barrow') {
        said.push(`$ ${line}\n${(await promisify(execFile)(program!, words)).stdout}`);
        continue;
      }
      const ran = await barrow(words, { data, input });
      said.push(`$ ${line}\n${ran.out}${ran.err}`);
      expect(ran.code, said.join('\n')).toBe(0);
    }
  }
  return said.join('\n');
}
