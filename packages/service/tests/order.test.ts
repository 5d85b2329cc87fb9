import { describe, expect, it } from 'vitest';
import { wordsIn } from '../src/devices/order.js';

describe('what is looked for in a list', () => {
  it.each([
    ['', [], []],
    ['Quay  sw', ['quay', 'sw'], []],
    [
      'site:Quay sw firmware:4.2',
      ['sw'],
      [
        ['site', 'quay'],
        ['firmware', '4.2'],
      ],
    ],
    ['model:"Tarnbrook TB" 24', ['24'], [['model', 'tarnbrook tb']]],
    ['model:"Tarnbrook TB', [], [['model', 'tarnbrook tb']]],
    // Being typed, or no column: a hardware address, an hour, a word of somebody's own.
    ['site:', [], []],
    ['ac:de:48:00:00:01', ['ac:de:48:00:00:01'], []],
    ['colour:red', ['colour:red'], []],
    ['seen:2', ['seen:2'], []],
  ])('%s', (text, anywhere, of) => expect(wordsIn(text)).toEqual({ anywhere, of }));
});
