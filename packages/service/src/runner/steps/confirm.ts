import { CauseError, sameVersion } from '@barrow/core';
import { exchangedBy } from '../component.js';
import type { Step } from './step.js';

/** Tells a device that falls back by itself that it is to keep what it runs; one that has fallen back already keeps nothing. */
export const confirm: Step = async (step) => {
  const { leg, family } = step;
  const session = await step.login();
  const { scheme, versionIn } = exchangedBy(family, leg.component);
  const { gives } = await session.run('record');
  const runs = versionIn(gives);
  if (runs === null || !sameVersion(scheme, runs, leg.to))
    throw new CauseError('reverted', `it runs ${runs ?? 'an unknown version'} again, and was to be told to keep ${leg.to}`);
  const told = await session.run('confirm-image');
  const confirmed = told.gives['confirmed'];
  if (confirmed !== undefined && confirmed !== 'yes')
    throw new CauseError('not-confirmed', `it was told to keep ${leg.to}, and says: ${confirmed}`);
  return { kind: 'done', facts: { confirmed: confirmed ?? null } };
};
