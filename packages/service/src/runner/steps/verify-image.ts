import { CauseError, sameVersion } from '@barrow/core';
import { compareWithHeld } from '../../images/held.js';
import { markCompared, markDiffers } from '../../staging/watch.js';
import { exchangedBy } from '../component.js';
import type { Step } from './step.js';

/** Has the device check the file that it took, and compares what it tells of it, version, digest and size, with the image. */
export const verifyImage: Step = async (step) => {
  const { family, image, images, run, leg, transfers } = step;
  const session = await step.login();
  const moved = transfers.lastOf(run.device, image.sha256);
  // Who has the last octet may say so before we have heard that it has.
  const last = moved && ['done', 'moving'].includes(moved.row.state) ? moved : null;
  try {
    const { gives } = await session.run('verify-image');
    if (gives['version'] !== undefined && !sameVersion(exchangedBy(family, leg.component).scheme, gives['version'], leg.to))
      throw new CauseError('image-refused', `the device reads the file as version ${gives['version']}, the target is ${leg.to}`);
    const comparedBy = await compareWithHeld(images, image, family.procedures['verify-image']!, gives);
    if (last) markCompared(transfers, last, comparedBy);
    return { kind: 'done', facts: { digestOnDevice: gives['digest'] ?? null, comparedBy } };
  } catch (error) {
    if (last && error instanceof CauseError && error.code === 'image-damaged') markDiffers(transfers, last);
    throw error;
  }
};
