import { z } from 'zod';
import { removedServices, resettable } from '../images/note.js';
import { hazardCodes, type Hazard } from './hazards/kinds.js';
import { firstSteps, traitsOf } from '../scheduler/steps.js';
import { refuseCircles, rungMeans, type Passage, type Plan } from './plan.js';

const step = z
  .object({
    step: z.string(),
    leg: z.number().int().default(0),
    typicalMs: z.number(),
    learned: z.object({ count: z.number().int(), mostMs: z.number(), fileMs: z.number() }).optional(),
    whenLost: z.enum(['again', 'ask']),
    stoppable: z.boolean(),
    writes: z.boolean(),
    down: z.boolean(),
    limitMs: z.number().optional(),
    pastReturn: z.boolean(),
    waits: z.boolean(),
    looks: z.boolean().optional(),
    words: z.string().optional(),
    octets: z.number().optional(),
    sets: z.enum(['aside', 'back']).optional(),
    ownHour: z.literal(true).optional(),
  })
  .transform(({ looks, ...read }) => ({ ...read, looks: looks ?? traitsOf(read.step).looks }));
const gate = z.object({
  soakMs: z.number(),
  watch: z.literal(true).optional(),
  failureLimit: z.number(),
  failureShare: z.number().optional(),
  absentLimit: z.number().optional(),
  approval: z.boolean(),
});
const common = {
  id: z.string(),
  name: z.string(),
  createdAt: z.number(),
  createdBy: z.string(),
  unsaved: z.enum(['hold', 'save']),
  wayBack: z.boolean().default(false),
  waves: z.array(z.object({ name: z.string(), gate })),
  // One that this Barrow does not know any more is not asked about.
  hazards: z
    .array(
      z.object({
        code: z.string(),
        groups: z.array(z.object({ words: z.string(), forMs: z.number().nullable(), devices: z.array(z.string()) })),
      }),
    )
    .transform((all): Hazard[] =>
      all.flatMap(({ code, groups }) => hazardCodes.filter((c) => c === code).map((c) => ({ code: c, groups }))),
    )
    .optional(),
  remarks: z.array(z.string()).optional(),
  leftOut: z.array(z.object({ device: z.string(), name: z.string(), reason: z.string() })),
};
const run = z.object({
  id: z.string(),
  device: z.string(),
  name: z.string(),
  address: z.string(),
  site: z.string(),
  family: z.string(),
  serial: z.string(),
  from: z.string(),
  target: z.string(),
  image: z.string(),
  notices: z.array(z.string()).optional(),
  wave: z.number().int(),
});
const spans = z.array(z.tuple([z.number(), z.number()]));
const plannedLeg = z.object({
  image: z.string(),
  component: z.string(),
  from: z.string(),
  to: z.string(),
  way: z.string(),
  resets: z.array(z.enum(resettable)).optional(),
  removes: z.array(z.enum(removedServices)).optional(),
});
const plan = z.object({
  version: z.literal(2),
  ...common,
  passages: z.array(
    z.object({
      legs: z.array(plannedLeg).default([]),
      steps: z.array(step),
      stretches: z.array(
        z.object({
          name: z.string(),
          from: z.number().int(),
          to: z.number().int(),
          afterSoak: z.literal(true).optional(),
          byHand: z.literal(true).optional(),
          putsBack: z.literal(true).optional(),
          cutsOff: z.literal(true).optional(),
          ofParent: z
            .object({ storage: z.literal(true).optional(), most: z.number().int().optional(), apartMs: z.number().optional() })
            .optional(),
        }),
      ),
      rungs: z
        .array(
          z.object({
            means: z.enum(rungMeans),
            leg: z.number().int(),
            stretch: z.number().int(),
            step: z.number().int(),
            takes: plannedLeg.optional(),
            joins: z.number().int().optional(),
            factory: z.literal(true).optional(),
            cutsOff: z.literal(true).optional(),
          }),
        )
        .default([]),
      putBack: z.object({ stretch: z.number().int(), step: z.number().int() }).optional(),
    }),
  ),
  runs: z.array(
    run.extend({
      passage: z.number().int(),
      needs: z.array(z.object({ leg: z.number().int(), run: z.string() })).optional(),
      via: z.string().optional(),
      power: z
        .object({
          device: z.string(),
          name: z.string(),
          outlet: z.string(),
          others: z.array(z.object({ device: z.string(), name: z.string() })).optional(),
        })
        .optional(),
      console: z.object({ device: z.string(), name: z.string(), line: z.string() }).optional(),
      back: z.literal(true).optional(),
      room: z.array(z.string()),
      under: z.array(z.string()),
      needsUp: z.array(z.string()).optional(),
      downClaims: z.array(z.string()),
      unproven: z.literal(true).optional(),
      window: z.string().optional(),
    }),
  ),
  windows: z.record(z.string(), z.object({ text: z.string(), spans, hours: z.array(z.number()).optional() })).optional(),
  families: z.record(z.string(), z.string()).optional(),
  capacity: z.record(z.string(), z.number()),
  spacing: z.record(z.string(), z.number()).optional(),
  links: z.record(z.string(), z.number().positive()).optional(),
  asked: z.object({ window: z.unknown(), down: z.boolean() }).optional(),
});

/** The plans of before: every run had its nine steps itself, and counted against its limits from its first to its last. */
const first = z.object({
  ...common,
  runs: z.array(
    run.extend({
      limitKeys: z.array(z.string()),
      steps: z.array(z.object({ step: z.enum(firstSteps), typicalMs: z.number(), pastReturn: z.boolean() })),
    }),
  ),
  limits: z.record(z.string(), z.number()),
});

/**
 * Reads a plan as it was kept. One of the first kind reads as one stretch, entered at its first step: its journal folds to
 * the same phases and outcomes as it did.
 * @throws ZodError, or NeedsInCircle for a plan that could never come to its end
 */
export function readPlan(kept: unknown): Plan {
  if (typeof kept === 'object' && kept !== null && 'version' in kept) {
    const read = plan.parse(kept);
    refuseCircles(read.runs);
    return read;
  }
  const { runs, limits, ...rest } = first.parse(kept);
  const passages: Passage[] = [];
  const known = new Map<string, number>();
  const own = (key: string): string => (key === 'rollout' ? `rollout:${rest.id}` : key);
  return {
    version: 2,
    ...rest,
    passages,
    runs: runs.map(({ limitKeys, steps, ...planned }) => {
      const key = JSON.stringify(steps);
      let passage = known.get(key);
      if (passage === undefined) {
        const point = firstSteps.indexOf(steps.find((s) => s.pastReturn)?.step ?? 'activate');
        const nine = firstSteps.map((name, i) => {
          const typicalMs = steps.find((s) => s.step === name)?.typicalMs ?? 0;
          return { step: name, leg: 0, typicalMs, ...traitsOf(name), pastReturn: i >= point };
        });
        passage = passages.push({ legs: [], steps: nine, stretches: [{ name: 'all', from: 0, to: nine.length }], rungs: [] }) - 1;
        known.set(key, passage);
      }
      return { ...planned, passage, room: limitKeys.map(own), under: [planned.device], downClaims: [] };
    }),
    capacity: Object.fromEntries(Object.entries(limits).map(([key, most]) => [own(key), most])),
  };
}
