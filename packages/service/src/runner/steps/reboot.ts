import { CauseError } from '@barrow/core';
import { steadyNow } from '../../steady.js';
import { outlookNow } from '../outlooks.js';
import { askRestarted } from '../reconcile.js';
import type { Step } from './step.js';

/**
 * Restarts the device. A restart takes one message or several, and the session may end between them: what then happened is asked
 * of the device, which is told once more only when it has not restarted.
 */
export const reboot: Step = async (step) => {
  const session = await step.login();
  // Where something was chosen before, it was looked at then.
  const outlook = step.trail.get('activate') ? {} : { outlook: await outlookNow(step, session) };
  let sentAt = steadyNow();
  for (let tries = 1; ; tries++)
    try {
      await (tries === 1 ? session : await step.login()).run('reboot');
      break;
    } catch (error) {
      const code = error instanceof CauseError ? error.code : null;
      if (code !== 'no-answer-in-time' && code !== 'session-lost') throw error;
      const { truth, detail } = await askRestarted(step);
      if (truth === 'done') break;
      // It said something that its family does not know: saying the same again would not help.
      if (code === 'no-answer-in-time' || tries > 1) throw new CauseError('reboot-not-begun', `${(error as CauseError).detail}; ${detail}`);
      sentAt = steadyNow();
    }
  return { kind: 'done', facts: { sentAt, ...outlook } };
};
