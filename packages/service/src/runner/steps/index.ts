import { activate } from './activate.js';
import { putBack, setAside } from './aside.js';
import { backup } from './backup.js';
import { byConsole } from './by-console.js';
import { byHand } from './by-hand.js';
import { checks } from './checks.js';
import { confirm } from './confirm.js';
import { confirmNextBoot } from './confirm-next-boot.js';
import { cutPower, givePower } from './power.js';
import { preflight } from './preflight.js';
import { reboot } from './reboot.js';
import { comeBack } from './return.js';
import { setUp } from './set-up.js';
import type { Step } from './step.js';
import { level, settle } from './prove.js';
import { fallBack, restore, stockOf, takeStock, type Stock } from './take-back.js';
import { transfer } from './transfer.js';
import { verifyImage } from './verify-image.js';

/** A step that is left out when something is taken back and it is not needed for that. */
const ifNeeded =
  (needed: (stock: Stock) => boolean, carryOut: Step): Step =>
  async (step) => {
    const stock = stockOf(step);
    return stock === null || needed(stock) ? carryOut(step) : { kind: 'done', facts: { needless: true } };
  };
const toChoose = (carryOut: Step): Step => ifNeeded((s) => !s.there, carryOut);
const toRestart = (carryOut: Step): Step => ifNeeded((s) => s.restarts, carryOut);

export const steps: Readonly<Record<string, Step>> = {
  preflight,
  backup,
  transfer: toChoose(transfer),
  'verify-image': toChoose(verifyImage),
  activate: toChoose(activate),
  'confirm-next-boot': toChoose(confirmNextBoot),
  reboot: toRestart(reboot),
  return: toRestart(comeBack),
  checks,
  'set-up': setUp,
  'take-stock': takeStock,
  'fall-back': toChoose(fallBack),
  restore,
  'by-console': byConsole,
  'cut-power': cutPower,
  'give-power': givePower,
  'by-hand': byHand,
  confirm,
  'set-aside': setAside,
  'put-back': putBack,
  settle,
  level,
};
