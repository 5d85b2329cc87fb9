import type { z } from 'zod';
import { meantName } from '../transfers/names.js';

type Issue = z.core.$ZodIssue;

/** The name of a field in the HTTP API. */
const nameOf = (path: readonly PropertyKey[]): string => (path.length === 0 ? 'the request' : path.map(String).join('.'));

const kindWords: Record<string, string> = {
  string: 'text',
  number: 'a number',
  int: 'a whole number',
  boolean: 'true or false',
  array: 'a list',
  object: 'an object',
};

/** What stands at a place of what was given. */
const at = (given: unknown, path: readonly PropertyKey[]): unknown =>
  path.reduce<unknown>(
    (value, key) => (value !== null && typeof value === 'object' ? (value as Record<PropertyKey, unknown>)[key] : undefined),
    given,
  );

/** Of so many words at most all are told. */
const mostTold = 20;

/** Which words may stand at a place, and which was probably meant. */
function oneOfText(name: string, values: readonly string[], input: unknown): string {
  const told =
    values.length <= mostTold ? values.join(', ') : `${values.slice(0, mostTold).join(', ')} and ${values.length - mostTold} more`;
  if (input === undefined) return `${name} is missing; it is one of ${told}`;
  if (typeof input !== 'string') return `${name} is one of ${told}`;
  return `${name} is one of ${told}, not "${input}"${meantText(input, values)}`;
}

/** `; is WORD meant?`, where one is near enough. */
export function meantText(word: string, values: readonly string[]): string {
  const meant = meantName(word, values);
  return meant === null ? '' : `; is ${meant} meant?`;
}

/**
 * One fault of what a person gave, in their words: which field, and what it may be. No text of a schema reaches anybody but by this.
 * @param given what was checked, so that it can be repeated
 * @param name what the field is called
 */
export function describeIssue(issue: Issue, given: unknown, name = nameOf(issue.path)): string {
  const input = at(given, issue.path);
  switch (issue.code) {
    case 'too_big':
      return issue.origin === 'string'
        ? `${name} has at most ${issue.maximum} characters`
        : issue.origin === 'array'
          ? `${name} has at most ${issue.maximum} entries`
          : `${name} is at most ${issue.maximum}`;
    case 'too_small':
      if (issue.origin === 'string') return issue.minimum === 1 ? `${name} is empty` : `${name} has at least ${issue.minimum} characters`;
      if (issue.origin === 'array') return issue.minimum === 1 ? `${name} has no entry` : `${name} has at least ${issue.minimum} entries`;
      return `${name} is at least ${issue.minimum}`;
    case 'invalid_type':
      if (input === undefined) return `${name} is missing`;
      return issue.message.startsWith('Invalid')
        ? `${name} is ${kindWords[issue.expected] ?? issue.expected}`
        : `${name}: ${issue.message}`;
    case 'unrecognized_keys':
      if (!issue.message.startsWith('Unrecognized')) return issue.message.replaceAll('\n', '; ');
      return `${issue.keys.map((k) => `"${k}"`).join(', ')} ${issue.keys.length === 1 ? 'is' : 'are'} not known ${issue.path.length === 0 ? 'here' : `in ${name}`}`;
    case 'invalid_value':
      return oneOfText(name, issue.values.map(String), input);
    case 'invalid_union':
      // The word that tells the forms apart is none of theirs.
      if ('options' in issue && Array.isArray(issue.options)) return oneOfText(name, issue.options.map(String), input);
      return `${name} is in none of the forms that it may have`;
    default:
      if (issue.code === 'invalid_format' && issue.format === 'date') return `${name} is no day such as 2027-03-31`;
      return /^(Invalid|Too|Expected|Unrecognized)\b/.test(issue.message)
        ? `${name} is not in the form that is expected`
        : `${name}: ${issue.message}`;
  }
}
