import { passageOf, type Plan } from '../plan/plan.js';
import type { RolloutEvent } from '../scheduler/events.js';
import { currentStep, type Outcome, type RolloutState, type RunPhase } from '../scheduler/state.js';
import type { Instant, Ms, RunId } from '../units.js';

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
  /** Index of the stretch in the passage of its run. */
  readonly stretch: number;
  readonly from: Instant;
  readonly until: Instant;
  /** Why it was not entered at once; null when it was. */
  readonly waited: string | null;
  /** The run whose doing let it be entered, its own too; null when only time did. */
  readonly after: RunId | null;
}

type Mutable<T> = { -readonly [K in keyof T]: T[K] };
interface Watched extends Mutable<PlayedRun> {
  rungs: string[];
  parts: Mutable<PlayedPart>[];
  dark: [from: Instant, until: Instant][];
}

/** Whether a run of this phase is in a stretch now. */
export const isInPart = (phase: RunPhase): boolean => phase === 'busy' || phase === 'ready' || phase === 'asking' || phase === 'lost';

/** Watches what happens to devices, played or true: the stretches that each is in, and when it is down. */
export class Watch {
  readonly #runs = new Map<number, Watched>();
  /** Who is down, and since when. */
  readonly #isDown = new Map<number, Instant>();
  mostDown = 0;

  constructor(private readonly plan: Plan) {}

  get runs(): PlayedRun[] {
    return [...this.#runs.values()];
  }

  lastPart(index: number): PlayedPart | undefined {
    return this.#runs.get(index)?.parts.at(-1);
  }

  /** Who is under way already when it begins to be watched. */
  takeUp(state: RolloutState, index: number, now: Instant): void {
    const seen = this.#of(index, now);
    const { phase, stretch } = state.runs[index]!;
    const { name } = passageOf(this.plan, this.plan.runs[index]!).stretches[stretch]!;
    if (isInPart(phase)) seen.parts.push({ name, stretch, from: now, until: now, waited: null, after: null });
    if ((phase === 'busy' || phase === 'asking') && currentStep(state, index).down) this.#isDown.set(index, now);
  }

  /**
   * @param state as it is after it has happened
   * @param waited of who enters a stretch: why not sooner; `after`: whose doing let it
   */
  see(state: RolloutState, event: RolloutEvent, now: Instant, waited: string | null = null, after: RunId | null = null): void {
    if (!('run' in event) || event.run === undefined) return;
    const index = state.indexOf.get(event.run)!;
    const run = state.runs[index]!;
    if (event.kind === 'stretch-entered') {
      const passage = passageOf(this.plan, this.plan.runs[index]!);
      const seen = this.#of(index, now);
      const { name } = passage.stretches[event.stretch]!;
      seen.parts.push({ name, stretch: event.stretch, from: now, until: now, waited, after });
      if (run.rung !== null) seen.rungs.push(passage.rungs[run.rung]!.means);
    }
    const seen = this.#runs.get(index);
    if (!seen) return;
    if (event.kind === 'step-begun' && currentStep(state, index).down && !this.#isDown.has(index)) {
      this.#isDown.set(index, now);
      seen.downFrom ??= now;
      seen.downs++;
      this.mostDown = Math.max(this.mostDown, this.#isDown.size);
    }
    seen.endsAt = now;
    const part = seen.parts.at(-1);
    if (part) part.until = now;
    if (run.phase === 'ended') Object.assign(seen, { outcome: run.outcome, cause: run.cause });
    // Who failed while it was down is down still, for all that is known.
    if (event.kind === 'step-done' && (run.phase === 'ended' || run.phase === 'parked' || !currentStep(state, index).down))
      this.#comeUp(index, now);
  }

  /** All as it is at a moment: who is in a stretch, or down, is so until then. */
  asOf(state: RolloutState, now: Instant): PlayedRun[] {
    return [...this.#runs].map(([index, seen]) => {
      const { phase } = state.runs[index]!;
      const isIn = isInPart(phase);
      const since = phase === 'ended' ? undefined : this.#isDown.get(index);
      return {
        ...seen,
        endsAt: isIn ? now : seen.endsAt,
        parts: seen.parts.map((part, i) => (isIn && i === seen.parts.length - 1 ? { ...part, until: now } : part)),
        dark: since === undefined ? [...seen.dark] : [...seen.dark, [since, now] as const],
        downMs: seen.downMs + (since === undefined ? 0 : now - since),
      };
    });
  }

  #of(index: number, now: Instant): Watched {
    const { id, name, wave } = this.plan.runs[index]!;
    const known = this.#runs.get(index) ?? {
      ...{ run: id, name, wave, beginsAt: now, endsAt: now, downFrom: null, downUntil: null, downs: 0, downMs: 0 },
      ...{ outcome: null, cause: null, rungs: [], parts: [], dark: [] },
    };
    this.#runs.set(index, known);
    return known;
  }

  #comeUp(index: number, now: Instant): void {
    const since = this.#isDown.get(index);
    const seen = this.#runs.get(index);
    if (since === undefined || !seen) return;
    this.#isDown.delete(index);
    seen.downUntil = now;
    seen.downMs += now - since;
    seen.dark.push([since, now]);
  }
}
