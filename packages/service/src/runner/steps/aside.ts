import type { Step } from './step.js';

/** Has others do for the time of the change what the device does for them. */
export const setAside: Step = async (step) => {
  const session = await step.login();
  await session.run('set-aside');
  return { kind: 'done' };
};

/** Has the device do it again. */
export const putBack: Step = async (step) => {
  const session = await step.login();
  await session.run('put-back');
  return { kind: 'done' };
};
