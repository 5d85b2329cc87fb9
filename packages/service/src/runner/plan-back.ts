import { sameVersion, type Plan, type PlannedRun, type Targeting } from '@barrow/core';
import type { Context } from '../context.js';
import type { KnownDevice } from '../devices/devices.js';
import { Refusal } from '../errors.js';
import type { ActiveRollout } from './active.js';

/** What goes back from a rollout: to which version each, from which, and after which others. */
export interface WayBackOf {
  readonly name: string;
  readonly runs: ReadonlyMap<string, { readonly version: string; readonly brought: string; readonly after: readonly string[] }>;
  /** It is asked before they have gone: as if each ran what it will be brought. */
  readonly asIf?: true;
}

/** Of a rollout those that were verified; who needed another goes back before it. @throws Refusal when there is none */
export function wayBackOf({ plan, state }: Pick<ActiveRollout, 'plan' | 'state'>): WayBackOf {
  const verified = plan.runs.filter((_, i) => state.runs[i]!.outcome === 'verified');
  if (verified.length === 0)
    throw new Refusal(
      409,
      'nothing-to-take-back',
      'There is nothing to take back',
      `No device was verified in "${plan.name}".`,
      `\`barrow rollout show ${plan.id}\` shows how each of them stands.`,
    );
  return wayBackFrom(plan.name, verified);
}

/** Of a plan that has not begun all of them, as if they had been verified. */
export const wayBackAhead = ({ name, runs }: Plan): WayBackOf => ({ ...wayBackFrom(name, runs), asIf: true });

function wayBackFrom(name: string, verified: readonly PlannedRun[]): WayBackOf {
  const deviceOf = new Map(verified.map((r) => [r.id, r.device]));
  const after = new Map<string, string[]>();
  for (const { device, needs = [] } of verified)
    for (const { run } of needs) {
      const needed = deviceOf.get(run);
      if (needed !== undefined) after.set(needed, [...(after.get(needed) ?? []), device]);
    }
  return {
    name,
    runs: new Map(verified.map((r) => [r.device, { version: r.from, brought: r.target, after: after.get(r.device) ?? [] }])),
  };
}

/** That a device is meant to run what it ran before. */
export const wayBackTarget = (family: string, version: string, rollout: string): Targeting => ({
  family,
  version,
  acceptUnreleased: true,
  rule: null,
  pin: null,
  why: `what it ran before "${rollout}"`,
  conflict: null,
});

/** A device as if it ran a version. */
export const asIfIt = (known: KnownDevice, version: string): KnownDevice => ({
  ...known,
  row: Object.assign(Object.create(Object.getPrototypeOf(known.row) as object) as KnownDevice['row'], known.row, { firmware: version }),
  state: { ...known.state, firmware: version },
});

/** Why a device does not go back; null when it may. */
export function whyNotBack(
  { families }: Context,
  { row, target }: KnownDevice,
  was: { readonly version: string; readonly brought: string } | undefined,
): string | null {
  if (!was) return 'it was not verified in that rollout';
  if (target?.pin && target.pin.version !== was.version) return target.why;
  const scheme = row.family === null ? undefined : families.get(row.family)?.versions;
  if (!scheme || row.firmware === null) return 'what it runs is not known';
  return sameVersion(scheme, row.firmware, was.brought) ? null : `it runs ${row.firmware} now, and ${was.brought} was brought`;
}
