import { setArmed } from '../../staging/armed.js';
import { exchangedBy } from '../component.js';
import { outlookNow } from '../outlooks.js';
import type { Step } from './step.js';

/** Chooses the image for the next boot. From here on nothing interrupts the run: any restart would start the image. */
export const activate: Step = async (step) => {
  const session = await step.login();
  // What it shows just before: what somebody unplugged by day is not missed at night.
  const outlook = await outlookNow(step, session);
  await session.run('activate');
  if (exchangedBy(step.family, step.leg.component).isBooted) await setArmed(step.context, step.run.device, step.leg.to, step.plan.name);
  return { kind: 'done', facts: { outlook } };
};
