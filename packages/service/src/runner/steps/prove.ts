import { CauseError, checkNextBoot, checkSerial, checkSettled, checkVersion, sameVersion } from '@barrow/core';
import { compareWithHeld } from '../../images/held.js';
import { exchangedBy } from '../component.js';
import { learn } from '../learn.js';
import { acceptable, concluded, loaderCompared, settingsCompared } from './checks.js';
import { membersCompared } from '../members.js';
import { outlookCompared } from '../outlooks.js';
import { preflightFacts } from './before.js';
import type { Step } from './step.js';

/** The same look as after the restart, once more when it has soaked, and whether it has restarted by itself meanwhile. */
export const settle: Step = async (step) => {
  const { run, leg, family } = step;
  const session = await step.login();
  const { gives, tables } = await session.run('record');
  const before = preflightFacts(step)!;
  const { scheme, versionIn } = exchangedBy(family, leg.component);
  const counted = step.trail.get('checks')?.facts['bootCount'];
  const settings = await settingsCompared(step, session);
  const made = [
    checkSerial(run.serial, gives['serial'] ?? null),
    checkVersion(scheme, before.firmware, leg.to, versionIn(gives)),
    ...(before.nextBoot === null ? [] : [checkNextBoot(family.versions, before.nextBoot, leg.to, gives['nextBoot'] ?? null)]),
    ...(typeof counted === 'string' ? [checkSettled(counted, gives['bootCount'] ?? null)] : []),
    ...loaderCompared(step, before.bootLoader, gives),
    ...(await membersCompared(step, session, tables)),
    ...settings.checks,
    ...(await outlookCompared(step, session)),
  ];
  await learn(step, gives, session, { probe: 'SSH, after the soak of a rollout', now: Date.now() });
  return concluded(made, gives, acceptable(step, settings.changed, made));
};

/** Brings the other copy to what it runs, and compares what that holds then with the image. */
export const level: Step = async (step) => {
  const { family, image, images, leg } = step;
  const session = await step.login();
  const { gives } = await session.run('level');
  if (gives['version'] !== undefined && !sameVersion(exchangedBy(family, leg.component).scheme, gives['version'], leg.to))
    throw new CauseError('image-refused', `its other copy is of version ${gives['version']}, and it runs ${leg.to}`);
  const comparedBy = await compareWithHeld(images, image, family.procedures.level!, gives);
  return { kind: 'done', facts: { digestOnDevice: gives['digest'] ?? null, comparedBy } };
};
