import type { Step } from './step.js';

/** Gives a device that does not come back its address again, over its console; not one that answers after all. */
export const byConsole: Step = async (step) => {
  if ((await step.alive(500, 1)).answers) return { kind: 'done', facts: { needless: true } };
  const { name, line } = step.run.console!;
  const { gives } = await step.onConsole();
  return { kind: 'done', facts: { line: `${line} of ${name}`, firmware: gives['firmware'] ?? null, address: step.device.address } };
};
