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
    ...over,
  };
}

export interface PlanShape {
  devices: number;
  first: number;
  atOnce: number;
  perSite: number;
  gate: Gate;
}

export function planOf(shape: Partial<PlanShape> = {}): Plan {
  const { devices = 6, first = 1, atOnce = 2, perSite = 0, gate = { soakMs: 60 * second, failureLimit: 1, approval: false } } = shape;
  return makePlan({
    id: 'r-test',
    name: 'test',
    createdAt: 0,
    createdBy: 'a test',
    unsaved: 'hold',
    first,
    atOnce,
    perSite,
    gate,
    candidates: Array.from({ length: devices }, (_, i) => candidate(i + 1)),
    leftOut: [],
  });
}
