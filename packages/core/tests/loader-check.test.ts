import { describe, expect, it } from 'vitest';
import { checkLoader, type VersionScheme } from '@barrow/core';

const scheme: VersionScheme = {
  patterns: ['(?P<major>\\d+)\\.(?P<minor>\\d+)'],
  order: [
    { part: 'major', absent: 'first' },
    { part: 'minor', absent: 'first' },
  ],
  write: '{major}.{minor}',
};

describe('the boot loader after an upgrade', () => {
  it.each<[before: string, after: string | null, evidence: string[]]>([
    ['1.7', '1.7', []],
    ['1.7', '1.10', ['the release brought a newer one along']],
    ['odd', 'odd', []],
  ])('may go from %s to %s', (before, after, evidence) => {
    expect(checkLoader(scheme, before, after)).toEqual({ name: 'boot loader', result: 'passed', before, after, evidence, cause: null });
  });

  it.each<[before: string, after: string | null]>([
    ['1.7', '1.6'],
    ['1.7', null],
    ['1.7', 'unknown'],
  ])('may not go from %s to %s', (before, after) => {
    expect(checkLoader(scheme, before, after)).toMatchObject({
      result: 'failed',
      after: after ?? 'not told',
      cause: 'loader-changed',
    });
  });

  it('is to be the same where nobody says how its versions are ordered', () => {
    expect(checkLoader(null, '1.7', '1.8').cause).toBe('loader-changed');
    expect(checkLoader(null, '1.7', '1.7').cause).toBeNull();
  });
});
