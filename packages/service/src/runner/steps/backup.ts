import { CauseError } from '@barrow/core';
import type { Step } from './step.js';

/** Saves the configuration in use, sealed; the checks compare with it. */
export const backup: Step = async (step) => {
  const session = await step.login();
  const { gives } = await session.run('configuration');
  const text = gives['text'] ?? '';
  if (text.trim() === '') throw new CauseError('unexpected-answer', 'the device told an empty configuration');
  // Settings are of the system, whatever part of the device is changed.
  const firmware = step.leg.component === 'system' ? step.leg.from : step.device.firmware;
  const kept = await step.backups.keep(step.run.device, text, firmware, step.plan.id);
  return { kind: 'done', facts: { backup: kept.id, sha256: kept.sha256, bytes: kept.bytes, lines: text.split('\n').length } };
};
