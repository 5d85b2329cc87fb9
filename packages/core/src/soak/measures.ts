import type { Ms } from '../units.js';
import type { Sample } from './sample.js';

/** One thing that is looked at in a soak: a number for each device, and when it is worse than that of the others. */
export interface Measure {
  readonly name: string;
  /** What of one sample is drawn; null: it is not told. */
  readonly at: (sample: Sample) => number | null;
  /** The number of a device over its samples, which are enough; null: it is not told. `hours`: its own time. */
  readonly of: (samples: readonly Sample[], hours: (span: Ms) => number) => number | null;
  /** Whether it is bad by itself, whatever others do. `size`: its memory, where that is known. */
  readonly bad: (value: number, samples: readonly Sample[]) => boolean;
  /** Whether it is so much worse than the worst of those that nobody touched that it cannot be chance. */
  readonly beyond: (value: number, worst: number) => boolean;
  /** What it does, after its name and those it is of: `falls 4.0 MB an hour`; or, where `ofThem`, what they do. */
  readonly says: (value: number) => string;
  readonly ofThem?: true;
}

const numbers = (samples: readonly Sample[], at: Measure['at']): number[] => samples.flatMap((s) => at(s) ?? []);

export function median(values: readonly number[]): number | null {
  if (values.length === 0) return null;
  const sorted = [...values].sort((a, b) => a - b);
  const half = sorted.length >> 1;
  return sorted.length % 2 === 1 ? sorted[half]! : (sorted[half - 1]! + sorted[half]!) / 2;
}

/** How much a counter has grown; RFC 2578 §7.1.6: one that fell began anew. */
function growth(values: readonly number[]): number {
  let sum = 0;
  for (let i = 1; i < values.length; i++) sum += values[i]! >= values[i - 1]! ? values[i]! - values[i - 1]! : values[i]!;
  return sum;
}

/**
 * The slope by which it falls for good, in units an hour; 0 unless every value of its last third is below every one of its first: what
 * goes up and down is no leak. The slope is the median of those between all pairs (Theil and Sen).
 */
function fall(samples: readonly Sample[], at: Measure['at'], hours: (span: Ms) => number): number | null {
  const points = samples.flatMap((s) => {
    const value = at(s);
    return value === null ? [] : [{ at: s.at, value }];
  });
  if (points.length < leastSamples) return null;
  const third = Math.max(1, Math.floor(points.length / 3));
  const first = points.slice(0, third).map((p) => p.value);
  const last = points.slice(-third).map((p) => p.value);
  if (Math.max(...last) >= Math.min(...first)) return 0;
  const slopes: number[] = [];
  for (let i = 0; i < points.length; i++)
    for (let j = i + 1; j < points.length; j++) {
      const span = hours(points[j]!.at - points[i]!.at);
      if (span > 0) slopes.push((points[i]!.value - points[j]!.value) / span);
    }
  return median(slopes);
}

/** Fewer say nothing. */
export const leastSamples = 4;
/** So much of all memory has truly to be gone. */
const leastFallen = 1 / 500;

const perHour = (samples: readonly Sample[], at: Measure['at'], hours: (span: Ms) => number): number | null => {
  const told = samples.filter((s) => at(s) !== null);
  const span = told.length < 2 ? 0 : hours(told.at(-1)!.at - told[0]!.at);
  return span > 0 ? growth(numbers(told, at)) / span : null;
};

const megabytes = (kb: number): string => `${(kb / 1024).toFixed(1)} MB`;
const less = (at: Measure['at']) => (samples: readonly Sample[]) => {
  const values = numbers(samples, at);
  return values.length < leastSamples ? null : values[0]! - Math.min(...values.slice(-2));
};

/** All that is looked at, the gravest first. Thresholds are plain: what a technician would not let pass. */
export const measures: readonly Measure[] = [
  {
    name: 'restarts',
    at: (s) => s.upMs,
    of: (samples) => {
      const up = numbers(samples, (s) => s.upMs);
      return up.length < 2 ? null : up.filter((ms, i) => i > 0 && ms < up[i - 1]!).length;
    },
    bad: (times) => times >= 1,
    beyond: (times, worst) => times > worst,
    ofThem: true,
    says: (times) => `restarted with nobody telling ${times === 1 ? 'it to, once' : `it to, ${times} times`}`,
  },
  {
    name: 'silence',
    at: (s) => (s.answered ? 0 : 1),
    of: (samples) => samples.filter((s) => !s.answered).length / samples.length,
    bad: (share, samples) => share > 0.2 && samples.filter((s) => !s.answered).length >= 2,
    beyond: (share, worst) => share > 2 * worst,
    ofThem: true,
    says: (share) => `did not answer ${Math.round(share * 100)} % of the times`,
  },
  {
    name: 'free memory',
    at: (s) => s.freeKb,
    of: (samples, hours) => fall(samples, (s) => s.freeKb, hours),
    // A hundredth of all memory in an hour is gone in four days. What breathes in a short look is not reckoned up to that.
    bad: (kb, samples) => {
      const all = numbers(samples, (s) => s.memoryKb).at(-1) ?? 102_400;
      const free = numbers(samples, (s) => s.freeKb);
      return kb > 0.01 * all && free[0]! - free.at(-1)! >= leastFallen * all;
    },
    beyond: (kb, worst) => kb > 3 * worst,
    says: (kb) => `falls ${megabytes(kb)} an hour`,
  },
  {
    name: 'ports that come and go',
    at: (s) => s.flaps,
    of: (samples) => {
      const flaps = numbers(samples.slice(1), (s) => s.flaps);
      return flaps.length === 0 ? null : flaps.reduce((a, b) => a + b, 0);
    },
    bad: (times) => times >= 2,
    beyond: (times, worst) => times > worst + 1,
    ofThem: true,
    says: (times) => `had ports come and go, ${times} times`,
  },
  {
    name: 'neighbours',
    at: (s) => s.neighbours,
    of: less((s) => s.neighbours),
    bad: (gone) => gone >= 1,
    beyond: (gone, worst) => gone > worst,
    says: (gone) => `are ${gone} fewer at the end`,
  },
  {
    name: 'powered ports',
    at: (s) => s.fed,
    of: less((s) => s.fed),
    bad: (gone) => gone >= 1,
    beyond: (gone, worst) => gone > worst,
    says: (gone) => `are ${gone} fewer at the end`,
  },
  {
    name: 'errors',
    at: (s) => s.errors,
    of: (samples, hours) => perHour(samples, (s) => s.errors, hours),
    bad: (rate) => rate > 10,
    beyond: (rate, worst) => rate > 3 * worst,
    says: (rate) => `are ${Math.round(rate)} an hour`,
  },
  {
    name: 'discards',
    at: (s) => s.discards,
    of: (samples, hours) => perHour(samples, (s) => s.discards, hours),
    bad: (rate) => rate > 100,
    beyond: (rate, worst) => rate > 10 * worst,
    says: (rate) => `are ${Math.round(rate)} an hour`,
  },
  {
    name: 'load of the processor',
    at: (s) => s.load,
    of: (samples) => median(numbers(samples, (s) => s.load)),
    // To be busier is no harm; to have no time left is.
    bad: (percent) => percent >= 80,
    beyond: (percent, worst) => percent > worst + 30,
    says: (percent) => `is ${Math.round(percent)} %`,
  },
  {
    name: 'round trip',
    at: (s) => s.roundTripMs,
    of: (samples) => median(numbers(samples, (s) => s.roundTripMs)),
    bad: (ms) => ms > 300,
    beyond: (ms, worst) => ms > 5 * worst,
    says: (ms) => `takes ${Math.round(ms)} ms`,
  },
];
