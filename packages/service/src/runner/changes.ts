import { setTimeout as pause } from 'node:timers/promises';
import type { RunState } from '@barrow/core';
import type { ActiveRollout } from './active.js';

/** Of the time at most this part goes into looking what has changed, however many look. */
const share = 0.05;

/** Everything of a run that a person sees and its plan does not tell. */
const signOf = (run: RunState, rollout: string, waits: string, asked: string): string =>
  [
    ...[run.phase, run.step, run.stretch, run.wave, run.attempt, run.legs, run.begunAt, run.endedAt, run.stepBegunAt, run.pastReturn],
    ...[
      run.failedStep,
      run.rung,
      run.tried.length,
      run.mended.length,
      run.outcome,
      run.cause,
      run.detail,
      run.claims !== null,
      run.wish?.by,
      run.wish?.reason,
    ],
    // What may be said of who failed depends on how the rollout stands.
    run.outcome === 'failed' ? rollout : '',
    waits,
    asked,
  ].join('\u0000');

/**
 * Which runs of a rollout look otherwise than when somebody looked last. A run may look otherwise without anything having happened
 * to it: what it waits for is another's. So all are looked at when somebody asks, and not more often than can be afforded.
 */
export class Changes {
  #version = 0;
  readonly #signs: string[] = [];
  readonly #changedAt: number[] = [];
  #next = 0;
  #looking: Promise<void> | null = null;

  constructor(
    private readonly active: ActiveRollout,
    /** Told apart from those of another start of the service. */
    private readonly epoch: string,
  ) {}

  /** By what later changes are asked for: as it was last looked at. */
  get stand(): string {
    return `${this.epoch}.${this.#version}`;
  }

  /** The runs that have changed since a stand, null when that cannot be told; and how it stands now. */
  async since(before: string): Promise<{ readonly changed: readonly number[] | null; readonly stand: string }> {
    await (this.#looking ??= this.#look().finally(() => (this.#looking = null)));
    const { stand } = this;
    const [epoch, version] = before.split('.');
    if (epoch !== this.epoch || !/^\d+$/.test(version ?? '')) return { changed: null, stand };
    return { changed: this.#changedAt.flatMap((at, index) => (at > Number(version) ? [index] : [])), stand };
  }

  async #look(): Promise<void> {
    const wait = this.#next - performance.now();
    if (wait > 0) await pause(wait);
    const from = performance.now();
    const { state, waits, plan, questions } = this.active;
    const version = this.#version + 1;
    state.runs.forEach((run, index) => {
      const waiting = run.phase === 'ended' ? null : waits(index);
      const sign = signOf(
        run,
        state.phase,
        waiting === null ? '' : `${waiting.text}\u0000${waiting.until}`,
        questions.get(plan.runs[index]!.id) ?? '',
      );
      if (sign === this.#signs[index]) return;
      this.#signs[index] = sign;
      this.#changedAt[index] = version;
      this.#version = version;
    });
    const took = performance.now() - from;
    this.#next = from + took / share;
  }
}
