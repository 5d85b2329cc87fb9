import { steadyNow } from '../../steady.js';
import type { Step } from './step.js';

/** Waits for a person who does what only hands can, and keeps who said that it is done. */
export const byHand: Step = async (step) => {
  const { by, note } = await step.byHand();
  return { kind: 'done', facts: { by, note, at: steadyNow() } };
};
