import { CauseError, duration } from '@barrow/core';
import { ownPause } from '@barrow/wire';
import { steadyNow } from '../../steady.js';
import { rebootSentAt } from './return.js';
import type { Step } from './step.js';

/** Outlets are told to give power so often before a person has to be called. */
const tries = 4;
/** Between two tries, in milliseconds. */
const pauseMs = 500;

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
  await step.onFeeder('cut-power');
  return {
    kind: 'done',
    facts: { from: `${power.outlet} of ${power.name}`, afterMs: steadyNow() - rebootSentAt(step), cutAt: steadyNow() },
  };
};

/** Gives it its power again, and tries that several times: until then it is dark by our doing. */
export const givePower: Step = async (step) => {
  const cut = step.trail.get('cut-power');
  if (cut?.facts['needless'] === true) return { kind: 'done', facts: { needless: true } };
  const { power } = step.run;
  for (let tried = 1; ; tried++)
    try {
      await step.onFeeder('give-power');
      return { kind: 'done', facts: { sentAt: steadyNow() } };
    } catch (error) {
      if (!(error instanceof CauseError) || step.signal.aborted) throw error;
      if (tried === tries)
        throw new CauseError(
          'power-left-off',
          `${power?.outlet ?? 'its outlet'} of ${power?.name ?? 'what feeds it'} was told ${tries} times to give power again, over ${duration(tries * pauseMs)}: ${error.detail}`,
        );
      await ownPause(pauseMs, step.signal);
    }
};
