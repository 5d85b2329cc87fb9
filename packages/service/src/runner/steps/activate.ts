import { setArmed } from '../../staging/armed.js';
import { exchangedBy } from '../component.js';
import type { Step } from './step.js';

/** Chooses the image for the next boot. From here on nothing interrupts the run: any restart would start the image. */
export const activate: Step = async (step) => {
  const session = await step.login();
  await session.run('activate');
  if (exchangedBy(step.family, step.leg.component).isBooted) await setArmed(step.context, step.run.device, step.leg.to, step.plan.name);
  return { kind: 'done' };
};
