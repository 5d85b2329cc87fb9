import {
  CauseError,
  checkConfiguration,
  checkNextBoot,
  checkRestart,
  checkSerial,
  checkVersion,
  sameVersion,
  type Check,
} from '@barrow/core';
import { hideSecrets } from '../secrets.js';
import { readSystem, runningTime } from '../running-time.js';
import { steadyNow } from '../../steady.js';
import { learn } from '../learn.js';
import { preflightFacts } from './preflight.js';
import { rebootSentAt } from './return.js';
import type { Step } from './step.js';

/** A check that failed, with all checks, so that the report has them. */
export class ChecksFailed extends CauseError {
  constructor(
    readonly facts: Record<string, unknown>,
    failed: Check,
  ) {
    super(
      failed.cause ?? 'unexpected-answer',
      `${failed.name}: before ${failed.before}, after ${failed.after}. ${failed.evidence.slice(0, 3).join('; ')}`,
    );
  }
}

/** Compares before and after; every check is made, and the first that failed names the cause. */
export const checks: Step = async (step) => {
  const { context, run, family, device } = step;
  const session = await step.login();
  const { gives } = await session.run('record');
  const { gives: configuration } = await session.run('configuration');
  const system = await readSystem(context, device, 1000, 2);
  const at = steadyNow();
  const before = preflightFacts(step)!;
  const kept = await step.backups.text(String(step.trail.get('backup')!.facts['backup']));
  const compared = checkConfiguration(kept.text, configuration['text'] ?? '', family.configuration);
  const made: Check[] = [
    checkSerial(run.serial, gives['serial'] ?? null),
    checkVersion(family.versions, before.firmware, run.target, gives['firmware'] ?? null),
    checkRestart({
      before: before.running,
      after: runningTime(system, gives['bootCount'], at),
      rebootSentAt: rebootSentAt(step),
      seenSilent: step.trail.get('return')?.facts['seenSilent'] === true,
      versionMoved: gives['firmware'] !== undefined && !sameVersion(family.versions, gives['firmware'], before.firmware),
      timeScale: context.options.timeScale,
    }),
    checkNextBoot(family.versions, before.nextBoot, run.target, gives['nextBoot'] ?? null),
    { ...compared.check, evidence: compared.check.evidence.map((line) => hideSecrets(line, family)) },
  ];
  await learn(step, gives, session, {
    probe: 'SSH, checks of a rollout',
    now: Date.now(),
    upSince: system?.agentUptime == null ? null : Date.now() - system.agentUptime / context.options.timeScale,
  });
  const facts = { checks: made, firmware: gives['firmware'] ?? null, nextBoot: gives['nextBoot'] ?? null };
  const failed = made.find((c) => c.result === 'failed');
  if (failed) throw new ChecksFailed(facts, failed);
  return { kind: 'done', facts };
};
