import { claimsOf, passageOf, type Claim, type Plan, type PlannedRung, type PlannedStep } from '../plan/plan.js';
import type { Instant, RunId } from '../units.js';

/** A device may be absent so often; then it is not begun. Each time that it is seen keeps its wave open. */
export const mostAbsences = 5;

/** How a run may end; `not-begun` is no failure and is counted apart. */
export const outcomes = ['verified', 'recovered', 'failed', 'withdrawn', 'skipped', 'not-begun'] as const;
export type Outcome = (typeof outcomes)[number];

/**
 * Where a run is. `waiting`: it was not begun. `parked`: between two stretches, holding nothing. `absent`: its device was not there
 * when it was to be begun with; it counts in no wave, and is parked in the one that is open when it is seen. `ready`: in a stretch, its
 * next step may begin. `busy`: a step was journalled as begun.
 * `armed`: its device takes what it holds by itself, at an hour of its own, and until then the run keeps only its guards.
 * `lost`: a step was begun, and the service died before its outcome was known.
 * `asking`: the device is being asked whether the lost step was done. `broken`: it failed past the point of no return, and a
 * rung may be tried; it keeps its guards.
 */
export const runPhases = ['waiting', 'parked', 'absent', 'ready', 'busy', 'armed', 'lost', 'asking', 'broken', 'ended'] as const;
export type RunPhase = (typeof runPhases)[number];

/** A rung that was tried, and failed. */
export interface TriedRung {
  /** Index into the rungs of the passage. */
  readonly rung: number;
  readonly step: string;
  readonly cause: string;
  readonly detail: string;
}

/** A rung that worked, and what had failed first. */
export interface MendedBy {
  /** Index into the rungs of the passage. */
  readonly rung: number;
  readonly cause: string;
  readonly detail: string;
  /** Why nobody knows whether what it was to do was done; null where that is known. */
  readonly unsure: string | null;
}

export interface RunState {
  phase: RunPhase;
  /** Index into the planned steps of the step that is next or being taken. */
  step: number;
  /** Index of the stretch in which it is, or which is next. */
  stretch: number;
  /** What it holds; null outside of a stretch. Who failed where it may still be down or writing keeps its guards. */
  claims: readonly Claim[] | null;
  /** A person's word that it shall be left out, obeyed as soon as the step in hand may be left. */
  wish: { readonly by: string; readonly reason: string } | null;
  /** The wave it counts in; a retried run may count in a later one than planned. */
  wave: number;
  /** How often the run was begun. */
  attempt: number;
  /** It is where it was to go: verified, or found there already; what comes after the soak does not change that. */
  met: boolean;
  /** Since when its device is not there; null unless it is absent. */
  absentSince: Instant | null;
  /** How often it was not there. */
  absences: number;
  /** How many of its legs are behind it: what they brought was checked. */
  legs: number;
  begunAt: Instant | null;
  /** When it entered the stretch that it is in, or was in last. */
  enteredAt: Instant | null;
  /** Index of that stretch. */
  entered: number | null;
  endedAt: Instant | null;
  stepBegunAt: Instant | null;
  pastReturn: boolean;
  /** An earlier attempt has changed it, and nobody has found it as it was before since, nor where it was to go. */
  changed: boolean;
  /** When its device takes by itself what it holds; null unless it is armed. */
  dueAt: Instant | null;
  /** Something of its device is set aside, and not put back yet. */
  owes: boolean;
  /** How it ends as soon as that is put back, and at which step it came to its end; null while it goes on. */
  ending: { readonly outcome: Outcome; readonly step: number; readonly counted: boolean } | null;
  /** Index of the step of its legs at which it failed, where a rung was tried for that. */
  failedStep: number | null;
  /** Index of the rung that is tried, or is next; null while nothing has failed. */
  rung: number | null;
  tried: readonly TriedRung[];
  /** Of this attempt, what failed and is behind it. */
  mended: readonly MendedBy[];
  /** Why nobody knows whether the rung that is tried did what it was to do; null where that is known. */
  unsure: string | null;
  /** A person has said that others may go dark with what it is taken back by. */
  mayCutOff: boolean;
  outcome: Outcome | null;
  /** Of what failed first; what failed of its rungs stands with them. */
  cause: string | null;
  detail: string | null;
}

/** `proving`: it has soaked, and its devices are looked at again. */
export const wavePhases = ['waiting', 'open', 'soaking', 'proving', 'passed'] as const;
export type WavePhase = (typeof wavePhases)[number];

export interface WaveState {
  phase: WavePhase;
  waiting: number;
  active: number;
  /** Those whose device is not there: they are neither waiting nor active. */
  absent: number;
  /** Of the active ones, those that have failed and are being taken back. */
  broken: number;
  /** Of the active ones, those that have reached their target and wait for the end of the soak. */
  soaking: number;
  readonly ended: Record<Outcome, number>;
  endedAt: Instant | null;
  /** Failures, those that were mended among them, that a person has seen and continued after. */
  forgiven: number;
  /** How many were absent when a person continued. */
  absentAccepted: number;
  /** A person continued although the wave verified nothing. */
  unprovenAccepted: boolean;
  approvedBy: string | null;
  /** What its devices showed while they soaked was judged. */
  judged: boolean;
  /** What got worse in that; null when nothing did. */
  worse: string | null;
  /** A person continued although something got worse. */
  worseAccepted: boolean;
  /** A person has it not opened. */
  heldBack: { readonly by: string; readonly reason: string } | null;
}

export const rolloutPhases = ['planned', 'running', 'held', 'stopping', 'ended'] as const;
export type RolloutPhase = (typeof rolloutPhases)[number];

/**
 * The state of a rollout: the fold of its journal, with the indexes that deciding needs.
 * `apply` owns it and may change it in place; take `structuredClone` of it to keep an older one.
 */
export interface RolloutState {
  readonly plan: Plan;
  phase: RolloutPhase;
  heldBecause: string | null;
  heldBy: string | null;
  startedAt: Instant | null;
  startedBy: string | null;
  endedAt: Instant | null;
  /** Nobody goes down who would not be back by then, by the clock on the wall; null: whenever. */
  doneBy: Instant | null;
  /** The service is about to stop: only what must not be left half-done is begun. */
  draining: boolean;
  readonly runs: RunState[];
  readonly waves: WaveState[];
  /** Index of the wave whose runs may begin; -1 before the first, `waves.length` after the last. */
  wave: number;
  /** Begun runs whose next step may begin. */
  readonly ready: Set<number>;
  /** Runs that shall be left out as soon as they may be. */
  readonly wishes: Set<number>;
  /** Runs whose begun step has an unknown outcome. */
  readonly lost: Set<number>;
  /** Runs whose device is not there. */
  readonly absent: Set<number>;
  /** Runs whose device comes to its next step by itself, at its own hour. */
  readonly armed: Set<number>;
  /** Runs that wait to be taken back. */
  readonly broken: Set<number>;
  /** Runs that wait for one which has ended otherwise than verified. */
  readonly stranded: Set<number>;
  /** Of each run that others need: who they are. */
  readonly dependants: ReadonlyMap<number, readonly number[]>;
  readonly indexOf: ReadonlyMap<RunId, number>;
  events: number;
}

function emptyWave(): WaveState {
  return {
    phase: 'waiting',
    waiting: 0,
    active: 0,
    absent: 0,
    broken: 0,
    soaking: 0,
    ended: { verified: 0, recovered: 0, failed: 0, withdrawn: 0, skipped: 0, 'not-begun': 0 },
    endedAt: null,
    forgiven: 0,
    absentAccepted: 0,
    unprovenAccepted: false,
    approvedBy: null,
    judged: false,
    worse: null,
    worseAccepted: false,
    heldBack: null,
  };
}

/** The state of a plan of which nothing has happened yet. */
export function initialState(plan: Plan): RolloutState {
  const waves = plan.waves.map(emptyWave);
  for (const run of plan.runs) waves[run.wave]!.waiting++;
  const indexOf = new Map(plan.runs.map((r, i) => [r.id, i]));
  const dependants = new Map<number, number[]>();
  plan.runs.forEach((run, i) => {
    for (const { run: needed } of run.needs ?? []) {
      const at = indexOf.get(needed)!;
      const list = dependants.get(at);
      if (list) list.push(i);
      else dependants.set(at, [i]);
    }
  });
  return {
    plan,
    phase: 'planned',
    heldBecause: null,
    heldBy: null,
    startedAt: null,
    startedBy: null,
    endedAt: null,
    doneBy: null,
    draining: false,
    runs: plan.runs.map((run) => ({
      phase: 'waiting',
      step: 0,
      stretch: 0,
      claims: null,
      wish: null,
      wave: run.wave,
      attempt: 0,
      legs: 0,
      met: false,
      absentSince: null,
      absences: 0,
      begunAt: null,
      enteredAt: null,
      entered: null,
      endedAt: null,
      stepBegunAt: null,
      pastReturn: false,
      changed: false,
      dueAt: null,
      owes: false,
      ending: null,
      failedStep: null,
      rung: null,
      tried: [],
      mended: [],
      unsure: null,
      mayCutOff: false,
      outcome: null,
      cause: null,
      detail: null,
    })),
    waves,
    wave: -1,
    ready: new Set(),
    wishes: new Set(),
    lost: new Set(),
    absent: new Set(),
    armed: new Set(),
    broken: new Set(),
    stranded: new Set(),
    dependants,
    indexOf,
    events: 0,
  };
}

/** The step that a run takes next or is taking. */
export function currentStep(state: RolloutState, index: number): PlannedStep {
  return passageOf(state.plan, state.plan.runs[index]!).steps[state.runs[index]!.step]!;
}

/** Whether a run has reached its target, and waits until its wave has soaked. */
export function soaks(state: RolloutState, index: number): boolean {
  const { phase, stretch } = state.runs[index]!;
  return phase === 'parked' && passageOf(state.plan, state.plan.runs[index]!).stretches[stretch]!.afterSoak === true;
}

/** The rung that a run tries, or would try next; null while nothing has failed. */
export function rungOf(state: RolloutState, index: number): PlannedRung | null {
  const { rung } = state.runs[index]!;
  return passageOf(state.plan, state.plan.runs[index]!).rungs[rung ?? -1] ?? null;
}

/** What a run would claim to enter its next stretch. */
export function nextClaims(plan: Plan, state: RolloutState, index: number): readonly Claim[] {
  const planned = plan.runs[index]!;
  return claimsOf(plan, planned, passageOf(plan, planned).stretches[state.runs[index]!.stretch]!);
}

/** The run for which the next leg of another has to wait; null when there is none. */
export function neededBy(state: RolloutState, index: number): number | null {
  const { needs } = state.plan.runs[index]!;
  if (!needs) return null;
  const { leg } = currentStep(state, index);
  for (const need of needs) {
    const at = state.indexOf.get(need.run)!;
    if (need.leg <= leg && !state.runs[at]!.met) return at;
  }
  return null;
}
