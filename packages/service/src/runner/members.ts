import { checkMembers, missingMembers, type Check } from '@barrow/core';
import type { ProcedureResult } from '@barrow/families';
import { ownNow, ownPause } from '@barrow/wire';
import type { Touch } from '../touch/touch.js';
import { exchangedBy } from './component.js';
import { membersBefore, membersIn } from './steps/before.js';
import type { StepContext } from './steps/step.js';

/** How long after its whole a member may come back, in the device's time, and in ours at least. */
const patience = { theirs: 180_000, least: 2000 };
const betweenMs = 500;

/** The members against those of before, each given its time to come back; nothing where there were none. */
export async function membersCompared(step: StepContext, session: Touch, first: ProcedureResult['tables']): Promise<Check[]> {
  const before = membersBefore(step);
  let after = membersIn(first);
  if (before.length === 0 && after.length === 0) return [];
  const until = ownNow() + Math.max(patience.least, patience.theirs / step.context.options.timeScale);
  while (missingMembers(before, after).length > 0 && ownNow() < until && !step.signal.aborted) {
    await ownPause(betweenMs, step.signal);
    after = membersIn((await session.run('record')).tables);
  }
  const { scheme, isBooted } = exchangedBy(step.family, step.leg.component);
  return [checkMembers(scheme, before, after, isBooted ? step.leg.to : null)];
}
