import { setArmed } from '../../staging/armed.js';
import type { Step } from './step.js';

/** Chooses the image for the next boot. From here on nothing interrupts the run: any restart would start the image. */
export const activate: Step = async (step) => {
  const session = await step.login();
  await session.run('activate');
  await setArmed(step.context, step.run.device, step.run.target, step.plan.name);
  return { kind: 'done' };
};
