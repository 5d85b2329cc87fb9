import { CauseError, sameVersion, type PlannedStep } from '@barrow/core';
import { ownNow, ownPause } from '@barrow/wire';
import { steadyNow } from '../steady.js';
import { preflightFacts } from './steps/before.js';
import type { StepContext } from './steps/step.js';

export interface Truth {
  readonly truth: 'done' | 'not-done';
  readonly detail: string;
}

/** How long a device is asked, in our own time, before it counts as absent rather than slow. */
const askingMs = 20_000;
/** How long a device may take to choose an image that it was told to choose. */
const activationSettleMs = 10_000;
/** A restart that was sent just before the service died may take this long to begin. */
const settleMs = 60_000;
const betweenMs = 200;
/** So many looks in a row without an answer are silence. */
export const silentLooks = 3;

/**
 * Asks a device whether a step whose outcome was lost has been done. It only reads.
 * @throws CauseError when the device cannot be asked.
 */
export async function reconcile(step: StepContext, lost: PlannedStep): Promise<Truth> {
  const { procedures, title } = step.family;
  if (procedures.truth) {
    const told = await askUntilSure(step, () => truthOf(step, lost));
    if (told !== null) return told;
  }
  if (lost.down) return askRestarted(step);
  if (lost.step === 'activate' && procedures['next-boot']) return (await askUntilSure(step, () => bootTruth(step)))!;
  throw new CauseError('outcome-unknown', `nothing in the family of ${title} asks a device whether ${lost.step} was done`);
}

/** What the family's own words tell of the step; null when they tell neither. */
async function truthOf(step: StepContext, lost: PlannedStep): Promise<Truth | null> {
  const { gives } = await step.once('truth', { lostStep: lost.step });
  const { done = '', words = '' } = gives;
  if (done !== 'yes' && done !== 'no') return null;
  return { truth: done === 'yes' ? 'done' : 'not-done', detail: words === '' ? `the device tells of ${lost.step}: done ${done}` : words };
}

async function bootTruth(step: StepContext): Promise<Truth> {
  const { gives } = await step.once('next-boot');
  const found = gives['nextBoot'] ?? '';
  const detail = `the device says that it will boot ${found}`;
  return { truth: sameVersion(step.family.versions, found, step.leg.to) ? 'done' : 'not-done', detail };
}

/** Asks until it is answered. What was sent just before the service died may still be on its way into the device: a "no" is asked twice. */
async function askUntilSure(step: StepContext, ask: () => Promise<Truth | null>): Promise<Truth | null> {
  const until = ownNow() + askingMs;
  const settled = ownNow() + Math.max(1000, activationSettleMs / step.context.options.timeScale);
  for (;;)
    try {
      const told = await ask();
      if (told?.truth !== 'not-done' || ownNow() >= settled) return told;
      await ownPause(betweenMs, step.signal);
    } catch (error) {
      if (!(error instanceof CauseError) || ownNow() > until || step.signal.aborted) throw error;
      await ownPause(betweenMs, step.signal);
    }
}

/** Whether it runs what the leg brings, and did not before. */
export function isOn(step: StepContext, firmware: string | undefined): boolean {
  const { versions } = step.family;
  const before = preflightFacts(step)?.firmware ?? step.leg.from;
  return (
    firmware !== undefined &&
    step.leg.component === 'system' &&
    sameVersion(versions, firmware, step.leg.to) &&
    !sameVersion(versions, before, step.leg.to)
  );
}

/** Whether the device restarted, or is restarting. @throws CauseError when it lets us in no more */
export async function askRestarted(step: StepContext): Promise<Truth> {
  const before = preflightFacts(step)?.running ?? null;
  const counted = before?.bootCount ?? null;
  const { timeScale } = step.context.options;
  const settled = ownNow() + Math.max(2000, settleMs / timeScale);
  let words = '';
  let untold: CauseError | null = null;
  let silent = 0;
  while (ownNow() < settled) {
    const { system, answers } = await step.alive(1000, 1);
    // One lost answer is no restart.
    if (!answers && ++silent < silentLooks) {
      await ownPause(betweenMs, step.signal);
      continue;
    }
    if (!answers)
      return { truth: 'done', detail: 'the device answers nothing, so it is taken to be restarting; the next step waits for it' };
    silent = 0;
    const uptime = system?.agentUptime ?? null;
    // Where boots are not counted, a running time that began anew tells (RFC 3418 sysUpTime, unless it wrapped by itself).
    const anew =
      uptime !== null && before?.agentUptime != null && uptime < Math.min(before.agentUptime, (steadyNow() - before.readAt) * timeScale);
    if (counted === null && anew) return { truth: 'done', detail: 'its running time began anew since it was looked at before' };
    try {
      const { gives } = await step.once('record');
      const now = Number(gives['bootCount']);
      if (counted === null && isOn(step, gives['firmware'])) return { truth: 'done', detail: `it runs ${gives['firmware']} already` };
      if (counted !== null && now > counted) return { truth: 'done', detail: `the device counts ${now} boots, ${counted} before` };
      words = `the device still counts ${gives['bootCount'] ?? 'no'} boots and runs ${gives['firmware'] ?? 'an unknown version'}`;
    } catch (error) {
      if (!(error instanceof CauseError)) throw error;
      if (['login-refused', 'credential-suspended', 'host-key-changed'].includes(error.code)) throw error;
      untold = error;
      if (step.run.via !== undefined && error.code === 'unreachable')
        return { truth: 'done', detail: `${error.detail}, so it is taken to be restarting; the next step waits for it` };
    }
    await ownPause(betweenMs, step.signal);
  }
  // It is not restarted on a belief: the next step proves the restart, or tells that there was none.
  if (words === '' && untold !== null)
    return { truth: 'done', detail: `it answers, and cannot be asked: ${untold.detail}; the next step tells whether it has restarted` };
  return { truth: 'not-done', detail: words };
}
