import { describe, expect, it } from 'vitest';
import { judgeSoak, leastSamples, measures, type Sample, type SoakFinding, type Twins, type Watched } from '@barrow/core';

const minute = 60_000;
const calm = {
  answered: true,
  roundTripMs: 5,
  freeKb: 160_000,
  memoryKb: 262_144,
  load: 10,
  errors: 0,
  discards: 0,
  flaps: 0,
  neighbours: 4,
  fed: 6,
} as const;
/** Looks of an hour, one every five minutes; `over` says what is otherwise at the nth. */
const looks = (over: (n: number) => Partial<Sample> = () => ({}), count = 13): Sample[] =>
  Array.from({ length: count }, (_, n) => ({ at: n * 5 * minute, upMs: 1_000_000 + n * 5 * minute, ...calm, ...over(n) }));
const watched = (name: string, over?: (n: number) => Partial<Sample>, count?: number): Watched => ({
  name,
  before: [],
  samples: looks(over, count),
});
const twins = (upgraded: readonly Watched[], untouched: readonly Watched[] = [watched('t1'), watched('t2'), watched('t3')]): Twins => ({
  model: 'X1',
  upgraded,
  untouched,
});
const judged = (group: Twins, scale = 1): Pick<SoakFinding, 'measure' | 'verdict' | 'text'>[] =>
  judgeSoak([group], scale).map(({ measure, verdict, text }) => ({ measure, verdict, text }));
const worse = (group: Twins) =>
  judged(group)
    .filter((f) => f.verdict === 'worse')
    .map((f) => f.text);
/** Free memory that falls by so many KiB an hour, and breathes. */
const leak = (kb: number) => (n: number) => ({ freeKb: 160_000 - (kb * n) / 12 + (n % 3) * 20 });

describe('what a soak has shown', () => {
  it('is no leak where a short look met the falling side of a breath', () => {
    const breath = looks((n) => ({ memoryKb: 262_144, freeKb: 160_000 - n * 32 }), 5).map((s, n) => ({ ...s, at: n * 45_000 }));
    expect(worse(twins([{ name: 'a', before: [], samples: breath }]))).toEqual([]);
    // The same slope over an hour is one.
    expect(worse(twins([watched('a', (n) => ({ memoryKb: 262_144, freeKb: 160_000 - n * 260 }))]))).toHaveLength(1);
  });

  it('is nothing where nothing changed', () => {
    expect(judged(twins([watched('a'), watched('b')]))).toEqual([]);
  });

  it.each<[string, (n: number) => Partial<Sample>, string]>([
    ['memory that falls', leak(4096), 'free memory of 1 of 1 upgraded X1 falls 4.0 MB an hour; of 3 untouched twins none does'],
    [
      'a port that comes and goes',
      (n) => ({ flaps: n % 4 === 0 ? 1 : 0 }),
      '1 of 1 upgraded X1 had ports come and go, 3 times; of 3 untouched twins none does',
    ],
    [
      'a restart',
      (n) => ({ upMs: n < 6 ? 1_000_000 + n * 5 * minute : n * minute }),
      '1 of 1 upgraded X1 restarted with nobody telling it to, once; of 3 untouched twins none does',
    ],
    [
      'silence',
      (n) => (n % 3 === 0 ? { answered: false, freeKb: null } : {}),
      '1 of 1 upgraded X1 did not answer 38 % of the times; of 3 untouched twins none does',
    ],
    ['errors', (n) => ({ errors: n * 5 }), 'errors of 1 of 1 upgraded X1 are 60 an hour; of 3 untouched twins none does'],
    ['discards', (n) => ({ discards: n * 50 }), 'discards of 1 of 1 upgraded X1 are 600 an hour; of 3 untouched twins none does'],
    [
      'neighbours that are gone',
      (n) => ({ neighbours: n < 5 ? 4 : 3 }),
      'neighbours of 1 of 1 upgraded X1 are 1 fewer at the end; of 3 untouched twins none does',
    ],
    [
      'ports that power no more',
      (n) => ({ fed: n < 5 ? 6 : 4 }),
      'powered ports of 1 of 1 upgraded X1 are 2 fewer at the end; of 3 untouched twins none does',
    ],
    ['no time left', () => ({ load: 97 }), 'load of the processor of 1 of 1 upgraded X1 is 97 %; of 3 untouched twins none does'],
    ['a slow answer', () => ({ roundTripMs: 900 }), 'round trip of 1 of 1 upgraded X1 takes 900 ms; of 3 untouched twins none does'],
  ])('is worse by %s', (_, over, text) => {
    expect(worse(twins([watched('a', over)]))).toEqual([text]);
    // Where the twins show the same, it is not the upgrade that brought it.
    expect(worse(twins([watched('a', over)], [watched('t', over), watched('u', over)]))).toEqual([]);
  });

  it.each<[string, (n: number) => Partial<Sample>]>([
    ['memory that goes up and down', (n) => ({ freeKb: 160_000 - (n % 4) * 9000 })],
    ['memory that falls by less than a hundredth an hour', leak(2000)],
    ['one change of a port', (n) => ({ flaps: n === 4 ? 1 : 0 })],
    ['one look that was not answered', (n) => (n === 3 ? { answered: false, upMs: null } : {})],
    ['a few errors', (n) => ({ errors: Math.floor(n / 4) })],
    ['a neighbour that came back', (n) => ({ neighbours: n === 5 ? 3 : 4 })],
    ['more neighbours', (n) => ({ neighbours: 4 + n })],
    [
      'what it does not tell',
      () => ({ freeKb: null, load: null, errors: null, flaps: null, fed: null, neighbours: null, roundTripMs: null }),
    ],
    ['a counter that began anew', (n) => ({ errors: n < 6 ? 1_000_000 + (n >> 1) : (n - 6) >> 1 })],
  ])('is not worse by %s', (_, over) => {
    expect(worse(twins([watched('a', over)]))).toEqual([]);
  });

  it('is told and holds nothing where it is merely busier', () => {
    expect(judged(twins([watched('a', () => ({ load: 34 })), watched('b', () => ({ load: 35 }))]))).toEqual([
      {
        measure: 'load of the processor',
        verdict: 'told',
        text: 'load of the processor of 2 upgraded X1 is 35 %, of 3 untouched at most 10 %: busier, and no harm',
      },
    ]);
    expect(judged(twins([watched('a', () => ({ load: 15 }))]))).toEqual([]);
  });

  it('asks that a third of them show it: one of many may be chance', () => {
    const many = (leaking: number) => Array.from({ length: 6 }, (_, n) => watched(`u${n}`, n < leaking ? leak(4096) : undefined));
    expect(worse(twins(many(1)))).toEqual([]);
    expect(worse(twins(many(2)))).toEqual(['free memory of 2 of 6 upgraded X1 falls 4.0 MB an hour; of 3 untouched twins none does']);
  });

  it('says of twins that do it too, and by far less', () => {
    expect(worse(twins([watched('a', leak(40_960))], [watched('t', leak(4096)), watched('u')]))).toEqual([
      'free memory of 1 of 1 upgraded X1 falls 40.0 MB an hour; of 2 untouched twins 1 does, far less',
    ]);
  });

  it('holds each against itself of before where no twin was left, and says when nothing was seen of that', () => {
    const alone = (before: Sample[]): Twins => twins([{ name: 'a', before, samples: looks(leak(4096)) }], []);
    expect(worse(alone(looks()))).toEqual(['free memory of 1 of 1 upgraded X1 falls 4.0 MB an hour; before it did not']);
    expect(worse(alone(looks(leak(4096))))).toEqual([]);
    expect(judged(alone([]))).toEqual([
      {
        measure: 'free memory',
        verdict: 'unknown',
        text: 'free memory of 1 of 1 upgraded X1 falls 4.0 MB an hour; no twin was left untouched, and too little was seen of before, to say whether that is new',
      },
    ]);
    expect(judged(twins([watched('a')], []))).toEqual([
      {
        measure: null,
        verdict: 'unknown',
        text: 'X1: no twin was left untouched, and too little was seen of before: nothing looked bad by itself',
      },
    ]);
  });

  it('says that too few looks say nothing, and counts twins that were looked at too seldom for none', () => {
    const seldom = leastSamples - 1;
    expect(judged(twins([watched('a', leak(90_000), seldom)]))).toEqual([
      { measure: null, verdict: 'unknown', text: 'X1: 3 looks of a, and fewer than 4 say nothing' },
    ]);
    expect(judged(twins([]))).toEqual([
      { measure: null, verdict: 'unknown', text: 'X1: nothing was seen of none, and fewer than 4 say nothing' },
    ]);
    expect(judged(twins([watched('a', leak(4096))], [watched('t', undefined, seldom)])).map((f) => f.verdict)).toEqual(['unknown']);
  });

  it('reckons in the time of the devices, and draws minutes of theirs', () => {
    const [found] = judgeSoak([twins([watched('a', leak(40_960))])], 10);
    expect(found!.text).toBe('free memory of 1 of 1 upgraded X1 falls 4.0 MB an hour; of 3 untouched twins none does');
  });

  it('draws a bounded number of devices and points', () => {
    const many = Array.from({ length: 9 }, (_, n) => watched(`u${n}`, leak(8192), 90));
    const [found] = judgeSoak(
      [
        twins(
          many,
          many.map((w) => ({ ...w, samples: looks(undefined, 90) })),
        ),
      ],
      1,
    );
    expect(found!.series.length).toBe(12);
    expect(Math.max(...found!.series.map((s) => s.points.length))).toBe(40);
    expect(found!.series[0]!.points.at(-1)).toEqual([445, expect.any(Number)]);
  });

  it('looks at each thing by one name', () => {
    expect(new Set(measures.map((m) => m.name)).size).toBe(measures.length);
  });
});
