import { CauseError, sameVersion } from '@barrow/core';
import { markVerified } from '../../staging/watch.js';
import type { Step } from './step.js';

/** Has the device check the file that it took, and compares its digest with ours where it tells one. */
export const verifyImage: Step = async (step) => {
  const session = await step.login();
  const { gives } = await session.run('verify-image');
  if (gives['version'] !== undefined && !sameVersion(step.family.versions, gives['version'], step.run.target))
    throw new CauseError('image-refused', `the device reads the file as version ${gives['version']}, the target is ${step.run.target}`);
  const moved = step.transfers.lastOf(step.run.device, step.image.sha256);
  if (moved?.row.state === 'done') markVerified(step.transfers, moved);
  return { kind: 'done', facts: { digestOnDevice: gives['digest'] ?? null } };
};
