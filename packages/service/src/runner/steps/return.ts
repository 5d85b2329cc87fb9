import { setTimeout as pause } from 'node:timers/promises';
import { CauseError, duration } from '@barrow/core';
import { DeviceSession } from '../session.js';
import { setArmed } from '../../staging/armed.js';
import { readSystem } from '../running-time.js';
import type { PreflightFacts } from './preflight.js';
import type { Step, StepContext } from './step.js';

/** However fast a demo device's time runs, the machine that waits for it has its own pace. */
const shortestLimit = 15_000;
const stayedUpLimit = 60_000;

/** When the restart was sent; when that is not known, when it was about to be sent. */
export function rebootSentAt(step: StepContext): number {
  const trace = step.trail.get('reboot');
  const sent = trace?.facts['sentAt'];
  return typeof sent === 'number' ? sent : (trace?.begunAt ?? step.begunAt);
}

/** Waits until the device answers again after its restart, by SNMP and by a login. */
export const comeBack: Step = async (step) => {
  const { context, family, device, plan } = step;
  const { timeScale } = context.options;
  const sentAt = rebootSentAt(step);
  const limit = step.begunAt + Math.max(shortestLimit, family.durations.returnLimit / timeScale);
  const stayed = step.begunAt + Math.max(shortestLimit / 2, stayedUpLimit / timeScale);
  const before = step.trail.get('preflight')?.facts as unknown as PreflightFacts | undefined;
  let silentFrom: number | null = null;
  let lastWords = 'nothing answered';
  while (Date.now() < limit) {
    if (step.signal.aborted) throw new CauseError('session-lost', 'the service is stopping');
    const askedAt = Date.now();
    const system = await readSystem(context, device, 500, 0);
    if (system === null) {
      silentFrom ??= askedAt;
      await pause(20);
      continue;
    }
    const uptime = system.agentUptime;
    const sinceReboot = (Date.now() - sentAt) * timeScale;
    const agentRestarted = uptime !== null && uptime <= sinceReboot;
    if (!agentRestarted && silentFrom === null) {
      if (Date.now() > stayed)
        throw new CauseError('reboot-not-begun', `it has answered all the time, up ${uptime === null ? 'not told' : duration(uptime)}`);
      await pause(Math.max(20, 1000 / timeScale));
      continue;
    }
    try {
      const session = await DeviceSession.open(context, device, family, { signal: step.signal });
      const { gives } = await session.run('record');
      session.close();
      const counted = before?.running.bootCount ?? null;
      if (counted !== null && Number(gives['bootCount']) <= counted && !agentRestarted) {
        lastWords = `it answers, and has not restarted`;
        continue;
      }
      // It has restarted: whatever it was to take then, it has taken or not.
      await setArmed(context, device.id, null, plan.name);
      return {
        kind: 'done',
        facts: { seenSilent: silentFrom !== null, silentFrom, answeredAt: Date.now(), firmware: gives['firmware'] ?? null },
      };
    } catch (error) {
      if (!(error instanceof CauseError)) throw error;
      // While a device comes up, its agent may answer before its shell does; a changed key or refused login will not mend.
      if (error.code === 'host-key-changed' || error.code === 'login-refused') throw error;
      lastWords = error.detail;
    }
  }
  throw new CauseError('never-returned', `${duration(Date.now() - sentAt)} after the restart: ${lastWords}`);
};
