import type { Plan } from '../plan/plan.js';
import { apply } from '../scheduler/apply.js';
import type { RolloutEvent } from '../scheduler/events.js';
import { initialState, type RolloutState } from '../scheduler/state.js';
import type { Instant } from '../units.js';
import type { Played, PlayedWave } from './play.js';
import { isInPart, Watch, type PlayedRun } from './watch.js';

/** What truly happened in a rollout, as a rehearsal tells it: fed with its journal, from the first entry on, as it grows. */
export class Trace {
  #state: RolloutState;
  readonly #watch: Watch;
  readonly #waves: { wave: number; opensAt: Instant; endsAt: Instant | null }[] = [];

  constructor(private readonly plan: Plan) {
    this.#state = initialState(plan);
    this.#watch = new Watch(plan);
  }

  /** @throws ImpossibleEvent */
  see(event: RolloutEvent): void {
    this.#state = apply(this.#state, event);
    this.#watch.see(this.#state, event, event.at);
    if (event.kind === 'wave-opened') this.#waves.push({ wave: event.wave, opensAt: event.at, endsAt: null });
    if (event.kind === 'wave-ended') for (const wave of this.#waves) if (wave.wave === event.wave) wave.endsAt = event.at;
  }

  /**
   * What happened until now, and what is foretold after it.
   *
   * @param rest how it goes on from now; null when it has ended
   */
  with(rest: Played | null, now: Instant): { readonly runs: PlayedRun[]; readonly waves: PlayedWave[] } {
    const coming = new Map((rest?.runs ?? []).map((run) => [run.run, run]));
    const runs = this.#watch.asOf(this.#state, now).map((run): PlayedRun => {
      const then = coming.get(run.run);
      coming.delete(run.run);
      const { phase } = this.#state.runs[this.#state.indexOf.get(run.run)!]!;
      return then ? joined(run, then, isInPart(phase)) : run;
    });
    const known = new Map(this.#waves.map((wave) => [wave.wave, wave]));
    const waves = new Map(this.#waves.map((w): [number, PlayedWave] => [w.wave, { ...w, endsAt: w.endsAt ?? now }]));
    for (const { wave, opensAt, endsAt } of rest?.waves ?? []) {
      const before = known.get(wave);
      waves.set(wave, { wave, opensAt: before?.opensAt ?? opensAt, endsAt: before?.endsAt ?? endsAt });
    }
    return { runs: [...runs, ...coming.values()], waves: [...waves.values()] };
  }
}

/** One that is under way: the stretch that it is in goes on until the next, or its end. */
function joined(run: PlayedRun, then: PlayedRun, isIn: boolean): PlayedRun {
  const [goesOn, ...coming] = then.parts;
  const last = run.parts.at(-1);
  const parts =
    last && goesOn && isIn ? [...run.parts.slice(0, -1), { ...last, until: goesOn.until }, ...coming] : [...run.parts, ...then.parts];
  const [first, ...others] = then.dark;
  const dark = run.dark.at(-1);
  const meets = dark !== undefined && first !== undefined && dark[1] === first[0];
  return {
    ...then,
    beginsAt: run.beginsAt,
    downFrom: run.downFrom ?? then.downFrom,
    downs: run.downs + then.downs,
    downMs: run.downMs + then.downMs,
    parts,
    dark: meets ? [...run.dark.slice(0, -1), [dark[0], first[1]], ...others] : [...run.dark, ...then.dark],
  };
}
