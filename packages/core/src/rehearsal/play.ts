import TinyQueue from 'tinyqueue';
import { apply, check } from '../scheduler/apply.js';
import { eventOf } from '../scheduler/commanded.js';
import { decide, type Command } from '../scheduler/decide.js';
import { keepState, restoreState } from '../scheduler/keep.js';
import { currentStep, initialState, type Outcome, type RolloutState, type WaveState } from '../scheduler/state.js';
import { Ledger } from '../scheduler/ledger.js';
import { whyWaiting } from '../scheduler/why.js';
import type { Plan, PlannedRun, PlannedStep } from '../plan/plan.js';
import type { Instant, Ms, RunId } from '../units.js';
import type { RolloutEvent } from '../scheduler/events.js';

/** When one device is touched, and when it is down, as it was played. */
export interface PlayedRun {
  readonly run: RunId;
  readonly name: string;
  readonly wave: number;
  readonly beginsAt: Instant;
  readonly endsAt: Instant;
  /** When it goes down first, and comes up last; null when it never does. */
  readonly downFrom: Instant | null;
  readonly downUntil: Instant | null;
  /** How often, and how long in all. */
  readonly downs: number;
  readonly downMs: Ms;
  /** The stretches that it is in, one after the other, with the moments at which it enters and leaves them. */
  readonly parts: readonly PlayedPart[];
  /** When it is down. */
  readonly dark: readonly (readonly [from: Instant, until: Instant])[];
  /** How it ends; null when it comes to no end. */
  readonly outcome: Outcome | null;
  /** By which cause, and by which rungs it was tried to be taken back. */
  readonly cause: string | null;
  readonly rungs: readonly string[];
}

export interface PlayedPart {
  readonly name: string;
  readonly from: Instant;
  readonly until: Instant;
  /** Why it was not entered at once; null when it was. */
  readonly waited: string | null;
}

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
}

/** What a played rollout meets: how long steps take, which of them fail, and what people say. */
export interface World {
  readonly takes: (run: PlannedRun, step: PlannedStep) => Ms;
  /** Null: it ends well. */
  readonly fails?: (run: PlannedRun, step: PlannedStep) => Failing | null;
  /** Whether a person has it go on as soon as it is held. */
  readonly goesOn?: boolean;
}

type Mutable<T> = { -readonly [K in keyof T]: T[K] };
interface Watched extends Mutable<PlayedRun> {
  rungs: string[];
  parts: Mutable<PlayedPart>[];
  dark: [from: Instant, until: Instant][];
}

const watched = ({ id, name, wave }: PlannedRun, now: Instant): Watched => ({
  ...{ run: id, name, wave, beginsAt: now, endsAt: now, downFrom: null, downUntil: null, downs: 0, downMs: 0 },
  ...{ outcome: null, cause: null, rungs: [], parts: [], dark: [] },
});

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
  let mostDown = 0;
  let stuck: string | null = null;
  const approvals: number[] = [];
  const holds: { at: Instant; because: string }[] = [];
  const inHand = new Set<number>();
  /** Since when. */
  const isDown = new Map<number, Instant>();
  const runs = new Map<number, Watched>();
  /** Why those wait that are between two stretches, or have not begun, as it was when they had to; and who was not asked yet. */
  const reasons = new Map<number, string>();
  const unasked = new Set<number>();
  const waves: { wave: number; opensAt: Instant; endsAt: Instant }[] = [];
  const pending = new TinyQueue<{ at: Instant; order: number; event: RolloutEvent | null }>([], (a, b) => a.at - b.at || a.order - b.order);
  let order = 0;
  const nameOf = new Map(plan.runs.map((r) => [r.id, r.name]));
  const wakes = new Set<Instant>();

  const comeUp = (index: number): void => {
    const since = isDown.get(index);
    const seen = runs.get(index);
    if (since === undefined || !seen) return;
    isDown.delete(index);
    seen.downUntil = now;
    seen.downMs += now - since;
    seen.dark.push([since, now]);
  };
  const happen = (event: RolloutEvent): void => {
    state = apply(state, event);
    ledger.follow(state, event);
    if (event.kind === 'wave-opened') plan.runs.forEach((run, index) => run.wave === event.wave && unasked.add(index));
    if (!('run' in event) || event.run === undefined) return;
    const index = state.indexOf.get(event.run)!;
    const run = state.runs[index]!;
    const seen = runs.get(index);
    if (run.phase === 'ready' || run.phase === 'busy') inHand.add(index);
    else inHand.delete(index);
    if (run.phase === 'parked') unasked.add(index);
    mostAtOnce = Math.max(mostAtOnce, inHand.size);
    if (!seen) return;
    seen.endsAt = now;
    const part = seen.parts.at(-1);
    if (part) part.until = now;
    if (run.phase === 'ended') Object.assign(seen, { outcome: run.outcome, cause: run.cause });
    // Who failed while it was down is down still, for all that is known.
    if (event.kind === 'step-done' && (run.phase === 'ended' || run.phase === 'parked' || !currentStep(state, index).down)) comeUp(index);
  };
  const begin = (command: Command & { kind: 'begin-step' }): void => {
    const index = state.indexOf.get(command.run)!;
    const planned = plan.runs[index]!;
    const step = currentStep(state, index);
    const { rung } = state.runs[index]!;
    if (step.down && !isDown.has(index)) {
      const seen = runs.get(index)!;
      isDown.set(index, now);
      seen.downFrom ??= now;
      seen.downs++;
      mostDown = Math.max(mostDown, isDown.size);
    }
    happen(eventOf(command, now)!);
    const taken = { run: command.run, step: command.step, ...(command.leg === undefined ? {} : { leg: command.leg }) };
    // A rung may fail at a step of the same name: what is played is that the leg did.
    const failing = rung === null ? (world.fails?.(planned, step) ?? null) : null;
    const event: RolloutEvent =
      failing === null ? { kind: 'step-done', at: 0, ...taken } : { kind: 'step-failed', at: 0, ...taken, ...failing };
    pending.push({ at: now + world.takes(planned, step), order: order++, event });
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
        if (!runs.has(index)) runs.set(index, watched(plan.runs[index]!, now));
        const { rung } = state.runs[index]!;
        const stretch = plan.passages[plan.runs[index]!.passage]!.stretches[command.stretch]!.name;
        runs.get(index)!.parts.push({ name: stretch, from: now, until: now, waited: reasons.get(index) ?? null });
        reasons.delete(index);
        if (rung !== null) runs.get(index)!.rungs.push(plan.passages[plan.runs[index]!.passage]!.rungs[rung]!.means);
        break;
      }
      case 'open-wave':
        waves.push({ wave: command.wave, opensAt: now, endsAt: now });
        break;
      case 'end-wave':
        waves.find((w) => w.wave === command.wave)!.endsAt = now;
        break;
      case 'hold':
        holds.push({ at: now, because: command.reason });
        // What waits for a window that is over, no word opens again.
        if (!world.goesOn || command.reason.startsWith('its last window')) stuck = command.reason;
        break;
      case 'reconcile': {
        const index = state.indexOf.get(command.run)!;
        happen(eventOf(command, now)!);
        const event: RolloutEvent = { ...command, kind: 'reconciled', at: 0, truth: 'done', detail: 'so it is taken to be' };
        pending.push({ at: now + world.takes(plan.runs[index]!, currentStep(state, index)), order: order++, event });
        return;
      }
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
      if (why) reasons.set(index, why.text);
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
      runs.set(index, watched(planned, now));
      if (run.phase === 'parked') unasked.add(index);
      if (run.phase !== 'busy' && run.phase !== 'asking') return;
      const step = currentStep(state, index);
      inHand.add(index);
      if (step.down) isDown.set(index, now);
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
      // Held, with nothing under way any more.
      if (stuck !== null) break;
      throw new Error('what was played came to a stand before its end');
    }
    if (next.at > now) askWhy();
    now = next.at;
    if (!next.event) continue;
    const event = { ...next.event, at: now };
    // Who is not there, or not ready, when it is to be begun with, may be later.
    const absent = event.kind === 'step-failed' ? ({ ...event, kind: 'run-absent' } as const) : null;
    if (absent && check(state, absent) === null)
      happen({ kind: 'run-absent', at: now, run: absent.run, cause: absent.cause, detail: absent.detail });
    else happen(event);
  }
  if (state.phase === 'ended') stuck = null;
  return {
    beginsAt,
    endsAt: now,
    runs: [...runs.values()],
    waves,
    mostAtOnce,
    mostDown,
    approvals,
    holds,
    stuck,
    ended: state.waves,
    events: state.events,
  };
}
