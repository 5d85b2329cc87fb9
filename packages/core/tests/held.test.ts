import { describe, expect, it } from 'vitest';
import { algorithmOf, compareHeld } from '@barrow/core';

const ours = 'ab'.repeat(32);

describe('what a device says that it holds', () => {
  it.each([
    ['the same digest', { digest: ours, bytes: null }, 'digest'],
    ['the same digest in capitals and pairs', { digest: ours.toUpperCase().replace(/(..)(?=.)/g, '$1:'), bytes: '10' }, 'digest'],
    ['the same size alone', { digest: null, bytes: ' 10 ' }, 'size'],
    ['nothing', { digest: null, bytes: null }, 'nothing'],
    ['nothing but spaces', { digest: ' ', bytes: '' }, 'nothing'],
  ] as const)('is compared by %s', (_, told, by) => expect(compareHeld(told, 10, ours)).toEqual({ same: true, by }));

  it.each([
    ['another digest', { digest: 'cd'.repeat(32), bytes: '10' }, ours, 'image-damaged', /cdcd.*the image has abab/],
    ['another size', { digest: ours, bytes: '9' }, ours, 'wrong-size-taken', /holds 9 octets, the image has 10/],
    ['a size that is none', { digest: null, bytes: '10 k' }, ours, 'unexpected-answer', /no number/],
    ['a digest of no known kind', { digest: 'good', bytes: null }, null, 'unexpected-answer', /"good"/],
  ] as const)('is refused for %s', (_, told, digest, cause, detail) => {
    const verdict = compareHeld(told, 10, digest);
    expect(verdict).toMatchObject({ same: false, cause });
    expect(verdict.same ? '' : verdict.detail).toMatch(detail);
  });

  it.each([
    ['f'.repeat(32), 'md5'],
    ['F'.repeat(40), 'sha1'],
    ['0a '.repeat(32), 'sha256'],
    ['a'.repeat(128), 'sha512'],
    ['a'.repeat(33), null],
    ['sound', null],
  ])('%s is a digest of %s', (text, kind) => expect(algorithmOf(text)).toBe(kind));
});
