import TinyQueue from 'tinyqueue';
import { apply, check } from '../scheduler/apply.js';
import { eventOf } from '../scheduler/commanded.js';
import { decide, tooLate, windowOver, type Command } from '../scheduler/decide.js';
import { keepState, restoreState } from '../scheduler/keep.js';
import { currentStep, initialState, rungOf, type RolloutState, type WaveState } from '../scheduler/state.js';
import { Ledger } from '../scheduler/ledger.js';
import { canBeAsked } from '../plan/rungs.js';
import { heldBackText, whyWaiting } from '../scheduler/why.js';
import { Watch, type PlayedRun } from './watch.js';
import { opensAt, type Claim, type Plan, type PlannedRun, type PlannedRung, type PlannedStep } from '../plan/plan.js';
import type { Instant, Key, Ms, RunId } from '../units.js';
import type { RolloutEvent } from '../scheduler/events.js';

export interface PlayedWave {
  readonly wave: number;
  readonly opensAt: Instant;
  readonly endsAt: Instant;
}

/** How it goes on: from one moment to another, or to where it comes to a stand. */
export interface Played {
  readonly beginsAt: Instant;
  readonly endsAt: Instant;
  /** Those that were begun with. */
  readonly runs: readonly PlayedRun[];
  readonly waves: readonly PlayedWave[];
  /** The most devices under way at once. */
  readonly mostAtOnce: number;
  /** The most devices down at once. */
  readonly mostDown: number;
  /** Gates that wait for a person; they are let pass at once. */
  readonly approvals: readonly number[];
  /** When it was held, and why; a person may have had it go on. */
  readonly holds: readonly { readonly at: Instant; readonly because: string }[];
  /** Why it never comes to its end; null when it does. */
  readonly stuck: string | null;
  /** How its waves stand in the end. */
  readonly ended: readonly WaveState[];
  readonly events: number;
}

/** How a step ends that does not end well. */
export interface Failing {
  readonly cause: string;
  readonly detail: string;
  /** The step fails only after its longest wait. */
  readonly atLimit?: boolean;
}

/** What a played rollout meets: how long steps take, which of them fail, and what people say. */
export interface World {
  readonly takes: (run: PlannedRun, step: PlannedStep) => Ms;
  /** Null: it ends well. */
  readonly fails?: (run: PlannedRun, step: PlannedStep, rung: PlannedRung | null) => Failing | null;
  /** Whether a person has it go on as soon as it is held. */
  readonly goesOn?: boolean;
}

/** The usual: every step takes its usual time, and none fails. */
export const usualWorld: World = { takes: (_, step) => step.typicalMs };

/**
 * Plays a plan on a virtual clock through the very functions that the runner obeys.
 *
 * @param stands how far it is already; it is not changed. What is under way began when that says
 * @throws Error when the policy comes to a stand before the end, which would be a fault of Barrow
 */
export function play(plan: Plan, world: World, beginsAt: Instant, stands: RolloutState | null = null): Played {
  let state = (stands && restoreState(plan, JSON.parse(JSON.stringify(keepState(stands))))) ?? initialState(plan);
  const ledger = new Ledger();
  let now = beginsAt;
  let mostAtOnce = 0;
  let stuck: string | null = null;
  const approvals: number[] = [];
  const holds: { at: Instant; because: string }[] = [];
  const inHand = new Set<number>();
  /** Who is brought an image at each site that has a slow link. */
  const bringing = new Map<string, Set<number>>();
  const watch = new Watch(plan);
  /** Why those wait that are between two stretches, or have not begun, as it was when they had to; and who was not asked yet. */
  const reasons = new Map<number, { readonly text: string; readonly isWindow: boolean }>();
  const unasked = new Set<number>();
  const waves: { wave: number; opensAt: Instant; endsAt: Instant }[] = [];
  /** Whose doing it was that brought us here (time alone: null), who ended each wave, and who of those that begin apart was the last. */
  let doer: number | null = null;
  const lastApart = new Map<Key, number>();
  const enders = new Map<number, number | null>();
  const pending = new TinyQueue<{ at: Instant; order: number; event: RolloutEvent | null }>([], (a, b) => a.at - b.at || a.order - b.order);
  let order = 0;
  const nameOf = new Map(plan.runs.map((r) => [r.id, r.name]));
  const wakes = new Set<Instant>();

  const happen = (event: RolloutEvent, waited: string | null = null, after: RunId | null = null): void => {
    state = apply(state, event);
    ledger.follow(state, event);
    watch.see(state, event, now, waited, after);
    if (event.kind === 'wave-opened') plan.runs.forEach((run, index) => run.wave === event.wave && unasked.add(index));
    if (!('run' in event) || event.run === undefined) return;
    const index = state.indexOf.get(event.run)!;
    const { phase } = state.runs[index]!;
    if (phase === 'ready' || phase === 'busy') inHand.add(index);
    else inHand.delete(index);
    if (phase === 'parked') unasked.add(index);
    mostAtOnce = Math.max(mostAtOnce, inHand.size);
  };
  const begin = (command: Command & { kind: 'begin-step' }): void => {
    const index = state.indexOf.get(command.run)!;
    const planned = plan.runs[index]!;
    const step = currentStep(state, index);
    const rung = rungOf(state, index);
    happen(eventOf(command, now)!);
    const taken = { run: command.run, step: command.step, ...(command.leg === undefined ? {} : { leg: command.leg }) };
    const failing = world.fails?.(planned, step, rung) ?? null;
    const event: RolloutEvent =
      failing === null
        ? { kind: 'step-done', at: 0, ...taken }
        : { kind: 'step-failed', at: 0, ...taken, cause: failing.cause, detail: failing.detail };
    const takes = failing?.atLimit ? (step.limitMs ?? world.takes(planned, step)) : world.takes(planned, step);
    pending.push({ at: now + Math.max(takes, overLink(index, planned, step)), order: order++, event });
  };
  /** How long an image is under way over the link of its site, which those share that are brought one meanwhile. */
  const overLink = (index: number, { site }: PlannedRun, { octets }: PlannedStep): Ms => {
    const rate = plan.links?.[site];
    if (rate === undefined || octets === undefined) return 0;
    const on = bringing.get(site) ?? new Set();
    bringing.set(site, on.add(index));
    return Math.ceil((1000 * octets * on.size) / rate);
  };
  /** Who let it be entered: who did something just now, or ended what has soaked since; of those that are spaced, the one before it. */
  const afterWhom = (index: number, claims: readonly Claim[]): RunId | null => {
    const reason = reasons.get(index);
    const { wave, passage } = plan.runs[index]!;
    const own = watch.lastPart(index);
    const soaked = own !== undefined && plan.passages[passage]!.stretches[state.runs[index]!.stretch]!.afterSoak === true;
    let whom: number | null;
    if (soaked) whom = doer ?? enders.get(wave) ?? null;
    else if (reason?.isWindow) whom = doer;
    else if (reason) whom = doer ?? claims.map(({ key }) => lastApart.get(key)).find((found) => found !== undefined) ?? null;
    else whom = own ? index : (enders.get(wave - 1) ?? null);
    return whom === null ? null : plan.runs[whom]!.id;
  };
  const approve = (wave: number): void => {
    approvals.push(wave);
    happen({ kind: 'approved', at: now, by: 'a person', wave });
  };
  const carryOut = (command: Command): void => {
    switch (command.kind) {
      case 'begin-step':
        return begin(command);
      case 'enter-stretch': {
        const index = state.indexOf.get(command.run)!;
        const waited = reasons.get(index)?.text ?? null;
        happen(eventOf(command, now)!, waited, afterWhom(index, command.claims));
        reasons.delete(index);
        for (const { key } of command.claims) if (plan.spacing?.[key] !== undefined) lastApart.set(key, index);
        return;
      }
      case 'open-wave':
        waves.push({ wave: command.wave, opensAt: now, endsAt: now });
        break;
      case 'end-wave':
        waves.find((w) => w.wave === command.wave)!.endsAt = now;
        enders.set(command.wave, doer);
        break;
      case 'hold':
        holds.push({ at: now, because: command.reason });
        // No word opens a window again that is over, or makes the night longer.
        if (!world.goesOn || command.reason === windowOver || command.reason === tooLate) stuck = command.reason;
        break;
      case 'reconcile': {
        const index = state.indexOf.get(command.run)!;
        happen(eventOf(command, now)!);
        const event: RolloutEvent = { ...command, kind: 'reconciled', at: 0, truth: 'done', detail: 'so it is taken to be' };
        pending.push({ at: now + world.takes(plan.runs[index]!, currentStep(state, index)), order: order++, event });
        return;
      }
      case 'judge-soak':
        // Nothing is known of what will show.
        return happen({ kind: 'soak-judged', at: now, wave: command.wave, worse: null, findings: [], looks: 0 });
      case 'wake':
        if (wakes.has(command.at)) return;
        wakes.add(command.at);
        pending.push({ at: command.at, order: order++, event: null });
        return;
    }
    happen(eventOf(command, now)!);
    if (command.kind === 'hold' && stuck === null) happen({ kind: 'continued', at: now, by: 'a person' });
    if (command.kind === 'end-wave' && plan.waves[command.wave]!.gate.approval && state.waves[command.wave]!.approvedBy === null)
      approve(command.wave);
  };

  /** Who could go on and does not is asked why, once, before time goes on. */
  const askWhy = (): void => {
    for (const index of unasked) {
      const { phase } = state.runs[index]!;
      const why =
        phase === 'parked' || phase === 'waiting' ? whyWaiting(state, index, ledger, ({ run }) => nameOf.get(run) ?? run, now, now) : null;
      if (why) reasons.set(index, { text: why.text, isWindow: opensAt(plan, plan.runs[index]!, state.runs[index]!.stretch, now) !== now });
    }
    unasked.clear();
  };

  /** What is under way ends when it usually does; what is late already, now. */
  const takeUp = (): void => {
    ledger.add(state);
    // A service that is about to stop begins anew with what it left.
    if (state.draining) happen({ kind: 'service-started', at: now });
    state.waves.forEach((wave, index) => {
      if (wave.phase !== 'waiting') waves.push({ wave: index, opensAt: now, endsAt: now });
      const waits = wave.phase === 'soaking' || wave.phase === 'proving';
      if (waits && plan.waves[index]!.gate.approval && wave.approvedBy === null) approve(index);
    });
    state.runs.forEach((run, index) => {
      if (run.phase === 'waiting' || run.phase === 'ended') return;
      const planned = plan.runs[index]!;
      watch.takeUp(state, index, now);
      if (run.phase === 'parked') unasked.add(index);
      if (run.phase !== 'busy' && run.phase !== 'asking') return;
      const step = currentStep(state, index);
      inHand.add(index);
      const taken = { run: planned.id, step: step.step, ...(step.leg === 0 ? {} : { leg: step.leg }) };
      const event: RolloutEvent =
        run.phase === 'busy'
          ? { kind: 'step-done', at: 0, ...taken }
          : { kind: 'reconciled', at: 0, ...taken, truth: 'done', detail: 'so it is taken to be' };
      pending.push({ at: Math.max(now, (run.stepBegunAt ?? now) + world.takes(planned, step)), order: order++, event });
    });
  };

  if (stands) takeUp();
  else happen({ kind: 'rollout-started', at: now, by: 'a person' });
  if (state.phase === 'held' && (state.heldBy === 'Barrow' || world.goesOn)) happen({ kind: 'continued', at: now, by: 'a person' });
  for (;;) {
    const commands = decide(state, ledger, now);
    commands.forEach(carryOut);
    if (state.phase === 'ended') break;
    if (commands.some((c) => c.kind !== 'wake' && c.kind !== 'begin-step')) continue;
    const next = pending.pop();
    if (!next) {
      if (state.phase === 'running' && state.waves[state.wave + 1]?.heldBack) {
        holds.push({ at: now, because: heldBackText(state, state.wave + 1) });
        if (world.goesOn) {
          happen({ kind: 'wave-freed', at: now, wave: state.wave + 1, by: 'a person' });
          continue;
        }
        stuck ??= holds.at(-1)!.because;
      }
      if (stuck === null && state.phase === 'running') {
        // Who failed and cannot be asked may still be writing: others wait until somebody has looked at it.
        const index = state.runs.findIndex((r) => r.phase === 'ended' && r.claims !== null);
        if (index >= 0) {
          const { id, name } = plan.runs[index]!;
          holds.push({ at: now, because: `${name} failed and may still be down or writing: others wait until somebody has looked at it` });
          if (world.goesOn) {
            happen({ kind: 'run-released', at: now, run: id, by: 'a person', reason: 'looked at' });
            continue;
          }
          stuck = holds.at(-1)!.because;
        }
      }
      // Held, with nothing under way any more.
      if (stuck !== null) break;
      throw new Error('what was played came to a stand before its end');
    }
    if (next.at > now) askWhy();
    now = next.at;
    doer = next.event && 'run' in next.event ? state.indexOf.get(next.event.run!)! : null;
    if (!next.event) continue;
    if (doer !== null) bringing.get(plan.runs[doer]!.site)?.delete(doer);
    const event = { ...next.event, at: now };
    // Who is not there, or not ready, when it is to be begun with, may be later.
    const absent = event.kind === 'step-failed' ? ({ ...event, kind: 'run-absent' } as const) : null;
    if (absent && check(state, absent) === null)
      happen({ kind: 'run-absent', at: now, run: absent.run, cause: absent.cause, detail: absent.detail });
    else happen(event);
    if (event.kind !== 'step-failed' || !canBeAsked(event.cause)) continue;
    const run = state.runs[state.indexOf.get(event.run)!]!;
    if (run.phase === 'ended' && run.claims !== null)
      happen({ kind: 'run-released', at: now, run: event.run, by: 'Barrow', reason: 'it answered after its failure' });
  }
  if (state.phase === 'ended') stuck = null;
  return {
    beginsAt,
    endsAt: now,
    runs: watch.runs,
    waves,
    mostAtOnce,
    mostDown: watch.mostDown,
    approvals,
    holds,
    stuck,
    ended: state.waves,
    events: state.events,
  };
}
