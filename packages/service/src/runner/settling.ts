import {
  CauseError,
  legsOf,
  notAsVerified,
  passageOf,
  type Check,
  type PlannedRun,
  type PlannedStep,
  type SoakFinding,
} from '@barrow/core';
import { z } from 'zod';
import type { ActiveRollout } from './active.js';
import { preflightFacts } from './steps/before.js';
import { ChecksFailed } from './steps/checks.js';
import { settle } from './steps/prove.js';
import type { StepContext } from './steps/step.js';

/** So many are looked at at once. */
const atOnce = 8;

/** Makes ready for one step of a run, with nobody to be asked, and lets go of what it took, whatever comes of it. */
export type InContext = (run: PlannedRun, step: PlannedStep, work: (step: StepContext) => Promise<void>) => Promise<void>;

const found = z.object({ firmware: z.string().nullable(), checks: z.array(z.object({ name: z.string(), result: z.string() })) });

/**
 * Looks once more at those of a wave that were verified, when they have soaked, and tells who is not as it was then. Who is looked at by a
 * step of its own is left to that, and who is in other hands meanwhile is not asked.
 */
export async function lookAgain(
  { plan, state }: ActiveRollout,
  wave: number,
  inHand: ReadonlyMap<string, string>,
  inContext: InContext,
): Promise<SoakFinding[]> {
  const queue = plan.runs.flatMap((run, index) => {
    const { outcome, wave: its } = state.runs[index]!;
    const { steps, stretches } = passageOf(plan, run);
    const checks = steps.filter((s) => s.step === 'checks' && s.leg < legsOf(plan, run).length).at(-1);
    const isOwn = stretches.some((s) => s.afterSoak);
    return its === wave && outcome === 'verified' && checks && !isOwn && !inHand.has(run.device) ? [{ run, checks, index }] : [];
  });
  const findings = new Map<number, SoakFinding>();
  const next = async (): Promise<void> => {
    for (let one = queue.shift(); one; one = queue.shift()) {
      const { run, checks, index } = one;
      let context: StepContext | null = null;
      try {
        await inContext(run, checks, async (step) => {
          context = step;
          // Of one that nobody looked at before there is nothing to compare.
          if (preflightFacts(step) !== null) await settle(step);
        });
      } catch (error) {
        if (!(error instanceof CauseError)) throw error;
        findings.set(index, findingOf(run, context, error));
      }
    }
  };
  await Promise.all(Array.from({ length: Math.min(atOnce, queue.length) }, next));
  return [...findings].sort(([a], [b]) => a - b).map(([, finding]) => finding);
}

function findingOf(run: PlannedRun, step: StepContext | null, error: CauseError): SoakFinding {
  const told = error instanceof ChecksFailed ? found.safeParse(error.facts) : null;
  const other =
    (told?.success && told.data.checks.some((c) => c.name === ('version' satisfies Check['name']) && c.result === 'failed')) ?? false;
  return notAsVerified({
    name: run.name,
    model: step?.device.model ?? run.family,
    wanted: run.target,
    runs: other ? told!.data!.firmware : null,
    decidedBy: step?.device.told?.decidedBy ?? null,
    cause: error.code,
    detail: error.detail,
  });
}
