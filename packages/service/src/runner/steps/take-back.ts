import { CauseError, sameVersion } from '@barrow/core';
import { z } from 'zod';
import { setArmed } from '../../staging/armed.js';
import { steadyNow } from '../../steady.js';
import { readSystem, runningTime } from '../../touch/running-time.js';
import { putSettings } from '../../touch/settings.js';
import { exchangedBy } from '../component.js';
import { learn } from '../learn.js';
import { membersIn, type PreflightFacts } from './before.js';
import type { Step, StepContext } from './step.js';

const stockShape = z.object({ there: z.boolean(), restarts: z.boolean() });
/** `there`: it runs what it is to go back to, and boots it next. `restarts`: it does not run it. */
export type Stock = z.infer<typeof stockShape>;

/** What was found before something is taken back; null when nothing is being taken back. */
export function stockOf(step: Pick<StepContext, 'trail'>): Stock | null {
  const read = stockShape.safeParse(step.trail.get('take-stock')?.facts);
  return read.success ? read.data : null;
}

/** Asks what a device is after it failed: it is not restarted once more when it runs what it is to go back to. */
export const takeStock: Step = async (step) => {
  const { context, run, leg, family, device } = step;
  const session = await step.login();
  const { gives, tables } = await session.run('record');
  if (gives['serial'] !== run.serial)
    throw new CauseError('another-device', `planned was serial ${run.serial}, ${device.address} answers with ${gives['serial'] ?? 'none'}`);
  const system = await readSystem(context, device, 1000, 2);
  const { scheme, versionIn, isBooted } = exchangedBy(family, leg.component);
  const firmware = versionIn(gives) ?? '';
  const nextBoot = isBooted ? (gives['nextBoot'] ?? null) : null;
  await learn(step, gives, session, { probe: 'SSH, before it is taken back', now: Date.now() });
  const runs = sameVersion(scheme, firmware, leg.to);
  const facts: PreflightFacts & Stock = {
    firmware,
    nextBoot,
    settings: gives['settings'] ?? 'not told',
    bootLoader: gives['bootLoader'] ?? null,
    running: runningTime(system, gives['bootCount'], steadyNow()),
    members: membersIn(tables),
    there: runs && (nextBoot === null || sameVersion(scheme, nextBoot, leg.to)),
    restarts: !runs,
  };
  return { kind: 'done', facts: { ...facts } };
};

/** Puts the settings back that were saved before it was changed; only on the version by which they were. */
export const restore: Step = async (step) => {
  const saved = step.trail.get('backup')?.facts['backup'];
  const stock = stockOf(step);
  const kept = await step.backups.text(String(saved));
  if (stock?.there !== true)
    throw new CauseError(
      'settings-of-another-version',
      `the backup was written by ${kept.row.firmware ?? step.leg.to}, and it runs ${String(step.trail.get('take-stock')?.facts['firmware'] ?? 'what it does not tell')}`,
    );
  const refused = await putSettings(await step.login(), step.family, kept.text);
  return { kind: 'done', facts: { backup: kept.row.id, ...(refused.length > 0 ? { refused } : {}) } };
};

/** Has the device boot next what it ran before, which it still holds. */
export const fallBack: Step = async (step) => {
  const session = await step.login();
  await session.run('fall-back');
  await setArmed(step.context, step.run.device, stockOf(step)?.restarts === false ? null : step.leg.to, step.plan.name);
  return { kind: 'done' };
};
