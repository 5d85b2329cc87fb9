import { CauseError, duration, shortestReturnMs as shortestLimit } from '@barrow/core';
import { ownNow, ownPause } from '@barrow/wire';
import { setArmed } from '../../staging/armed.js';
import { steadyNow } from '../../steady.js';
import { doubtPause, isLoginDoubt, longestDoubt } from '../../touch/doubts.js';
import { isOn, silentLooks } from '../reconcile.js';
import { preflightFacts } from './before.js';
import { isReset, recordAfterReset } from './set-up.js';
import type { Step, StepContext } from './step.js';

const stayedUpLimit = 60_000;
/** So long before its time is over a device that answers is taken as it is. */
const lastMoment = 2000;
/**
 * Silence shorter than this, in our own time, may be lost answers: it proves no restart. Longer where the device is usually down
 * for longer.
 */
const shortestSilence = 1500;
/** Between two looks at a device that is silent, and between two logins at one that is not back yet. */
const [lookMs, loginMs] = [20, 100];

/** When the restart was sent; when that is not known, when it was about to be sent. */
export function rebootSentAt(step: StepContext): number {
  const { steps } = step;
  // What restarts it; where it does that by itself, what told it to.
  const restarts = steps.find((s) => s.down && !s.waits) ?? steps[steps.findIndex((s) => s.ownHour) - 1];
  const trace = restarts && step.trail.get(restarts.step);
  const sent = trace?.facts['sentAt'];
  return typeof sent === 'number' ? sent : (trace?.begunAt ?? step.begunAt);
}

/**
 * Waits until the device answers again after its restart, by whatever answers first, and lets us in. It is waited for in our
 * own time: what passes while we are away is not held against it.
 */
export const comeBack: Step = async (step) => {
  const { context, device, plan, signal } = step;
  const { timeScale } = context.options;
  const sentAt = rebootSentAt(step);
  const ownHour = step.steps.some((s) => s.ownHour);
  const began = ownNow();
  const limit = began + Math.max(shortestLimit, step.returnMs);
  // Nobody has told it to restart just now: it has all of its time to begin.
  const stayed = ownHour ? limit : began + Math.max(shortestLimit / 2, stayedUpLimit / timeScale);
  const before = preflightFacts(step)?.running ?? null;
  let silentFrom: number | null = null;
  /** When it fell silent, in our own time, and the longest that it was. Lost answers look like a short silence. */
  let [quietSince, quietLooks, longestQuiet]: [number | null, number, number] = [null, 0, 0];
  const sureQuiet = Math.max(shortestSilence, Math.min(step.returnMs / 20, 15_000));
  let lastWords = 'nothing of it answers';
  /** When it is looked for elsewhere: after half of its time, and once more before it is given up. */
  const searches = [began + (limit - began) / 2, began + (limit - began) * 0.9];
  let sought = false;
  let foundAt: { readonly address: string; readonly how: string; readonly was: string } | null = null;
  /** It answered when it was looked at last, and let nobody in. */
  let lockedOut = false;
  /** What let nobody in is the login, or the server that knows it: the device is there, and more time is its due. */
  let doubt: CauseError | null = null;
  const doubtEnds = began + longestDoubt(timeScale);
  const endDoubt = (): void => {
    if (doubt !== null) step.delayed(null);
    doubt = null;
  };
  const stayedUp = (up: string): CauseError =>
    new CauseError(ownHour ? 'hour-passed' : 'reboot-not-begun', `it has answered all the time, ${up}`);
  while (ownNow() < (doubt === null ? limit : Math.max(limit, doubtEnds))) {
    if (signal.aborted) throw new CauseError('session-lost', 'the service is stopping');
    const askedAt = steadyNow();
    const { system, answers } = await step.alive(500, 0);
    lockedOut &&= answers;
    if (!answers) endDoubt();
    if (answers) [quietSince, quietLooks] = [null, 0];
    if (!answers) {
      silentFrom ??= askedAt;
      quietSince ??= ownNow();
      if (++quietLooks >= silentLooks) longestQuiet = Math.max(longestQuiet, ownNow() - quietSince);
      lastWords = 'nothing of it answers';
      if (ownNow() < (searches[0] ?? Infinity)) await ownPause(lookMs, signal);
      else {
        searches.shift();
        foundAt ??= await step.lookElsewhere();
        sought = foundAt === null;
      }
      continue;
    }
    const uptime = system?.agentUptime ?? null;
    // A sysUpTime (RFC 3418) that is shorter than the time since the restart, or than before, began after it.
    const agentRestarted =
      uptime !== null && (uptime <= (steadyNow() - sentAt) * timeScale || (before?.agentUptime != null && uptime < before.agentUptime));
    if (!agentRestarted && silentFrom === null && uptime !== null) {
      if (ownNow() > stayed) throw stayedUp(`up ${duration(uptime)}`);
      await ownPause(Math.max(lookMs, 1000 / timeScale), signal);
      continue;
    }
    try {
      const { gives, byPerson } = isReset(step)
        ? await recordAfterReset(step)
        : { gives: (await step.once('record')).gives, byPerson: false };
      const counted = before?.bootCount ?? null;
      const restarted = counted !== null && gives['bootCount'] !== undefined ? Number(gives['bootCount']) > counted : null;
      // Where no boots are counted, another version than before was loaded by a restart, whoever saw it.
      const loaded = restarted === null && isOn(step, gives['firmware']);
      const now = ownNow();
      // Silence alone is the weakest sign. It may have been lost answers: as long as its version is the old one, it gets its time.
      const isProven = restarted === true || loaded || agentRestarted || longestQuiet >= sureQuiet;
      if (restarted !== false && !isProven && silentFrom !== null && now < limit - lastMoment) {
        lastWords = `it answers, was silent for ${duration(Math.max(1, longestQuiet))} at most, and still runs ${gives['firmware'] ?? 'an unknown version'}`;
        await ownPause(loginMs, signal);
        continue;
      }
      if (restarted === false ? !agentRestarted : restarted === null && !loaded && !agentRestarted && silentFrom === null) {
        lastWords = 'it answers, and has not restarted';
        if (ownNow() > stayed) throw stayedUp(counted === null ? 'and counts no boots' : `and still counts ${counted} boots`);
        await ownPause(loginMs, signal);
        continue;
      }
      // It has restarted: whatever it was to take then, it has taken or not.
      await setArmed(context, device.id, null, plan.name);
      return {
        kind: 'done',
        facts: {
          ...(byPerson ? { byPerson } : {}),
          seenSilent: longestQuiet > 0 || (silentFrom !== null && isProven),
          loaded,
          silentFrom,
          answeredAt: Math.max(steadyNow(), sentAt),
          firmware: gives['firmware'] ?? null,
          ...(foundAt === null ? {} : { foundAt }),
        },
      };
    } catch (error) {
      if (!(error instanceof CauseError)) throw error;
      if (isLoginDoubt(error.code)) step.delayed((doubt = error).detail);
      else endDoubt();
      if (error.code === 'login-refused') throw new CauseError('login-lost', error.detail);
      // While a device comes up, its agent may answer before its shell does; a changed key or refused login will not mend.
      if (['host-key-changed', 'key-unusable', 'reboot-not-begun', 'hour-passed'].includes(error.code)) throw error;
      if (step.run.via !== undefined && error.code === 'unreachable') silentFrom ??= askedAt;
      lastWords = error.detail;
      lockedOut = step.run.via === undefined;
      await ownPause(doubt === null ? loginMs : doubtPause(timeScale), signal);
    }
  }
  if (doubt?.code === 'credential-suspended') throw doubt;
  if (ownHour && silentFrom === null) throw stayedUp('and has not restarted');
  // Whoever spoke over its console lives, and is not to lose its power.
  const spoken = step.trail.get('by-console')?.facts['line'];
  const silent = `${duration(Math.max(0, steadyNow() - sentAt))} after the restart: ${lastWords}${sought ? '; it was found at no other address of its network' : ''}`;
  if (lockedOut || spoken !== undefined)
    throw new CauseError('locked-out', `${spoken === undefined ? '' : 'it was given its address over its console, and '}${silent}`);
  // Its power may never have been cut: that is what was wrong, and not that it needs more than that.
  const unsure = step.trail.get('cut-power')?.facts['unsure'];
  if (typeof unsure === 'string') throw new CauseError('power-not-switched', `${unsure}; power was given in any case, and ${silent}`);
  throw new CauseError('never-returned', silent);
};
