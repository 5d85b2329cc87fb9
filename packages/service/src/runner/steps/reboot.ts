import { CauseError } from '@barrow/core';
import { steadyNow } from '../../steady.js';
import { outlookNow } from '../outlooks.js';
import type { Step } from './step.js';

/** Restarts the device; that it ends the session is the first sign that it obeyed. */
export const reboot: Step = async (step) => {
  const session = await step.login();
  // Where something was chosen before, it was looked at then.
  const outlook = step.trail.get('activate') ? {} : { outlook: await outlookNow(step, session) };
  const sentAt = steadyNow();
  try {
    await session.run('reboot');
  } catch (error) {
    if (error instanceof CauseError && error.code === 'no-answer-in-time') throw new CauseError('reboot-not-begun', error.detail);
    // A session that breaks while the restart is being asked for is what a restart looks like; the return tells.
    if (!(error instanceof CauseError && error.code === 'session-lost')) throw error;
  }
  return { kind: 'done', facts: { sentAt, ...outlook } };
};
