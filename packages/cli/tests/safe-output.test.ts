import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { safeOutput } from '../src/safe-output.js';

describe('what a command prints', () => {
  it('keeps its own colours, tabs and line ends', () => {
    const text = '\u001b[32m✓ verified\u001b[39m\tx\r\ny\n\r\u001b[Kz';
    expect(safeOutput(text, false)).toBe(text);
  });
  it.each([
    ['a title', '\u001b]0;owned\u0007', '\\x1b]0;owned\\x07'],
    ['a cleared screen', 'a\u001b[2Jb', 'a\\x1b[2Jb'],
    ['hidden text', '\u001b[8mx', '\\x1b[8mx'],
    ['a line written over', 'good\rbad', 'good\\x0dbad'],
    ['C1 sequences', '\u009b2J', '\\x9b2J'],
    ['turned writing', 'a\u202eb', 'a\\x202eb'],
  ])('shows %s', (_, text, shown) => expect(safeOutput(text, false)).toBe(shown));
  it('is JSON afterwards, and means the same', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        const out = safeOutput(JSON.stringify({ text }), true);
        expect(JSON.parse(out)).toEqual({ text });
        // eslint-disable-next-line no-control-regex -- control characters are what it looks for
        expect(out).not.toMatch(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e]/);
      }),
    );
  });
});
