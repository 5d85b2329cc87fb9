import { compareConfigurations, unexpectedOf, type ConfigurationDifference, type NormaliseRules } from '../configuration/compare.js';
import { sameVersion, type VersionScheme } from '../versions/version.js';
import type { CauseCode } from '../causes/catalogue.js';
import type { Check } from './check.js';

function verdict(name: Check['name'], passed: boolean, before: string, after: string, cause: CauseCode, evidence: string[] = []): Check {
  return { name, result: passed ? 'passed' : 'failed', before, after, evidence, cause: passed ? null : cause };
}

/** The same device answers: a serial is its identity, its address is not. */
export function checkSerial(planned: string, found: string | null): Check {
  return verdict('serial', found === planned, planned, found ?? 'not told', 'another-device');
}

/** The device reports the target, in whatever spelling. */
export function checkVersion(scheme: VersionScheme, from: string, target: string, found: string | null): Check {
  const passed = found !== null && sameVersion(scheme, found, target);
  return verdict('version', passed, from, found ?? 'not told', 'old-version', passed ? [] : [`the target is ${target}`]);
}

/** It has not restarted since it was checked: a device that does so by itself has not settled. Counts of boots, as it tells them. */
export function checkSettled(before: string, after: string | null): Check {
  return verdict('settled', after === before, `${before} boots`, after === null ? 'not told' : `${after} boots`, 'restarted-in-soak');
}

/** The device would boot the target again: an upgrade that is not saved is lost at the next power cut. */
export function checkNextBoot(scheme: VersionScheme, from: string, target: string, nextBoot: string | null): Check {
  const passed = nextBoot !== null && sameVersion(scheme, nextBoot, target);
  return verdict('next boot', passed, from, nextBoot ?? 'not told', 'next-boot-not-saved');
}

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
      difference.lines.slice(0, 40),
    ),
  };
}
