import TinyQueue from 'tinyqueue';
import { apply } from '../scheduler/apply.js';
import { decide, type Command } from '../scheduler/decide.js';
import { initialState } from '../scheduler/state.js';
import { Ledger } from '../scheduler/ledger.js';
import { stepsOf, type Plan, type PlannedRun, type PlannedStep } from '../plan/plan.js';
import type { Instant, Ms, RunId } from '../units.js';
import type { RolloutEvent } from '../scheduler/events.js';

/** When one device is touched, and when it is down, in a rehearsal. */
export interface RehearsedRun {
  readonly run: RunId;
  readonly name: string;
  readonly wave: number;
  readonly beginsAt: Instant;
  readonly endsAt: Instant;
  /** When it goes down first, and comes up last. */
  readonly downFrom: Instant | null;
  readonly downUntil: Instant | null;
  /** How often, and how long in all. */
  readonly downs: number;
  readonly downMs: Ms;
}

export interface RehearsedWave {
  readonly wave: number;
  readonly opensAt: Instant;
  readonly endsAt: Instant;
}

/** What would happen, and when, if every device took its usual time and nothing failed. */
export interface Rehearsal {
  readonly beginsAt: Instant;
  readonly endsAt: Instant;
  readonly runs: readonly RehearsedRun[];
  readonly waves: readonly RehearsedWave[];
  /** The most devices under way at once. */
  readonly mostAtOnce: number;
  /** The most devices down at once. */
  readonly mostDown: number;
  /** Gates that wait for a person; the rehearsal lets them pass at once and says so. */
  readonly approvals: readonly number[];
  /** Why it never comes to its end; null when it does. */
  readonly stuck: string | null;
  readonly events: number;
}

/** How long a step of a run takes; the plan's usual durations when none is given. */
export type DurationModel = (run: PlannedRun, step: PlannedStep) => Ms;

/**
 * Plays a plan on a virtual clock through the very functions that the runner obeys.
 * @throws Error when the policy comes to a stand before the end, which would be a fault of Barrow.
 */
export function rehearse(plan: Plan, beginsAt: Instant, duration: DurationModel = (_, step) => step.typicalMs): Rehearsal {
  let state = initialState(plan);
  const ledger = new Ledger();
  let now = beginsAt;
  let under = 0;
  let down = 0;
  let mostAtOnce = 0;
  let mostDown = 0;
  let stuck: string | null = null;
  const approvals: number[] = [];
  /** Since when. */
  const isDown = new Map<RunId, Instant>();
  const runs = new Map<RunId, { -readonly [K in keyof RehearsedRun]: RehearsedRun[K] }>();
  const waves: { wave: number; opensAt: Instant; endsAt: Instant }[] = [];
  const pending = new TinyQueue<{ at: Instant; order: number; event: RolloutEvent | null }>([], (a, b) => a.at - b.at || a.order - b.order);
  let order = 0;
  const wakes = new Set<Instant>();
  const happen = (event: RolloutEvent): void => {
    state = apply(state, event);
    ledger.follow(state, event);
  };
  happen({ kind: 'rollout-started', at: now, by: 'rehearsal' });

  const carryOut = (command: Command): void => {
    switch (command.kind) {
      case 'enter-stretch': {
        const index = state.indexOf.get(command.run)!;
        const planned = plan.runs[index]!;
        mostAtOnce = Math.max(mostAtOnce, ++under);
        if (state.runs[index]!.phase === 'waiting') {
          runs.set(planned.id, {
            run: planned.id,
            name: planned.name,
            wave: planned.wave,
            beginsAt: now,
            endsAt: now,
            downFrom: null,
            downUntil: null,
            downs: 0,
            downMs: 0,
          });
        }
        happen({
          kind: 'stretch-entered',
          at: now,
          run: command.run,
          stretch: command.stretch,
          attempt: command.attempt,
          claims: [...command.claims],
        });
        return;
      }
      case 'begin-step': {
        const index = state.indexOf.get(command.run)!;
        const planned = plan.runs[index]!;
        const step = stepsOf(plan, planned)[state.runs[index]!.step]!;
        const seen = runs.get(planned.id)!;
        if (step.down && !isDown.has(planned.id)) {
          isDown.set(planned.id, now);
          seen.downFrom ??= now;
          seen.downs++;
          mostDown = Math.max(mostDown, ++down);
        }
        const { step: name, leg } = command;
        const taken = { run: command.run, step: name, ...(leg === undefined ? {} : { leg }) };
        happen({ kind: 'step-begun', at: now, ...taken, attempt: command.attempt });
        pending.push({
          at: now + duration(planned, step),
          order: order++,
          event: { kind: 'step-done', at: 0, ...taken },
        });
        return;
      }
      case 'open-wave':
        waves.push({ wave: command.wave, opensAt: now, endsAt: now });
        happen({ kind: 'wave-opened', at: now, wave: command.wave });
        return;
      case 'end-wave':
        waves[command.wave]!.endsAt = now;
        happen({ kind: 'wave-ended', at: now, wave: command.wave });
        if (plan.waves[command.wave]!.gate.approval) {
          approvals.push(command.wave);
          happen({ kind: 'approved', at: now, by: 'rehearsal', wave: command.wave });
        }
        return;
      case 'end-soak':
        happen({ kind: 'soak-ended', at: now, wave: command.wave });
        return;
      case 'pass-gate':
        happen({ kind: 'gate-passed', at: now, wave: command.wave });
        return;
      case 'end-rollout':
        happen({ kind: 'rollout-ended', at: now });
        return;
      case 'hold':
        stuck = command.reason;
        return;
      case 'wake':
        if (wakes.has(command.at)) return;
        wakes.add(command.at);
        pending.push({ at: command.at, order: order++, event: null });
        return;
      default:
        throw new Error(`a rehearsal in which nothing fails cannot come to ${command.kind}`);
    }
  };

  for (;;) {
    const commands = decide(state, ledger, now);
    commands.forEach(carryOut);
    if (state.phase === 'ended' || stuck !== null) break;
    if (commands.some((c) => c.kind !== 'wake' && c.kind !== 'begin-step')) continue;
    const next = pending.pop();
    if (!next) throw new Error('the rehearsal came to a stand before its end');
    now = next.at;
    if (next.event?.kind !== 'step-done') continue;
    const seen = runs.get(next.event.run)!;
    const index = state.indexOf.get(next.event.run)!;
    const steps = stepsOf(plan, plan.runs[index]!);
    const wasDown = steps[state.runs[index]!.step]!.down;
    happen({ ...next.event, at: now });
    if (wasDown && !steps[state.runs[index]!.step]!.down) {
      seen.downUntil = now;
      seen.downMs += now - isDown.get(seen.run)!;
      isDown.delete(seen.run);
      down--;
    }
    const { phase } = state.runs[index]!;
    if (phase === 'ended') seen.endsAt = now;
    if (phase === 'ended' || phase === 'parked') under--;
  }
  return { beginsAt, endsAt: now, runs: [...runs.values()], waves, mostAtOnce, mostDown, approvals, stuck, events: state.events };
}
