import { passageOf, type Plan, type PlannedRun, type PlannedRung, type RungMeans } from './plan.js';

/** After these nobody can be spoken to, or it is somebody else: nothing is tried that needs a login. */
const unreached: ReadonlySet<string> = new Set([
  'never-returned',
  'went-silent',
  'locked-out',
  'console-silent',
  'console-unreached',
  'console-refused',
  'address-refused',
  'power-not-switched',
  'power-left-off',
  'unreachable',
  'host-key-changed',
  'key-unusable',
  'login-refused',
  'login-lost',
  'credential-suspended',
  'awaiting-approval',
  'another-device',
]);

/** Whether who failed so can still be asked: what it runs is known then, and nothing has to be kept from harm for its sake. */
export const canBeAsked = (cause: string): boolean => !unreached.has(cause);

/** Nothing is heard of it, by its network or by its console. */
const nothingAnswers: ReadonlySet<string> = new Set(['never-returned', 'console-silent', 'console-unreached']);

/** Whether it is worth trying: who does not answer may only need more time; of who answers the power is never cut. */
function helps({ means, factory }: PlannedRung, cause: string): boolean {
  if (means === 'wait') return cause === 'never-returned' || cause === 'locked-out';
  if (means === 'console') return cause === 'never-returned';
  if (means === 'power-cycle') return nothingAnswers.has(cause);
  if (factory && (cause === 'login-refused' || cause === 'login-lost')) return true;
  return means === 'restore' ? cause === 'settings-changed' : !unreached.has(cause);
}

/**
 * The rung that may be tried after a failure in a leg.
 *
 * @param after the index of the one that was tried last; -1 when none was
 * @param mayCutOff a person has said that others may go dark with it
 * @returns its index in the passage; null when none is left that could help
 */
export function rungAfter(plan: Plan, run: PlannedRun, leg: number, cause: string, after = -1, mayCutOff = false): number | null {
  const at = passageOf(plan, run).rungs.findIndex((r, i) => i > after && r.leg === leg && (mayCutOff || !r.cutsOff) && helps(r, cause));
  return at < 0 ? null : at;
}

const texts: Readonly<Record<RungMeans, string>> = {
  wait: 'waited for once more',
  console: 'given its address again over its console',
  'power-cycle': 'started anew by cutting its power',
  'other-slot': 'taken back by its other slot',
  'earlier-image': 'taken back by the earlier image',
  restore: 'given its settings from before',
};

/** What a rung does, as it is said after the name of the device. */
export const rungText = (means: RungMeans): string => texts[means];
