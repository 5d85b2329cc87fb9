import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { compareVersions, readVersion, sameVersion, VersionUnreadable, type VersionScheme } from '@barrow/core';

const scheme: VersionScheme = {
  patterns: ['[Vv]?(?P<major>\\d+)[.-](?P<minor>\\d+)[.-](?P<fix>\\d+)(?:rc(?P<rc>\\d+))?(?: build \\d+)?'],
  order: [
    { part: 'major', absent: 'first' },
    { part: 'minor', absent: 'first' },
    { part: 'fix', absent: 'first' },
    { part: 'rc', absent: 'last' },
  ],
  write: '{major}.{minor}.{fix}',
};

describe('versions', () => {
  it('reads spellings of one version as one', () => {
    for (const text of ['5.2.1', '05-02-01', 'V5.2.1 build 0419', ' 5.2.1 ']) {
      expect(readVersion(scheme, text).canonical).toBe('5.2.1');
      expect(compareVersions(scheme, text, '5.2.1')).toBe(0);
      expect(sameVersion(scheme, text, 'v5.2.1')).toBe(true);
    }
  });

  it.each([
    ['4.9.9', '4.10.0'],
    ['4.3.0rc2', '4.3.0'],
    ['4.3.0rc2', '4.3.0rc10'],
    ['1.0.99999999999999999998', '1.0.99999999999999999999'],
  ])('orders %s before %s', (older, newer) => {
    expect(compareVersions(scheme, older, newer)).toBeLessThan(0);
    expect(compareVersions(scheme, newer, older)).toBeGreaterThan(0);
  });

  it('never guesses: what cannot be read is an error with both texts', () => {
    expect(() => compareVersions(scheme, '4.2.1', 'latest')).toThrow(VersionUnreadable);
    expect(() => compareVersions(scheme, '4.2.1', 'latest')).toThrow('"4.2.1" and "latest"');
    expect(sameVersion(scheme, 'latest', '4.2.1')).toBe(false);
  });

  it('writes with leading zeros where the family does', () => {
    const padded = { ...scheme, write: 'R{major}.{minor:2}' };
    expect(readVersion(padded, '7.4.0').canonical).toBe('R7.04');
  });

  it('is a total order', () => {
    const text = fc
      .tuple(fc.nat(30), fc.nat(30), fc.nat(30), fc.option(fc.nat(9)))
      .map(([a, b, c, rc]) => `${a}.${b}.${c}${rc === null ? '' : `rc${rc}`}`);
    fc.assert(
      fc.property(text, text, text, (a, b, c) => {
        const sign = (x: string, y: string) => Math.sign(compareVersions(scheme, x, y));
        expect(sign(a, b) + sign(b, a)).toBe(0);
        if (sign(a, b) <= 0 && sign(b, c) <= 0) expect(sign(a, c)).toBeLessThanOrEqual(0);
      }),
    );
  });
});
