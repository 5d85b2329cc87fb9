import { isMap, isPair, isSeq, LineCounter, parseDocument, type Document, type Node } from 'yaml';
import type { z } from 'zod';
import { describeIssue } from '@barrow/core';

/** One fault of a file that a person wrote. */
export interface FileFault {
  readonly file: string;
  /** From 1. */
  readonly line: number;
  /** From 1. */
  readonly column: number;
  /** The keys that lead there, with points between; empty: the file as a whole. */
  readonly where: string;
  readonly message: string;
}

/** The deepest node of a path that is in the file, so that a missing key is told at its parent. */
function nodeAt(document: Document, path: readonly PropertyKey[], unknownKey: string | null): Node | null {
  let node = document.contents as Node | null;
  for (const key of path) {
    let next: unknown = null;
    if (isMap(node)) next = node.get(String(key), true);
    else if (isSeq(node)) next = node.get(Number(key), true);
    if (!next) return node;
    node = next as Node;
  }
  if (unknownKey !== null && isMap(node)) {
    const pair = node.items.find((p) => isPair(p) && String(p.key) === unknownKey);
    if (pair) return pair.key as Node;
  }
  return node;
}

/**
 * Reads what a person wrote as YAML 1.2, by a schema: what it says, or every fault with its line.
 * @param words everything is text (the failsafe schema of YAML 1.2.2, 10.1): `4.10` stays what it is and becomes no number
 */
export function readWritten<S extends z.ZodType>(
  text: string,
  file: string,
  schema: S,
  words = false,
): { readonly value: z.output<S>; readonly faults: null } | { readonly value: null; readonly faults: readonly FileFault[] } {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, ...(words ? { schema: 'failsafe' } : {}) });
  const placeOf = (offset: number): { line: number; column: number } => {
    const { line, col } = lines.linePos(offset);
    return { line, column: col };
  };
  if (document.errors.length > 0)
    return {
      value: null,
      faults: document.errors.map((e) => ({
        file,
        ...placeOf(e.pos[0]),
        where: '',
        message: e.message.split('\n')[0]!.replace(/ at line \d+, column \d+:$/, ''),
      })),
    };
  let given: unknown;
  try {
    given = document.toJS({ maxAliasCount: 50 });
  } catch (error) {
    // An alias that nothing defines, or aliases that would grow without end (YAML 1.2.2, 7.1).
    return { value: null, faults: [{ file, line: 1, column: 1, where: '', message: (error as Error).message.replace(/\.$/, '') }] };
  }
  const parsed = schema.safeParse(given);
  if (parsed.success) return { value: parsed.data, faults: null };
  return {
    value: null,
    faults: parsed.error.issues.flatMap(eachKey).map((issue) => {
      const unknownKey = issue.code === 'unrecognized_keys' ? (issue.keys[0] ?? null) : null;
      const node = nodeAt(document, issue.path, unknownKey);
      return {
        file,
        ...placeOf(node?.range?.[0] ?? 0),
        where: issue.path.join('.'),
        message: wordsFor(issue, given),
      };
    }),
  };
}

/** A fault of several unknown keys as one for each, so that each is told at its own line. */
function eachKey(issue: z.core.$ZodIssue): z.core.$ZodIssue[] {
  if (issue.code !== 'unrecognized_keys') return [issue];
  const told = issue.message.split('\n');
  return issue.keys.map((key, nth) => ({ ...issue, keys: [key], message: told[nth] ?? issue.message }));
}

/** What is wrong at a place, without the place. */
const wordsFor = (issue: z.core.$ZodIssue, given: unknown): string => describeIssue(issue, given, 'it').replace(/^it: /, '');

/** Faults as lines: `file:line:column: where: message`. */
export const faultLines = (faults: readonly FileFault[]): string =>
  faults.map((f) => `${f.file}:${f.line}:${f.column}: ${f.where ? `${f.where}: ` : ''}${f.message}`).join('\n');
