import type { Plan, PlannedRun, PlannedStep } from '../plan/plan.js';
import type { Instant, Ms } from '../units.js';
import { play, usualWorld, type Failing, type Played, type World } from './play.js';

/** How long a step of a run takes; the plan's usual durations when none is given. */
export type DurationModel = (run: PlannedRun, step: PlannedStep) => Ms;

/** What would happen, and when, if every device took its usual time and nothing failed. */
export const rehearse = (plan: Plan, beginsAt: Instant, takes: DurationModel = usualWorld.takes): Played => play(plan, { takes }, beginsAt);

/** Something that is imagined to go wrong: a device that fails at a step. */
export interface Mishap {
  readonly run: PlannedRun;
  readonly step: string;
  readonly cause: string;
}

const hangs = 'never-returned';

/** What most often goes wrong in a step. */
const usualCauses: Readonly<Record<string, string>> = {
  preflight: 'unreachable',
  transfer: 'transfer-broken',
  'verify-image': 'image-damaged',
  activate: 'image-refused',
  reboot: 'reboot-not-begun',
  return: 'never-returned',
  checks: 'old-version',
};
export const usualCause = (step: string): string => usualCauses[step] ?? 'unexpected-answer';

/**
 * Plays a plan in which each of these faults happens once. A device that never returned hangs: more time does not help, nor its console, and
 * power-cycling does. Every other recovery step works at once.
 *
 * @param goesOn whether a person has the rollout go on as soon as it is held
 */
export function rehearseWith(plan: Plan, beginsAt: Instant, mishaps: readonly Mishap[], goesOn = false): Played {
  const of = new Map(mishaps.map((m) => [`${m.run.id}/${m.step}`, m]));
  const detail = 'so it is imagined';
  /** The leg in which each fault has happened. */
  const happened = new Map<Mishap, number>();
  const fails: World['fails'] = ({ id }, { step, leg }, rung): Failing | null => {
    const mishap = of.get(`${id}/${step}`);
    if (rung === null) {
      if (mishap === undefined || happened.has(mishap)) return null;
      happened.set(mishap, leg);
      return { cause: mishap.cause, detail, atLimit: mishap.cause === hangs };
    }
    const hanging = of.get(`${id}/return`);
    const isHanging = hanging?.cause === hangs && happened.get(hanging) === rung.leg;
    if (isHanging && rung.means === 'wait' && step === 'return') return { cause: hangs, detail, atLimit: true };
    return isHanging && rung.means === 'console' && step === 'by-console' ? { cause: 'console-silent', detail } : null;
  };
  return play(plan, { ...usualWorld, fails, goesOn }, beginsAt);
}
