import type { Ms } from '../units.js';
import { leastSamples, measures, type Measure } from './measures.js';
import type { Sample, Twins, Watched } from './sample.js';

/** What was found in a soak of the devices of one model. */
export interface SoakFinding {
  readonly model: string;
  /** null: of none of them enough was seen. */
  readonly measure: string | null;
  /** `worse`: it holds the gate; `told`: otherwise than the others, and no harm; `unknown`: too little was seen to say. */
  readonly verdict: 'worse' | 'told' | 'unknown';
  readonly text: string;
  /** What is drawn of it: minutes of the device since the first sample, and the value then. */
  readonly series: readonly {
    readonly name: string;
    readonly upgraded: boolean;
    readonly points: readonly (readonly [number, number])[];
  }[];
}

/** At least this share of those that were upgraded has to show it: one of many may be chance. */
const leastShare = 1 / 3;
/** Devices of a kind, and points of each, that are drawn of a finding. */
const mostDrawn = { devices: 6, points: 40 };

/**
 * What a soak has shown: the change of those that were upgraded against that of those that nobody touched, by plain thresholds. Where
 * there is no twin, each is held against itself of before.
 *
 * @param timeScale how much faster the devices' time runs than ours
 */
export function judgeSoak(groups: readonly Twins[], timeScale: number): SoakFinding[] {
  return groups.flatMap((group) => judgeModel(group, timeScale));
}

function judgeModel({ model, upgraded, untouched }: Twins, timeScale: number): SoakFinding[] {
  const hours = (span: Ms): number => (span * timeScale) / 3_600_000;
  const seen = upgraded.filter((w) => w.samples.length >= leastSamples);
  if (seen.length === 0) {
    const most = Math.max(0, ...upgraded.map((w) => w.samples.length));
    const text = `${model}: ${most === 0 ? 'nothing was seen' : `${most} look${most === 1 ? '' : 's'}`} of ${names(upgraded)}, and fewer than ${leastSamples} say nothing`;
    return [{ model, measure: null, verdict: 'unknown', text, series: [] }];
  }
  const twins = untouched.filter((w) => w.samples.length >= leastSamples);
  const from = Math.min(...[...seen, ...twins].map((w) => w.samples[0]!.at));
  const minutes = (s: Sample): number => Math.round(hours(s.at - from) * 600) / 10;
  const found: SoakFinding[] = [];
  let unsure = false;
  for (const measure of measures) {
    const values = seen.flatMap((w) => {
      const value = measure.of(w.samples, hours);
      return value === null ? [] : [{ watched: w, value }];
    });
    const bad = values.filter(({ value, watched }) => measure.bad(value, watched.samples));
    const theirs = twins.flatMap((w) => {
      const value = measure.of(w.samples, hours);
      return value === null ? [] : [{ value, bad: measure.bad(value, w.samples) }];
    });
    const others = theirs.map((t) => t.value);
    /** The worst of the twins; of who has none, of itself before. */
    const worstFor = (w: Watched): number | null =>
      others.length > 0 ? Math.max(...others) : w.before.length >= leastSamples ? measure.of(w.before, hours) : null;
    const judged = bad.flatMap((b) => {
      const worst = worstFor(b.watched);
      if (worst === null) unsure = true;
      return worst !== null && measure.beyond(b.value, worst) ? [b] : [];
    });
    const unknown = bad.filter((b) => worstFor(b.watched) === null);
    const share = (of: readonly unknown[]): boolean => of.length > 0 && of.length >= leastShare * values.length;
    const series = (): SoakFinding['series'] => [...drawn(seen, true, measure, minutes), ...drawn(twins, false, measure, minutes)];
    if (share(judged)) {
      const middle = judged.map((j) => j.value).sort((a, b) => a - b)[judged.length >> 1]!;
      const against =
        others.length > 0
          ? `of ${others.length} untouched twin${others.length === 1 ? '' : 's'} ${ofTwins(theirs.filter((t) => t.bad).length)}`
          : 'before it did not';
      const whose = `${judged.length} of ${values.length} upgraded ${model}`;
      found.push({
        model,
        measure: measure.name,
        verdict: 'worse',
        text: `${sentence(measure, whose, middle)}; ${against}`,
        series: series(),
      });
    } else if (share(unknown)) {
      const middle = unknown[unknown.length >> 1]!.value;
      const whose = `${unknown.length} of ${values.length} upgraded ${model}`;
      const text = `${sentence(measure, whose, middle)}; no twin was left untouched, and too little was seen of before, to say whether that is new`;
      found.push({ model, measure: measure.name, verdict: 'unknown', text, series: series() });
    } else if (bad.length === 0) found.push(...busier(measure, model, values, others, series));
  }
  if (twins.length === 0 && !unsure && seen.every((w) => w.before.length < leastSamples))
    found.push({
      model,
      measure: null,
      verdict: 'unknown',
      text: `${model}: no twin was left untouched, and too little was seen of before: nothing looked bad by itself`,
      series: [],
    });
  return found;
}

/** What is clearly otherwise and no harm is told: who reads of it need not wonder. */
function busier(
  measure: Measure,
  model: string,
  values: readonly { readonly value: number }[],
  others: readonly number[],
  series: () => SoakFinding['series'],
): SoakFinding[] {
  if (measure.name !== 'load of the processor' || others.length === 0 || values.length === 0) return [];
  const mine = values.map((v) => v.value).sort((a, b) => a - b)[values.length >> 1]!;
  const worst = Math.max(...others);
  if (mine < 2 * worst || mine < worst + 10) return [];
  const text = `${measure.name} of ${values.length} upgraded ${model} ${measure.says(mine)}, of ${others.length} untouched at most ${Math.round(worst)} %: busier, and no harm`;
  return [{ model, measure: measure.name, verdict: 'told', text, series: series() }];
}

function drawn(
  watched: readonly Watched[],
  upgraded: boolean,
  measure: Measure,
  minutes: (sample: Sample) => number,
): SoakFinding['series'][number][] {
  return watched.slice(0, mostDrawn.devices).map((w) => ({
    name: w.name,
    upgraded,
    points: w.samples.slice(-mostDrawn.points).flatMap((s): [number, number][] => {
      const value = measure.at(s);
      return value === null ? [] : [[minutes(s), Math.round(value * 100) / 100]];
    }),
  }));
}

const sentence = (measure: Measure, whose: string, value: number): string =>
  `${measure.ofThem ? '' : `${measure.name} of `}${whose} ${measure.says(value)}`;

const ofTwins = (bad: number): string => (bad === 0 ? 'none does' : `${bad} ${bad === 1 ? 'does' : 'do'}, far less`);

const names = (watched: readonly Watched[]): string =>
  watched.length === 0
    ? 'none'
    : `${watched
        .slice(0, 3)
        .map((w) => w.name)
        .join(', ')}${watched.length > 3 ? ` and ${watched.length - 3} more` : ''}`;
