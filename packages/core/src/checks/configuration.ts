import { compareConfigurations, unexpectedOf, type ConfigurationDifference, type NormaliseRules } from '../configuration/compare.js';
import type { Check } from './check.js';
import { verdict } from './verdict.js';

/** So many lines of a difference are looked at one by one. */
const mostCompared = 5000;

/** The configuration is the one from before, apart from lines that change by themselves, and those that are expected of the version step. */
export function checkConfiguration(
  before: string,
  after: string,
  rules: NormaliseRules,
  expected: ReadonlySet<string> = new Set(),
): { check: Check; difference: ConfigurationDifference } {
  const found = unexpectedOf(compareConfigurations(before, after, rules, mostCompared), expected);
  const { difference } = found;
  const lines = (text: string): string => `${text.split('\n').length - 1} lines`;
  const known = found.expected === 0 ? '' : `, but ${found.expected} expected line${found.expected === 1 ? '' : 's'}`;
  return {
    difference,
    check: verdict(
      'configuration',
      difference.same,
      lines(before),
      difference.same
        ? `the same${known}`
        : `${difference.removed} lines gone, ${difference.added} new${known === '' ? '' : ` besides${known.slice(5)}`}`,
      'settings-changed',
      // Only what differs: lines around it say nothing of the change.
      difference.lines.filter((line) => /^[+-]/.test(line)).slice(0, 40),
    ),
  };
}
