import { describe, expect, it } from 'vitest';
import { inOptions } from '../src/errors.js';
import { latestStart, momentOf } from '../src/moments.js';

/** Moments as people write them; what is said without a zone is of this machine's. */
describe('a moment', () => {
  const after = new Date(2026, 10, 27, 21, 30).getTime();
  const here = (...of: [number, number, number, number, number]): string => new Date(...of).toISOString();
  it.each([
    ['22:00', here(2026, 10, 27, 22, 0)],
    ['21:30', here(2026, 10, 28, 21, 30)],
    ['3:05', here(2026, 10, 28, 3, 5)],
    ['2026-12-01 01:30', here(2026, 11, 1, 1, 30)],
    ['2026-12-01T01:30Z', '2026-12-01T01:30:00.000Z'],
    ['2026-12-01T01:30:20+02:00', '2026-11-30T23:30:20.000Z'],
    ['+90min', new Date(after + 90 * 60_000).toISOString()],
    ['+2h', new Date(after + 7_200_000).toISOString()],
    ['+1d', new Date(after + 86_400_000).toISOString()],
  ])('%s', (word, moment) => expect(momentOf('--at', word, after)).toBe(moment));

  it.each(['', 'soon', '24:00', '22:60', '2026-02-30 10:00', '2026-13-01 10:00', '27.11.2026 22:00', '+2', '-2h', '2026-12-01'])(
    'is not "%s"',
    (word) => expect(() => momentOf('--at', word, after)).toThrow(`--at takes a moment, not "${word}".`),
  );
});

describe('until when a rollout may start late', () => {
  const start = new Date(2026, 10, 27, 22, 0).getTime();
  const here = (day: number, hour: number): string => new Date(2026, 10, day, hour).toISOString();
  it.each([
    ['23:00', here(27, 23)],
    ['04:00', here(28, 4)],
    ['2026-11-28 21:00', here(28, 21)],
  ])('is %s', (word, moment) => expect(latestStart(word, start)).toBe(moment));
  it('is never an hour before the start, taken as the next day', () =>
    expect(() => latestStart('21:00', start)).toThrow('--start-before 21:00 is earlier in the day than the start'));
});

describe('a fault of the request, at the command line', () => {
  const options = new Set(['--at-once', '--name']);
  it.each([
    ['atOnce is at least 1; name: no text; site is missing', '--at-once is at least 1; --name: no text; site is missing'],
    ['window.from: a time of day is written as 22:00', 'window.from: a time of day is written as 22:00'],
  ])('names options that the command has: %s', (why, told) => expect(inOptions(why, options)).toBe(told));
});
