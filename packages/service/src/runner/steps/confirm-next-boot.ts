import { CauseError, sameVersion } from '@barrow/core';
import type { Step } from './step.js';

/** Asks the device what it will boot; it is not restarted on anybody's belief. */
export const confirmNextBoot: Step = async (step) => {
  const session = await step.login();
  const { gives } = await session.run('next-boot');
  const found = gives['nextBoot'] ?? '';
  if (!sameVersion(step.family.versions, found, step.leg.to))
    throw new CauseError('next-boot-wrong', `it will boot ${found || 'something it does not tell'}, the target is ${step.leg.to}`);
  return { kind: 'done', facts: { nextBoot: found } };
};
