import { makePlan, stepNames, type Candidate, type Gate, type Plan, type StepName } from '@barrow/core';

const second = 1000;

/** Usual durations that differ from step to step, so that no two events fall together by accident. */
export const typicalMs = Object.fromEntries(stepNames.map((s, i) => [s, (i + 1) * 7 * second])) as Record<StepName, number>;

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
    typicalMs,
    pointOfNoReturn: 'activate',
    under: [`d${n}`],
    rings: [],
    feeds: [],
    ...over,
  };
}

export interface PlanShape {
  devices: number;
  first: number;
  atOnce: number;
  perSite: number;
  gate: Gate;
  /** What is different of each device, in turn. */
  each: readonly Partial<Candidate>[];
  id: string;
  /** The number of its first device. */
  from: number;
}

export function planOf(shape: Partial<PlanShape> = {}): Plan {
  const { devices = 6, first = 1, atOnce = 2, perSite = 0, each = [], id = 'r-test', from = 1 } = shape;
  const { gate = { soakMs: 60 * second, failureLimit: 1, approval: false } } = shape;
  return makePlan({
    id,
    name: 'test',
    createdAt: 0,
    createdBy: 'a test',
    unsaved: 'hold',
    first,
    atOnce,
    perSite,
    gate,
    candidates: Array.from({ length: devices }, (_, i) => candidate(i + from, each[i])),
    leftOut: [],
  });
}
