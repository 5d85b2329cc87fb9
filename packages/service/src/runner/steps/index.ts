import { activate } from './activate.js';
import { backup } from './backup.js';
import { checks } from './checks.js';
import { confirmNextBoot } from './confirm-next-boot.js';
import { preflight } from './preflight.js';
import { reboot } from './reboot.js';
import { comeBack } from './return.js';
import type { Step } from './step.js';
import { transfer } from './transfer.js';
import { verifyImage } from './verify-image.js';

export const steps: Readonly<Record<string, Step>> = {
  preflight,
  backup,
  transfer,
  'verify-image': verifyImage,
  activate,
  'confirm-next-boot': confirmNextBoot,
  reboot,
  return: comeBack,
  checks,
};
