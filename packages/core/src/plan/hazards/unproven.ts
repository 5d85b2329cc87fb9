import type { HazardLook } from './hazard.js';

/** The file of its family was added here, and no device of its model has ended verified by it. */
export const unproven: HazardLook = (run) =>
  run.unproven
    ? {
        words: `${run.family}: the first of each model goes before the others, what fails is taken back only when you say so, and \`barrow rollout sheet\` shows what is typed; before anything is changed you are shown each line, and it waits for your word`,
      }
    : null;
