import { sameVersion } from '@barrow/core';
import { setArmed } from '../staging/armed.js';
import type { Touch } from '../touch/touch.js';
import type { StepContext } from './steps/step.js';

/** What a procedure `record` told, written to the device's record: what it runs now, and what its next restart brings. */
export async function learn(
  step: StepContext,
  gives: Readonly<Record<string, string>>,
  session: Touch,
  at: { readonly probe: string; readonly now: number; readonly upSince?: number | null },
): Promise<void> {
  const { context, run, family, device, plan } = step;
  const firmware = gives['firmware'] ?? null;
  const nextBoot = gives['nextBoot'] ?? null;
  await step.devices.observe(
    {
      id: run.device,
      ...(firmware === null ? {} : { firmware }),
      ...(gives['bootLoader'] === undefined ? {} : { bootLoader: gives['bootLoader'] }),
      ...(/^\d+$/.test(gives['freeBytes'] ?? '') ? { shows: { ...device.shows, freeBytes: Number(gives['freeBytes']) } } : {}),
      lastSeen: at.now,
      ...(at.upSince === undefined ? {} : { upSince: at.upSince }),
    },
    {
      probe: at.probe,
      address: device.address,
      at: at.now,
      raw: { conversation: session.conversation().slice(0, 8000) },
      parsed: { ...gives },
    },
  );
  if (firmware === null || nextBoot === null) return;
  // It is armed when its next restart, whatever causes it, would bring another version than it runs.
  await setArmed(context, run.device, sameVersion(family.versions, firmware, nextBoot) ? null : nextBoot, plan.name);
}

/**
 * After a failure past the point of no return: what the device truly runs is asked, so that the record does not go on telling
 * what was before. What cannot be asked stays as it is believed.
 */
export async function learnAfterFailure(step: StepContext): Promise<void> {
  const session = await step.login();
  const { gives } = await session.run('record');
  if (gives['serial'] !== step.run.serial) return;
  await learn(step, gives, session, { probe: 'SSH, after a failed step', now: Date.now() });
}
