import {
  CauseError,
  checkConfiguration,
  checkLoader,
  checkNextBoot,
  checkRestart,
  checkSerial,
  checkVersion,
  sameVersion,
  type Check,
} from '@barrow/core';
import { z } from 'zod';
import { hideSecrets } from '../../touch/secrets.js';
import { readSystem, runningTime } from '../../touch/running-time.js';
import { steadyNow } from '../../steady.js';
import { learn } from '../learn.js';
import { membersCompared } from '../members.js';
import { differKey } from '../expected.js';
import { inLog, outlookCompared } from '../outlooks.js';
import { preflightFacts } from './before.js';
import { exchangedBy } from '../component.js';
import { rebootSentAt } from './return.js';
import { stockOf } from './take-back.js';
import type { Touch } from '../../touch/touch.js';
import type { Step, StepContext, StepResult } from './step.js';

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

/** The comparison of settings, and what of it a person may accept. */
interface SettingsCompared {
  readonly checks: readonly Check[];
  /** What is otherwise, as a comparison writes it. */
  readonly changed: readonly string[];
}

/** The settings against those that the leg saved; nothing when its way saves none. */
export async function settingsCompared(step: StepContext, session: Touch): Promise<SettingsCompared> {
  const saved = step.trail.get('backup')?.facts['backup'];
  if (!step.saves) return { checks: [], changed: [] };
  const kept = await step.backups.text(String(saved));
  const { gives } = await session.run('configuration');
  const { from, to } = step.leg;
  const expected = await step.expected.of({ family: step.family.family, from, to });
  const { check, difference } = checkConfiguration(
    kept.text,
    gives['text'] ?? '',
    step.family.configuration ?? { ignoreLines: [] },
    expected,
  );
  return {
    checks: [{ ...check, evidence: check.evidence.map((line) => hideSecrets(line, step.family)) }],
    changed: difference.lines.filter((line) => /^[+-]/.test(line)),
  };
}

/** What a person may accept of this version step once for all: what is otherwise in its settings, and what its log complains of since. */
export function acceptable({ expected, leg: { from, to } }: StepContext, changed: readonly string[], made: readonly Check[]) {
  const complaints = made.find((c) => c.name === 'log' && c.result === 'failed')?.evidence ?? [];
  const lines = [...changed, ...complaints.map((line) => `${inLog}${line}`)];
  return lines.length === 0 ? {} : { [differKey]: expected.sealed(lines), settingsStep: { from, to } };
}

/** The boot loader against the one from before, where it is told and is not what was exchanged. */
export function loaderCompared({ family, leg }: StepContext, before: string | null, gives: Readonly<Record<string, string>>): Check[] {
  if (before === null || before === '' || leg.component === 'boot-loader') return [];
  return [checkLoader(family.bootLoaderVersions ?? null, before, gives['bootLoader'] ?? null)];
}

/** Compares before and after; every check is made, and the first that failed names the cause. */
export const checks: Step = async (step) => {
  const { context, run, leg, family, device } = step;
  const session = await step.login();
  const { gives, tables } = await session.run('record');
  const system = await readSystem(context, device, 1000, 2);
  const at = steadyNow();
  const before = preflightFacts(step)!;
  const { scheme, versionIn } = exchangedBy(family, leg.component);
  const version = versionIn(gives);
  const compared = await settingsCompared(step, session);
  const made: Check[] = [
    checkSerial(run.serial, gives['serial'] ?? null),
    ...addressFound(step),
    checkVersion(scheme, before.firmware, leg.to, version),
    // What is taken back and runs what it is to go back to is not restarted for it.
    ...(stockOf(step)?.restarts === false
      ? []
      : [
          checkRestart({
            before: before.running,
            after: runningTime(system, gives['bootCount'], at),
            rebootSentAt: rebootSentAt(step),
            seenSilent: ['seenSilent', 'loaded'].some((fact) => step.trail.get('return')?.facts[fact] === true),
            versionMoved: version !== null && !sameVersion(scheme, version, before.firmware),
            timeScale: context.options.timeScale,
          }),
        ]),
    ...(before.nextBoot === null ? [] : [checkNextBoot(family.versions, before.nextBoot, leg.to, gives['nextBoot'] ?? null)]),
    ...loaderCompared(step, before.bootLoader, gives),
    ...(await membersCompared(step, session, tables)),
    ...compared.checks,
    ...(await outlookCompared(step, session)),
  ];
  await learn(step, gives, session, {
    probe: 'SSH, checks of a rollout',
    now: Date.now(),
    upSince: system?.agentUptime == null ? null : Date.now() - system.agentUptime / context.options.timeScale,
  });
  return concluded(made, gives, acceptable(step, compared.changed, made));
};

/** That it came back at another address, where it did: no failure, since its serial proves that it is the one. */
function addressFound({ trail }: StepContext): Check[] {
  const found = foundShape.safeParse(trail.get('return')?.facts['foundAt']);
  if (!found.success) return [];
  const { address, was, how } = found.data;
  return [{ name: 'address', result: 'passed', before: was, after: address, evidence: [`found by ${how}`], cause: null }];
}
const foundShape = z.object({ address: z.string(), was: z.string(), how: z.string() });

/** What was compared, as the facts of a step. @throws ChecksFailed by the first that failed */
export function concluded(
  made: readonly Check[],
  gives: Readonly<Record<string, string>>,
  more: Readonly<Record<string, unknown>> = {},
): StepResult {
  const facts = {
    ...more,
    checks: made,
    firmware: gives['firmware'] ?? null,
    nextBoot: gives['nextBoot'] ?? null,
    bootCount: gives['bootCount'] ?? null,
  };
  const failed = made.find((c) => c.result === 'failed');
  if (failed) throw new ChecksFailed(facts, failed);
  return { kind: 'done', facts };
}
