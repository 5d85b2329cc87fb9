import { describe, expect, it } from 'vitest';
import { mixedStates, type Pair, type VersionRange } from '@barrow/core';

const inRange = ({ atLeast = '0', upTo = '9' }: VersionRange, version: string): boolean => version >= atLeast && version <= upTo;
const pair = (child: readonly [string, VersionRange | null][], parent: readonly string[], more: Partial<Pair> = {}): Pair => ({
  child: 'ap-1',
  childPasses: child.map(([version, goesWith]) => ({ version, goesWith })),
  parent: 'fc-1',
  parentPasses: parent,
  childWaits: null,
  parentWaits: null,
  inRange,
  ...more,
});

describe('every state that two devices are in together', () => {
  it('is good where nothing is known, and where both orders are', () => {
    expect(mixedStates(pair([['1', null]], ['1', '2']))).toEqual({ parentWaits: null, words: [] });
    expect(
      mixedStates(
        pair(
          [
            ['1', { upTo: '2' }],
            ['2', { atLeast: '1' }],
          ],
          ['1', '2'],
        ),
      ).words,
    ).toEqual([]);
  });

  it('has the one wait that may not be newer than what the other still runs', () => {
    const both = [
      ['1', { upTo: '2' }],
      ['2', { upTo: '3' }],
    ] as [string, VersionRange][];
    expect(mixedStates(pair(both, ['1', '2', '3']))).toEqual({ parentWaits: 1, words: [] });
    expect(mixedStates(pair(both, ['1', '3']))).toEqual({ parentWaits: 0, words: [] });
  });

  it('is told where no order is right: one is to go first, and the other as well', () => {
    const child = [
      ['1', { upTo: '1' }],
      ['2', { atLeast: '2' }],
    ] as [string, VersionRange][];
    expect(mixedStates(pair(child, ['1', '2'], { childWaits: 0 })).words).toEqual([
      'ap-1 with 1 beside fc-1 with 2, where 1 or older is meant',
    ]);
    expect(mixedStates(pair(child, ['1', '2'], { parentWaits: 0 })).words).toEqual([
      'ap-1 with 2 beside fc-1 with 1, where 2 or newer is meant',
    ]);
    expect(mixedStates(pair(child, ['1', '2'])).words).toHaveLength(2);
  });

  it('is told where it lasts: one stays behind, or both end where they do not go together', () => {
    expect(mixedStates(pair([['1', { upTo: '1' }]], ['1', '2'])).words).toEqual([
      'ap-1 with 1 beside fc-1 with 2, where 1 or older is meant',
    ]);
    expect(
      mixedStates(
        pair(
          [
            ['1', null],
            ['2', { upTo: '1' }],
          ],
          ['2'],
        ),
      ).words,
    ).toEqual(['ap-1 with 2 beside fc-1 with 2, where 1 or older is meant']);
  });

  it('does not meet where one waits for the other', () => {
    const child = [
      ['1', { upTo: '1' }],
      ['2', null],
    ] as [string, VersionRange | null][];
    expect(mixedStates(pair(child, ['1', '2'], { parentWaits: 0 }))).toEqual({ parentWaits: null, words: [] });
    expect(mixedStates(pair(child, ['1', '2'], { childWaits: 0 })).words).toHaveLength(1);
  });
});
