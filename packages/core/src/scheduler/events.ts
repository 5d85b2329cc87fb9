import { z } from 'zod';

const at = z.number().int();
const by = z.string();
const run = z.string();
const step = z.string();
/** Index of the leg that the step is of; the first when absent. */
const leg = z.number().int().positive().optional();

/** Facts that a step found; kept for people and reports, never read by the scheduler. */
const facts = z.record(z.string(), z.unknown()).optional();

export const soakFindingSchema = z.object({
  model: z.string(),
  measure: z.string().nullable(),
  verdict: z.enum(['worse', 'told', 'unknown']),
  text: z.string(),
  series: z.array(z.object({ name: z.string(), upgraded: z.boolean(), points: z.array(z.tuple([z.number(), z.number()])) })),
});

/**
 * What may happen in a rollout. The journal is a list of these; a rollout's state is their fold.
 * Every event carries its time, so that folding needs no clock.
 */
export const rolloutEventSchema = z.discriminatedUnion('kind', [
  z.object({
    kind: z.literal('rollout-started'),
    at,
    by,
    /** The hazards of its plan that they accepted. */
    accepted: z.array(z.string()).optional(),
    /** Why they accepted them. */
    reason: z.string().optional(),
    /** By when it is to be done, by the clock on the wall. */
    doneBy: z.number().int().optional(),
  }),
  z.object({ kind: z.literal('wave-opened'), at, wave: z.number().int() }),
  z.object({ kind: z.literal('wave-ended'), at, wave: z.number().int() }),
  /** Its devices have soaked, and are looked at again. */
  z.object({ kind: z.literal('soak-ended'), at, wave: z.number().int() }),
  /** What the devices of a wave showed while they soaked. `worse`: why the gate is held, in words; null when nothing got worse. */
  z.object({
    kind: z.literal('soak-judged'),
    at,
    wave: z.number().int(),
    worse: z.string().nullable(),
    findings: z.array(soakFindingSchema),
    looks: z.number().int(),
  }),
  /** A person has a wave not opened, or lets it be opened again. */
  z.object({ kind: z.literal('wave-held'), at, wave: z.number().int(), by, reason: z.string() }),
  z.object({ kind: z.literal('wave-freed'), at, wave: z.number().int(), by }),
  z.object({ kind: z.literal('gate-passed'), at, wave: z.number().int() }),
  z.object({
    kind: z.literal('stretch-entered'),
    at,
    run,
    stretch: z.number().int(),
    attempt: z.number().int(),
    claims: z.array(z.object({ key: z.string(), mode: z.enum(['shared', 'exclusive']) })),
  }),
  z.object({ kind: z.literal('step-begun'), at, run, step, leg, attempt: z.number().int() }),
  z.object({ kind: z.literal('step-done'), at, run, step, leg, facts }),
  z.object({ kind: z.literal('step-failed'), at, run, step, leg, cause: z.string(), detail: z.string(), facts }),
  z.object({ kind: z.literal('reconcile-begun'), at, run, step, leg }),
  z.object({ kind: z.literal('reconciled'), at, run, step, leg, truth: z.enum(['done', 'not-done']), detail: z.string() }),
  z.object({ kind: z.literal('skip-asked'), at, run, by, reason: z.string() }),
  z.object({ kind: z.literal('run-skipped'), at, run, by, reason: z.string() }),
  z.object({ kind: z.literal('leg-skipped'), at, run, leg: z.number().int(), reason: z.string() }),
  /** What an earlier attempt brought, and did not prove, was compared now: it is as it was to be. */
  z.object({ kind: z.literal('leg-proven'), at, run, leg: z.number().int(), reason: z.string(), facts }),
  z.object({ kind: z.literal('run-withdrawn'), at, run, reason: z.string() }),
  /** Its device was not there, and nothing was tried on it. */
  z.object({ kind: z.literal('run-absent'), at, run, cause: z.string(), detail: z.string() }),
  z.object({ kind: z.literal('run-seen'), at, run, detail: z.string() }),
  /** It is armed, and took what it holds before its hour. */
  z.object({ kind: z.literal('taken-early'), at, run, detail: z.string() }),
  /** All others have ended, and its device was not seen. */
  z.object({ kind: z.literal('run-missed'), at, run }),
  z.object({ kind: z.literal('run-needless'), at, run, need: z.string(), detail: z.string() }),
  z.object({ kind: z.literal('run-released'), at, run, by, reason: z.string() }),
  z.object({ kind: z.literal('run-retried'), at, run, by }),
  /** A person has who failed taken back, by the first of its rungs that may help. `cutsOff`: also by one with which others go dark. */
  z.object({ kind: z.literal('take-back-asked'), at, run, by, cutsOff: z.literal(true).optional() }),
  /** What had failed is not taken back any more. */
  z.object({ kind: z.literal('run-given-up'), at, run, reason: z.string() }),
  z.object({ kind: z.literal('held'), at, by, reason: z.string() }),
  z.object({ kind: z.literal('continued'), at, by }),
  z.object({ kind: z.literal('approved'), at, by, wave: z.number().int() }),
  z.object({ kind: z.literal('stop-asked'), at, by }),
  z.object({ kind: z.literal('rollout-ended'), at }),
  z.object({ kind: z.literal('service-stopping'), at }),
  z.object({ kind: z.literal('service-started'), at }),
  /** Something is asked of a person that the device cannot go on without, and somebody has told it; what they told stands where it was used. */
  z.object({ kind: z.literal('person-asked'), at, run, text: z.string() }),
  z.object({ kind: z.literal('person-answered'), at, run, by }),
  z.object({ kind: z.literal('noted'), at, by, text: z.string(), run: z.string().optional() }),
]);
export type RolloutEvent = z.infer<typeof rolloutEventSchema>;

const kinds: ReadonlySet<unknown> = new Set(rolloutEventSchema.options.map((o) => o.shape.kind.value));

/** Whether something that Barrow wrote itself is an event of a kind that this version knows; its fields are not looked at. */
export const isRolloutEvent = (value: unknown): value is RolloutEvent =>
  typeof value === 'object' && value !== null && 'kind' in value && kinds.has(value.kind);
