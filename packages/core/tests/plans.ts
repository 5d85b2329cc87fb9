import {
  firstSteps,
  makePassage,
  makePlan,
  type Candidate,
  type Division,
  type Gate,
  type NamedWave,
  type Passage,
  type Plan,
  type PlannedWindow,
  type Way,
} from '@barrow/core';

const second = 1000;

/** Usual durations that differ from step to step, so that no two events fall together by accident. */
export const typicalMs = Object.fromEntries(firstSteps.map((s, i) => [s, (i + 1) * 7 * second])) as Record<
  (typeof firstSteps)[number],
  number
>;

/** A way of nine steps in three stretches. */
export function nineSteps(pointOfNoReturn = 'activate', usual: Record<string, number> = typicalMs): Way {
  const named = (from: number, to: number) => firstSteps.slice(from, to).map((step) => ({ step, usualMs: usual[step]! }));
  const stretches = [
    { name: 'prepare', steps: named(0, 2) },
    { name: 'transfer', steps: named(2, 4) },
    { name: 'change', steps: named(4, 9) },
    { name: 'prove', steps: ['settle', 'level'].map((step) => ({ step, usualMs: 11 * second })) },
  ];
  return {
    name: 'two slots',
    component: 'system',
    pointOfNoReturn,
    stretches,
    recovery: ['wait', 'power-cycle', 'other-slot', 'earlier-image'],
  };
}

/** The same, with something set aside for the time of the change. */
export const withSides = (way: Way): Way => ({
  ...way,
  stretches: way.stretches.map((s) =>
    s.name === 'change'
      ? { ...s, steps: [{ step: 'set-aside', usualMs: 3 * second }, ...s.steps, { step: 'put-back', usualMs: 5 * second }] }
      : s,
  ),
});

/** The same for devices that take by themselves what they hold, at an hour of their own. */
export const atItsHour = (way: Way): Way => ({
  ...way,
  applies: { at: 0, zone: 'UTC' },
  stretches: way.stretches.map((s) => ({ ...s, steps: s.steps.filter((one) => one.step !== 'reboot') })),
});

/** Their hours: every other one, and when they may be begun with. */
export const hours: NonNullable<Candidate['window']> = {
  name: 'hours',
  window: {
    text: 'its own hour',
    spans: Array.from({ length: 10_000 }, (_, i) => [i * 7_200_000 + 600_000, i * 7_200_000 + 5_900_000] as const),
    hours: Array.from({ length: 10_000 }, (_, i) => i * 7_200_000 + 6_000_000),
  },
};

/** A passage of as many legs as there are versions after the first. */
export const passage = (
  versions: readonly string[] = ['4.2.1', '4.3.0'],
  way = nineSteps(),
  hasEarlier = false,
  proves = false,
  powered: boolean | 'cuts-off' = false,
): Passage =>
  makePassage(
    versions.slice(1).map((to, i) => {
      const image = 'abcdef'[i]!.repeat(64);
      const earlier = hasEarlier ? { image: '0123456'[i]!.repeat(64), bytes: 0 } : undefined;
      return { image, component: 'system', from: versions[i]!, to, bytes: 0, way, earlier };
    }),
    1,
    proves,
    powered,
  );
const usual = passage();

export function candidate(n: number, over: Partial<Candidate> = {}): Candidate {
  return {
    device: `d${n}`,
    name: `sw-${n}`,
    address: `127.40.1.${n}`,
    site: `site-${n % 3}`,
    family: 'tarnbrook-access',
    serial: `S${n}`,
    from: '4.2.1',
    target: '4.3.0',
    image: 'a'.repeat(64),
    passage: usual,
    under: [`d${n}`],
    rings: [],
    feeds: [],
    ...over,
  };
}

export interface PlanShape {
  devices: number;
  first: number;
  named: readonly NamedWave[];
  by: Division | null;
  gates: Record<string, Partial<Gate>>;
  atOnce: number;
  perSite: number;
  apartMs: number;
  gate: Gate;
  /** What is different of each device, in turn. */
  each: readonly Partial<Candidate>[];
  wayBack: boolean;
  window: PlannedWindow | null;
  id: string;
  /** The number of its first device. */
  from: number;
}

export function planOf(shape: Partial<PlanShape> = {}): Plan {
  const {
    devices = 6,
    first = 1,
    named = [],
    by = null,
    gates = {},
    atOnce = 2,
    perSite = 0,
    apartMs = 0,
    each = [],
    id = 'r-test',
    from = 1,
    wayBack = false,
    window = null,
  } = shape;
  const { gate = { soakMs: 60 * second, failureLimit: 1, approval: false } } = shape;
  return makePlan({
    id,
    name: 'test',
    createdAt: 0,
    createdBy: 'a test',
    unsaved: 'hold',
    wayBack,
    window,
    first,
    named,
    by,
    gates,
    atOnce,
    perSite,
    apartMs,
    gate,
    candidates: Array.from({ length: devices }, (_, i) => candidate(i + from, each[i])),
    leftOut: [],
  });
}
