import { setTimeout as pause } from 'node:timers/promises';
import { CauseError, sameVersion } from '@barrow/core';
import { DeviceSession } from './session.js';
import { readSystem } from './running-time.js';
import type { PreflightFacts } from './steps/preflight.js';
import type { StepContext } from './steps/step.js';

export interface Truth {
  readonly truth: 'done' | 'not-done';
  readonly detail: string;
}

/** How long a device may be silent before it counts as gone rather than slow. */
const askingMs = 20_000;
/** How long a device may take to choose an image that it was told to choose. */
const activationSettleMs = 10_000;
/** A restart that was sent just before the service died may take this long to begin. */
const settleMs = 60_000;

/**
 * Asks a device whether a step whose outcome was lost has been done. It only reads.
 * @throws CauseError when the device cannot be asked.
 */
export async function reconcile(step: StepContext, lost: 'activate' | 'reboot'): Promise<Truth> {
  return lost === 'activate' ? askActivated(step) : askRestarted(step);
}

async function askActivated(step: StepContext): Promise<Truth> {
  const until = Date.now() + askingMs;
  // What was sent just before the service died may still be on its way into the device: a "no" is asked twice.
  const settled = Date.now() + Math.max(1000, activationSettleMs / step.context.options.timeScale);
  for (;;)
    try {
      const session = await DeviceSession.open(step.context, step.device, step.family, { signal: step.signal });
      try {
        const found = (await session.run('next-boot')).gives['nextBoot'] ?? '';
        const detail = `the device says that it will boot ${found}`;
        if (sameVersion(step.family.versions, found, step.run.target)) return { truth: 'done', detail };
        if (Date.now() >= settled) return { truth: 'not-done', detail };
      } finally {
        session.close();
      }
      await pause(200);
    } catch (error) {
      if (!(error instanceof CauseError) || Date.now() > until || step.signal.aborted) throw error;
      await pause(200);
    }
}

async function askRestarted(step: StepContext): Promise<Truth> {
  const before = step.trail.get('preflight')?.facts as unknown as PreflightFacts | undefined;
  const counted = before?.running.bootCount ?? null;
  const { timeScale } = step.context.options;
  const settled = Date.now() + Math.max(2000, settleMs / timeScale);
  let words = '';
  while (Date.now() < settled) {
    const system = await readSystem(step.context, step.device, 1000, 1);
    if (system === null)
      return { truth: 'done', detail: 'the device does not answer, so it is taken to be restarting; the next step waits for it' };
    try {
      const session = await DeviceSession.open(step.context, step.device, step.family, { signal: step.signal });
      try {
        const { gives } = await session.run('record');
        const now = Number(gives['bootCount']);
        if (counted !== null && now > counted) return { truth: 'done', detail: `the device counts ${now} boots, ${counted} before` };
        words = `the device still counts ${gives['bootCount'] ?? 'no'} boots and runs ${gives['firmware'] ?? 'an unknown version'}`;
      } finally {
        session.close();
      }
    } catch (error) {
      if (!(error instanceof CauseError)) throw error;
      if (error.code === 'login-refused' || error.code === 'host-key-changed') throw error;
    }
    await pause(200);
  }
  return { truth: 'not-done', detail: words };
}
