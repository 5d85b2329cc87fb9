import { z } from 'zod';
import type { Plan } from '../plan/plan.js';
import { initialState, outcomes, runPhases, wavePhases, rolloutPhases, type RolloutState, type RunState } from './state.js';

/** Which fold a kept state is of: to be counted up whenever the same journal folds to another state than before. */
export const foldVersion = 11;

const claims = z.array(z.object({ key: z.string(), mode: z.enum(['shared', 'exclusive']) }));
const time = z.number().int().nullable();
/** Of each run only what is otherwise than at its beginning. */
const keptRun = z
  .strictObject({
    phase: z.enum(runPhases),
    step: z.number().int(),
    stretch: z.number().int(),
    claims: claims.nullable(),
    wish: z.object({ by: z.string(), reason: z.string() }).nullable(),
    wave: z.number().int(),
    attempt: z.number().int(),
    met: z.boolean(),
    legs: z.number().int(),
    absentSince: time,
    absences: z.number().int(),
    begunAt: time,
    enteredAt: time,
    entered: z.number().int().nullable(),
    endedAt: time,
    stepBegunAt: time,
    pastReturn: z.boolean(),
    changed: z.boolean(),
    dueAt: time,
    owes: z.boolean(),
    ending: z.object({ outcome: z.enum(outcomes), step: z.number().int(), counted: z.boolean() }).nullable(),
    failedStep: z.number().int().nullable(),
    rung: z.number().int().nullable(),
    tried: z.array(z.object({ rung: z.number().int(), step: z.string(), cause: z.string(), detail: z.string() })),
    mended: z.array(z.object({ rung: z.number().int(), cause: z.string(), detail: z.string(), unsure: z.string().nullable() })),
    unsure: z.string().nullable(),
    mayCutOff: z.boolean(),
    outcome: z.enum(outcomes).nullable(),
    cause: z.string().nullable(),
    detail: z.string().nullable(),
  })
  .partial();
const keptWave = z.strictObject({
  phase: z.enum(wavePhases),
  waiting: z.number().int(),
  active: z.number().int(),
  absent: z.number().int(),
  broken: z.number().int(),
  soaking: z.number().int(),
  ended: z.record(z.enum(outcomes), z.number().int()),
  endedAt: time,
  forgiven: z.number().int(),
  absentAccepted: z.number().int(),
  unprovenAccepted: z.boolean(),
  approvedBy: z.string().nullable(),
  judged: z.boolean(),
  worse: z.string().nullable(),
  worseAccepted: z.boolean(),
  heldBack: z.object({ by: z.string(), reason: z.string() }).nullable(),
});
const indexes = z.array(z.number().int());
const kept = z.strictObject({
  version: z.literal(foldVersion),
  phase: z.enum(rolloutPhases),
  heldBecause: z.string().nullable(),
  heldBy: z.string().nullable(),
  startedAt: time,
  startedBy: z.string().nullable(),
  endedAt: time,
  doneBy: time,
  draining: z.boolean(),
  wave: z.number().int(),
  events: z.number().int(),
  runs: z.array(keptRun),
  waves: z.array(keptWave),
  ready: indexes,
  wishes: indexes,
  lost: indexes,
  absent: indexes,
  armed: indexes,
  broken: indexes,
  stranded: indexes,
});

/** A state as it is kept beside its journal, so that a start need not fold the whole of it anew. */
export type KeptState = z.input<typeof kept>;

/** What of a state cannot be had from its plan; it is JSON, and shares with the state what does not change. */
export function keepState(state: RolloutState): KeptState {
  const { plan, runs, waves, ready, wishes, lost, absent, armed, broken, stranded } = state;
  const { phase, heldBecause, heldBy, startedAt, startedBy, endedAt, doneBy, draining, wave: current, events } = state;
  const begin = initialState(plan).runs;
  return {
    version: foldVersion,
    phase,
    heldBecause,
    heldBy,
    startedAt,
    startedBy,
    endedAt,
    doneBy,
    draining,
    wave: current,
    events,
    runs: runs.map((run, i) => changedSince(begin[i]!, run)),
    waves: waves.map((wave) => ({ ...wave, ended: { ...wave.ended } })),
    ready: [...ready],
    wishes: [...wishes],
    lost: [...lost],
    absent: [...absent],
    armed: [...armed],
    broken: [...broken],
    stranded: [...stranded],
  };
}

function changedSince(begin: RunState, run: RunState): KeptState['runs'][number] {
  const isSame = (key: keyof RunState): boolean =>
    run[key] === begin[key] || ((key === 'tried' || key === 'mended') && run[key].length === 0);
  return Object.fromEntries(Object.entries(run).filter(([key]) => !isSame(key as keyof RunState)));
}

/** A state as it was kept; null when it was kept by another fold, is of another plan, or cannot be read. */
export function restoreState(plan: Plan, from: unknown): RolloutState | null {
  const read = kept.safeParse(from);
  if (!read.success) return null;
  const state = initialState(plan);
  const { runs, waves, ready, wishes, lost, absent, armed, broken, stranded } = read.data;
  if (runs.length !== state.runs.length || waves.length !== state.waves.length) return null;
  const all = new Set(plan.runs.keys());
  const sets = { ready, wishes, lost, absent, armed, broken, stranded };
  for (const [name, members] of Object.entries(sets)) {
    if (members.some((i) => !all.has(i))) return null;
    for (const index of members) state[name as keyof typeof sets].add(index);
  }
  runs.forEach((run, i) => Object.assign(state.runs[i]!, run));
  waves.forEach((wave, i) => Object.assign(state.waves[i]!, wave));
  const { phase, heldBecause, heldBy, startedAt, startedBy, endedAt, doneBy, draining, wave, events } = read.data;
  return Object.assign(state, { phase, heldBecause, heldBy, startedAt, startedBy, endedAt, doneBy, draining, wave, events });
}
