import { setTimeout as pause } from 'node:timers/promises';
import { CauseError } from '@barrow/core';
import { DeviceSession } from '../session.js';
import { readSystem } from '../running-time.js';
import type { PreflightFacts } from './preflight.js';
import type { Step, StepContext } from './step.js';

/** Offers the image to this device alone, has it fetch, and names why when nothing came of it. */
export const transfer: Step = async (step) => {
  const { offers, image, device, plan } = step;
  offers.offer(image, device, plan.id);
  try {
    const session = await step.login();
    const { gives } = await session.run('transfer');
    const moved = step.tftp.since(device.address, step.begunAt).filter((t) => t.image === image.sha256 && t.state === 'done');
    const last = moved[moved.length - 1];
    return {
      kind: 'done',
      facts:
        gives['wasThere'] === 'yes'
          ? { wasThere: true }
          : { transfer: last?.id ?? null, bytes: last?.bytes ?? null, resent: last?.resent ?? null },
    };
  } catch (error) {
    throw error instanceof CauseError ? await explain(step, error) : error;
  } finally {
    offers.withdraw(device.address, image.file, plan.id);
  }
};

/** What the store saw says more than the device's words; and a lost session may mean that the device restarted. */
async function explain(step: StepContext, error: CauseError): Promise<CauseError> {
  const seen = step.tftp.since(step.device.address, step.begunAt);
  const last = seen[seen.length - 1];
  const store =
    last === undefined
      ? 'no request of this device reached the store'
      : `the store saw it ask for ${last.file}: ${last.detail ?? `${last.bytes} of ${last.totalBytes} octets moved`}`;
  if (error.code === 'transfer-broken' && last === undefined) return new CauseError('never-asked', `${error.detail}; ${store}`);
  if (error.code === 'never-asked' || error.code === 'transfer-broken')
    return new CauseError(last === undefined ? 'never-asked' : 'transfer-broken', `${error.detail}; ${store}`);
  if (error.code !== 'session-lost' && error.code !== 'unreachable') return error;
  const before = step.trail.get('preflight')?.facts as unknown as PreflightFacts | undefined;
  const counted = before?.running.bootCount ?? null;
  const limit = Date.now() + Math.max(15_000, step.family.durations.returnLimit / step.context.options.timeScale);
  while (Date.now() < limit && !step.signal.aborted) {
    // The agent answers before a login is worth trying.
    if ((await readSystem(step.context, step.device, 500, 0)) === null) {
      await pause(20);
      continue;
    }
    try {
      const session = await DeviceSession.open(step.context, step.device, step.family);
      const { gives } = await session.run('record');
      session.close();
      if (counted !== null && Number(gives['bootCount']) > counted)
        return new CauseError(
          'rebooted-in-write',
          `it counted ${counted} boots before and ${gives['bootCount']} now, and runs ${gives['firmware']}; ${store}`,
        );
      return error;
    } catch (again) {
      if (!(again instanceof CauseError)) throw again;
    }
  }
  return new CauseError('never-returned', `the session was lost during the transfer and the device has not answered since; ${store}`);
}
