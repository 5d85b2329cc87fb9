import { cause, CauseError, duration } from '@barrow/core';
import { ownNow, ownPause } from '@barrow/wire';
import { steadyNow } from '../../steady.js';
import { isLoginDoubt } from '../../touch/doubts.js';
import { rebootSentAt } from './return.js';
import type { Step, StepContext } from './step.js';

/** For so long what feeds it is told to give power before a person has to be called: it may be restarting itself. In its time, and in ours at least. */
const patience = { theirs: 600_000, least: 5000 };
/** The same where nobody knows whether its power is cut at all. */
const patienceUnsure = { theirs: 120_000, least: 5000 };
/** Between two tries, in milliseconds: it grows. */
const [firstPause, longestPause] = [500, 15_000];

/** Cuts its power where it is fed; not of who answers again, nor before its family's limit for writing has passed. */
export const cutPower: Step = async (step) => {
  const { run, writeLimitMs, signal } = step;
  const power = run.power;
  if (!power || writeLimitMs === null)
    throw new CauseError('service-fault', 'it is not known what feeds it, or how long it may be writing');
  const mayWrite = rebootSentAt(step) + writeLimitMs;
  for (;;) {
    if (signal.aborted) throw new CauseError('session-lost', 'the service is stopping');
    if ((await step.alive(500, 1)).answers) return { kind: 'done', facts: { needless: true } };
    if (steadyNow() >= mayWrite) break;
    await ownPause(Math.min(1000, Math.max(1, mayWrite - steadyNow())), signal);
  }
  const facts = { from: `${power.outlet} of ${power.name}`, afterMs: steadyNow() - rebootSentAt(step) };
  try {
    await step.onFeeder('cut-power');
  } catch (error) {
    // Whose login is in doubt was told nothing.
    if (!(error instanceof CauseError) || signal.aborted || isLoginDoubt(error.code)) throw error;
    // Perhaps it was heard, and only its answer was lost: whatever became of it, it has power again, and may come back.
    const unsure = error.code === 'power-not-switched' ? error.detail : `${power.name}: ${cause(error.code).what} ${error.detail}`;
    const left = await giveAgain(step, patienceUnsure);
    if (left !== null) throw new CauseError('power-not-switched', `${unsure}; whether its power is off nobody knows, for ${left}`);
    return { kind: 'done', facts: { ...facts, unsure } };
  }
  return { kind: 'done', facts: { ...facts, cutAt: steadyNow() } };
};

/** Gives it its power again, and tries that several times: until then it is dark by our doing. */
export const givePower: Step = async (step) => {
  const cut = step.trail.get('cut-power');
  if (cut?.facts['needless'] === true) return { kind: 'done', facts: { needless: true } };
  const left = await giveAgain(step, patience);
  if (left !== null) throw new CauseError('power-left-off', left);
  return { kind: 'done', facts: { sentAt: steadyNow() } };
};

/** Tells what feeds it to give power, again and again. @returns how often and what came of it, when it did not; null when it did */
async function giveAgain({ run, context, signal, onFeeder }: StepContext, { theirs, least }: typeof patience): Promise<string | null> {
  const { power } = run;
  const begun = ownNow();
  const until = begun + Math.max(least, theirs / context.options.timeScale);
  for (let tried = 1, pauseMs = firstPause; ; tried++, pauseMs = Math.min(longestPause, pauseMs * 2))
    try {
      await onFeeder('give-power');
      return null;
    } catch (error) {
      if (!(error instanceof CauseError) || signal.aborted) throw error;
      if (ownNow() >= until)
        return `${power?.outlet ?? 'its outlet'} of ${power?.name ?? 'what feeds it'} was told ${tried} times to give power again, over ${duration(ownNow() - begun)}: ${error.detail}`;
      await ownPause(pauseMs, signal);
    }
}
