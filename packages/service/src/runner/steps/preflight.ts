import { CauseError, checkConfiguration, describeMismatches, knownHardware, mismatches, safeText, sameVersion } from '@barrow/core';
import { steadyNow } from '../../steady.js';
import { exchangedBy } from '../component.js';
import { membersIn, type PreflightFacts } from './before.js';
import { checks } from './checks.js';
import { confirm } from './confirm.js';
import { learn } from '../learn.js';
import { outlookNow } from '../outlooks.js';
import { hideSecrets } from '../../touch/secrets.js';
import { readSystem, runningTime } from '../../touch/running-time.js';
import type { Step, StepContext, StepResult } from './step.js';
import type { Touch } from '../../touch/touch.js';

/** The target as it stands now, and not as it was when the rollout was planned: a person may have thought better of it. */
async function stillMeant(step: StepContext): Promise<void> {
  const { run, leg, family, devices } = step;
  const known = await devices.get(run.device);
  const { target, standing } = known;
  if (target?.pin && !sameVersion(family.versions, target.pin.version, run.target))
    throw new CauseError('pinned', `${known.row.name} is ${target.why}`);
  if (run.back) return;
  if (target === null) throw new CauseError('target-moved', `planned was ${run.target}; no target is set for it any more`);
  const step1 = standing.path?.steps.find((s) => s.on === null);
  const isMeant = target.family === run.family && sameVersion(family.versions, target.version, run.target);
  if (isMeant || step1?.image.sha256 === leg.image) return;
  // Further on the way than its record says, or beside it: only when the planned image still leads there is it meant.
  const leadsThere = standing.path?.steps.some((s) => s.image.sha256 === leg.image) ?? false;
  if (!leadsThere) throw new CauseError('target-moved', `planned was ${run.target}; its target is ${target.version} now`);
}

/**
 * What an earlier attempt brought, and did not prove: all is compared that would have been then, with what was seen before it; and what falls
 * back by itself is told to keep it.
 */
async function lookedAtAnew(step: StepContext, session: Touch, firmware: string): Promise<StepResult> {
  const { earlier } = step.trail;
  const again = { ...step, trail: { get: earlier, ofLeg: earlier, earlier }, login: () => Promise.resolve(session) };
  const compared = await checks(again);
  const after = step.steps.slice(step.steps.findIndex((s) => s.step === 'checks') + 1).map((s) => s.step);
  if (after.includes('confirm')) {
    if (after.slice(0, after.indexOf('confirm')).includes('by-hand') && !earlier('confirm'))
      throw new CauseError('not-confirmed', `it runs ${firmware}; before it is told to keep that a person has to look, and nobody said so`);
    await confirm(again);
  }
  return { ...compared, kind: 'proven', reason: `an earlier attempt brought ${firmware}; all that is compared was compared again` };
}

/** Reachable, login works, same device, same version, right hardware, space, and nothing that the reboot would lose. */
export const preflight: Step = async (step) => {
  const { context, run, leg, legs, plan, family, image, device } = step;
  const { withdrawn } = (await step.images.get(image.sha256)).note;
  if (withdrawn) throw new CauseError('image-withdrawn', `${image.file}: ${withdrawn.why}`);
  if (!(await step.images.isSound(image))) throw new CauseError('image-missing', `${image.file} (${image.sha256.slice(0, 12)}…)`);
  await stillMeant(step);
  const bringing = step.deliveries.busyWith(device.id);
  if (bringing !== null) throw new CauseError('device-busy', `an image is being brought to it ahead (delivery ${bringing})`);
  const session = await step.login();
  const { gives, tables } = await session.run('record');
  if (gives['serial'] !== run.serial)
    throw new CauseError('another-device', `planned was serial ${run.serial}, ${device.address} answers with ${gives['serial'] ?? 'none'}`);
  const { scheme, versionIn, isBooted } = exchangedBy(family, leg.component);
  const firmware = versionIn(gives) ?? '';
  const nextBoot = isBooted ? (gives['nextBoot'] ?? null) : null;
  const runs = (version: string): boolean =>
    sameVersion(scheme, firmware, version) && (nextBoot === null || sameVersion(scheme, nextBoot, version));
  // Further on its way than was planned: what is behind it is not done again.
  const ahead = legs.all.slice(legs.index).filter((l) => l.component === leg.component);
  const isLast = legs.index === legs.all.length - 1;
  if (runs(leg.to) && step.trail.earlier('preflight')) return await lookedAtAnew(step, session, firmware);
  if (!isLast && ahead.some((l) => runs(l.to))) return { kind: 'skip-leg', reason: `it runs ${firmware} already` };
  if (runs(leg.to)) {
    // Begun anew after an earlier passage had brought the version: its settings must still be the ones from before.
    await learn(step, gives, session, { probe: 'SSH, preflight of a rollout', now: Date.now() });
    const kept = await step.backups.ofRollout(run.device, plan.id);
    if (kept === null) return { kind: 'skip', reason: `it runs ${firmware} already` };
    const { gives: now } = await session.run('configuration');
    const { check } = checkConfiguration(
      kept,
      now['text'] ?? '',
      family.configuration ?? { ignoreLines: [] },
      // What its legs until here brought, one by one.
      new Set(
        (
          await Promise.all(legs.all.slice(0, legs.index + 1).map(({ from, to }) => step.expected.of({ family: family.family, from, to })))
        ).flatMap((s) => [...s]),
      ),
    );
    if (check.result === 'failed')
      throw new CauseError('settings-changed', hideSecrets([`it runs ${firmware}; ${check.after}`, ...check.evidence].join('\n'), family));
    return { kind: 'skip', reason: `it runs ${firmware} already, and its settings are those of the backup` };
  }
  if (!sameVersion(scheme, firmware, leg.from)) throw new CauseError('version-moved', `planned from ${leg.from}, it runs ${firmware}`);
  const hardware = knownHardware(family.models, {
    family: family.family,
    model: gives['model'] ?? null,
    hardwareRevision: gives['hardwareRevision'] ?? null,
    variant: gives['variant'] ?? null,
  });
  const differing = mismatches(image, hardware);
  if (differing.length > 0) throw new CauseError('wrong-hardware', describeMismatches(differing));
  let saved: string | null = null;
  if (gives['settings'] === 'unkept') {
    const differences = family.procedures.unsaved ? (await session.run('unsaved')).gives['differences'] : undefined;
    const shown = hideSecrets(safeText((differences ?? 'it does not tell which').trim(), 2000), family);
    if (plan.unsaved === 'hold' || !family.procedures.save) throw new CauseError('unsaved-settings', shown);
    await session.run('save');
    saved = shown;
  }
  if (family.procedures.ready) await session.run('ready');
  const system = await readSystem(context, device, 1000, 2);
  const facts: PreflightFacts & Record<string, unknown> = {
    firmware,
    nextBoot,
    settings: gives['settings'] ?? 'not told',
    freeBytes: gives['freeBytes'] ?? null,
    bootLoader: gives['bootLoader'] ?? null,
    running: runningTime(system, gives['bootCount'], steadyNow()),
    members: membersIn(tables),
    outlook: await outlookNow(step, session),
    ...(saved === null ? {} : { savedSettings: saved }),
  };
  return { kind: 'done', facts };
};
