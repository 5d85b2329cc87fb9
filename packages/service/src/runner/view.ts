import {
  hazardKinds,
  cause as causeOf,
  checkWord,
  darkWith,
  indexAfter,
  legsOf,
  legSteps,
  outcomes,
  passageOf,
  firstRung,
  rungText,
  stepMeaning,
  type Passage,
  type PlannedRung,
  type Plan,
  type RolloutState,
  type Rollout,
  type RolloutChanges,
  type RolloutSummary,
  type RunState,
  type RunView,
  type ServiceTrouble,
  type WaveState,
  type PlannedWindow,
} from '@barrow/core';
import { rfc3339, rfc3339OrNull } from '../context.js';
import type { WriteTrouble } from '../data/database.js';
import type { ActiveRollout } from './active.js';

type Totals = RolloutSummary['totals'];

export function totalsOf(waves: readonly WaveState[]): Totals {
  const totals = { waiting: 0, 'under-way': 0 } as Totals;
  for (const outcome of outcomes) totals[outcome] = 0;
  for (const wave of waves) {
    totals.waiting += wave.waiting + wave.absent;
    totals['under-way'] += wave.active;
    for (const outcome of outcomes) totals[outcome] += wave.ended[outcome];
  }
  return totals;
}

export function causeView(code: string | null): RunView['cause'] {
  if (code === null) return null;
  const { what, next } = causeOf(code);
  return { code, what, next };
}

export function runView(active: ActiveRollout, index: number, fileOf: ReadonlyMap<string, string>): RunView {
  const planned = active.plan.runs[index]!;
  const run = active.state.runs[index]!;
  const { id, device, name, address, site, family, serial, from, target, image } = planned;
  const passage = passageOf(active.plan, planned);
  const steps = passage.steps.slice(0, legSteps(passage));
  // While it is taken back, its own passage stands where it failed.
  const at = run.failedStep ?? run.ending?.step ?? run.step;
  const nameOf = (sha256: string): string => fileOf.get(sha256) ?? 'removed';
  const waits = active.waits(index);
  return {
    id,
    device,
    name,
    address,
    site,
    family,
    serial,
    from,
    target,
    image,
    file: nameOf(image),
    legs: legsOf(active.plan, planned).map(({ image: of, component, from: was, to }) => ({
      image: of,
      file: nameOf(of),
      component,
      from: was,
      to,
    })),
    leg: steps[at]!.leg,
    passage: planned.passage,
    notices: [...(planned.notices ?? [])],
    wave: run.wave,
    phase: run.phase,
    // What it came to its end at is behind it: what was set aside is put back.
    step: run.ending ? passage.steps[run.step]!.step : steps[at]!.step,
    stepIndex: at,
    stepCount: steps.length,
    stepBegunAt: rfc3339OrNull(run.stepBegunAt),
    attempt: run.attempt,
    pastReturn: run.pastReturn,
    rung: rungView(passage, run),
    tried: triedView(passage, run),
    mended: run.mended.map(({ rung, cause, detail, unsure }) => ({
      text: rungText(passage.rungs[rung]!.means),
      cause: causeView(cause)!,
      detail,
      unsure,
    })),
    takeBack: takeBackText(active, index),
    cutsOff: darkWith(active.state, index)?.map((d) => d.name) ?? null,
    outcome: run.outcome,
    cause: causeView(run.cause),
    detail: run.detail,
    begunAt: rfc3339OrNull(run.begunAt),
    endedAt: rfc3339OrNull(run.endedAt),
    guarded: run.phase === 'ended' && run.claims !== null,
    asks: run.phase === 'busy' ? (active.questions.get(id) ?? passage.steps[run.step]!.words ?? null) : null,
    asksToTell: active.questions.has(id),
    wish: run.wish && { ...run.wish },
    waits: waits && { text: waits.text, until: rfc3339OrNull(waits.until) },
    percent: active.percent.get(id) ?? null,
    downMs: steps.filter((s) => s.down).reduce((sum, s) => sum + s.typicalMs, 0),
    typicalMs: steps.reduce((sum, s) => sum + s.typicalMs, 0),
  };
}

/** A window of a plan, and the span of it that is open or comes next. */
function windowView(window: PlannedWindow, now: number): NonNullable<Rollout['window']> {
  const span = window.spans[indexAfter(window.spans, now)];
  return { text: window.text, next: span ? { from: rfc3339(span[0]), until: rfc3339(span[1]) } : null };
}

/** The steps of a rung that are none of a leg; what stands for the end of a leg counts there. */
function ownStepsOf(passage: Passage, { step, stretch, takes, joins }: PlannedRung): Passage['steps'] {
  if (!takes && joins === undefined) return [];
  const ofLegs = new Set(passage.steps.slice(0, legSteps(passage)).map((s) => `${s.leg} ${s.step}`));
  return passage.steps.slice(step, passage.stretches[stretch]!.to).filter((s) => !ofLegs.has(`${s.leg} ${s.step}`));
}

function rungView({ rungs, steps, stretches }: Passage, { rung, step, phase }: RunState): RunView['rung'] {
  const tried = rung === null || phase === 'ended' ? undefined : rungs[rung]!;
  if (!tried) return null;
  const { means, stretch } = tried;
  return {
    means,
    text: rungText(means),
    step: steps[step]!.step,
    stepIndex: step - tried.step,
    stepCount: stretches[stretch]!.to - tried.step,
  };
}

export const triedView = ({ rungs }: Passage, { tried }: RunState): RunView['tried'] =>
  tried.map(({ rung, step, cause, detail }) => {
    const { means } = rungs[rung]!;
    return { means, text: rungText(means), step, cause: causeView(cause)!, detail };
  });

/** What would be tried if a person had it taken back now. */
function takeBackText({ plan, state }: ActiveRollout, index: number): string | null {
  const planned = plan.runs[index]!;
  if (checkWord(state, { kind: 'take-back-asked', at: 0, run: planned.id, by: '' }) !== null) return null;
  return rungText(passageOf(plan, planned).rungs[firstRung(state, index)!]!.means);
}

/** Why a rollout cannot go on although nobody holds it. */
function troubleOf({ plan, state, fault, unwritten }: ActiveRollout): RolloutSummary['trouble'] {
  if (fault !== null)
    return {
      code: 'rollout-faulty',
      what: 'This rollout cannot go on',
      why: `${fault[0]!.toUpperCase()}${fault.slice(1)}.`,
      next: `Look at its devices, then release them with \`barrow rollout discard ${plan.id}\`, and report it with the log.`,
      since: null,
    };
  const trouble = unwritten();
  return trouble === null || state.phase === 'planned' || state.phase === 'ended' ? null : notWritten(trouble);
}

/** Nothing can be written: what that means, and what to do. */
export const notWritten = ({ since, detail }: WriteTrouble): ServiceTrouble => ({
  code: 'journal-not-written',
  what: 'Nothing can be written, so that nothing is begun',
  why: `The disk of the data folder takes nothing: ${detail}.`,
  next: 'Make room there. What was under way goes on by itself as soon as there is some; nothing is lost.',
  since: rfc3339(since),
});

function beginsView({ begins }: ActiveRollout): RolloutSummary['begins'] {
  const row = begins();
  if (row === null) return null;
  const { at, latest, doneBy, by, missed } = row;
  return { at: rfc3339OrNull(at), latest: rfc3339OrNull(latest), doneBy: rfc3339OrNull(doneBy), by, missed };
}

export function summaryView(active: ActiveRollout): RolloutSummary {
  const { plan, state } = active;
  return {
    id: plan.id,
    name: plan.name,
    phase: state.phase,
    heldBecause: state.heldBecause,
    heldBy: state.heldBy,
    createdAt: rfc3339(plan.createdAt),
    createdBy: plan.createdBy,
    startedAt: rfc3339OrNull(state.startedAt),
    startedBy: state.startedBy,
    endedAt: rfc3339OrNull(state.endedAt),
    devices: plan.runs.length,
    totals: totalsOf(state.waves),
    begins: beginsView(active),
    trouble: troubleOf(active),
  };
}

/** The limits that a person set, by `rollout` and `site:NAME`. */
function limitsOf({ id, capacity }: Plan): Record<string, number> {
  const own = `rollout:${id}`;
  return Object.fromEntries(
    Object.entries(capacity).flatMap(([key, most]) => (key === own ? [['rollout', most]] : key.startsWith('site:') ? [[key, most]] : [])),
  );
}

function soaksUntil(state: RolloutState, index: number): string | null {
  const wave = state.waves[index]!;
  const { soakMs } = state.plan.waves[index]!.gate;
  return wave.phase === 'soaking' && wave.endedAt !== null && soakMs > 0 ? rfc3339(wave.endedAt + soakMs) : null;
}

const windowsIn = new WeakMap<Plan, { readonly window: PlannedWindow; readonly devices: number }[]>();
/** The windows of a plan, each with how many devices go down in it; counted once. */
function windowsOf(plan: Plan): { readonly window: PlannedWindow; readonly devices: number }[] {
  let found = windowsIn.get(plan);
  if (!found) {
    const counts = new Map<string, number>();
    for (const { window } of plan.runs) if (window !== undefined) counts.set(window, (counts.get(window) ?? 0) + 1);
    found = [...counts].map(([name, devices]) => ({ window: plan.windows![name]!, devices }));
    windowsIn.set(plan, found);
  }
  return found;
}

/** What of a rollout changes while it runs. `journal`: the last entry that everybody was told of; `stand`: by what later changes are asked for. */
function movingView(active: ActiveRollout, journal: number, stand: string): Omit<RolloutChanges, 'runs'> {
  const { plan, state } = active;
  const windows = windowsOf(plan).map(({ window, devices }) => ({ ...windowView(window, Date.now()), devices }));
  return {
    ...summaryView(active),
    window: windows[0] ?? null,
    windows,
    currentWave: state.wave,
    waves: plan.waves.map((wave, index) => ({
      index,
      name: wave.name,
      phase: state.waves[index]!.phase,
      gate: wave.gate,
      approvedBy: state.waves[index]!.approvedBy,
      heldBack: state.waves[index]!.heldBack,
      soak: { judged: state.waves[index]!.judged, worse: state.waves[index]!.worse },
      soaksUntil: soaksUntil(state, index),
      totals: totalsOf([state.waves[index]!]),
    })),
    journal,
    stand,
  };
}

/** What has changed since; null: of every run. */
export const changesView = (
  active: ActiveRollout,
  changed: readonly number[] | null,
  fileOf: ReadonlyMap<string, string>,
  journal: number,
  stand: string,
): RolloutChanges => ({
  ...movingView(active, journal, stand),
  runs: (changed ?? [...active.plan.runs.keys()]).map((index) => runView(active, index, fileOf)),
});

/** What could hurt, kind by kind. */
export const hazardsView = (plan: Plan): Rollout['hazards'] =>
  (plan.hazards ?? []).map(({ code, groups }) => ({
    code,
    ...hazardKinds[code],
    groups: groups.map((g) => ({ ...g, devices: [...g.devices] })),
  }));

/** Whose durations are learned: where that is so of some step of its legs. */
function learnedView({ passages, runs }: Plan): Rollout['learned'] {
  const counts = passages.map(({ steps }) => steps.flatMap((s) => (s.learned ? [s.learned.count] : [])));
  const all = counts.flat();
  if (all.length === 0) return null;
  return { devices: runs.filter((r) => counts[r.passage]!.length > 0).length, least: Math.min(...all), most: Math.max(...all) };
}

export function rolloutView(active: ActiveRollout, fileOf: ReadonlyMap<string, string>, journal: number, stand: string): Rollout {
  const { plan } = active;
  return {
    ...changesView(active, null, fileOf, journal, stand),
    unsaved: plan.unsaved,
    wayBack: plan.wayBack,
    limits: limitsOf(plan),
    apartMs: Math.max(0, ...Object.entries(plan.spacing ?? {}).map(([key, ms]) => (key.startsWith('apart:') ? ms : 0))),
    learned: learnedView(plan),
    passages: plan.passages.map((passage) => ({
      steps: passage.steps.slice(0, legSteps(passage)).map(({ step, leg, pastReturn, words, typicalMs, learned }, at) => ({
        step,
        leg,
        meaning: words ?? stepMeaning(step),
        pastReturn,
        usualMs: typicalMs,
        seen: learned ? { mostMs: learned.mostMs, count: learned.count } : null,
        afterSoak: passage.stretches.some((s) => s.afterSoak === true && s.from <= at && at < s.to),
      })),
      rungs: passage.rungs.map((rung) => ({
        means: rung.means,
        text: rung.cutsOff ? `${rungText(rung.means)} on your word, since others share it` : rungText(rung.means),
        steps: ownStepsOf(passage, rung).map((s) => ({ step: s.step, leg: s.leg })),
      })),
    })),
    remarks: [...(plan.remarks ?? [])],
    hazards: hazardsView(plan),
    leftOut: [...plan.leftOut],
  };
}
