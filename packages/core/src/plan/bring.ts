import { traitsOf } from '../scheduler/steps.js';
import type { DeviceId, Instant, Key, RolloutId, RunId, Sha256 } from '../units.js';
import type { Passage, Plan, PlannedRun } from './plan.js';

/** One image to one place, ahead of a rollout. */
export interface Bringing {
  readonly id: RunId;
  /** As others are told who has the place in hand. */
  readonly name: string;
  /** The device that keeps it, or a word for the store that does. */
  readonly holder: DeviceId;
  readonly site: string;
  readonly image: Sha256;
  /** Whose going down would take the power or the way of who keeps it; empty for a store. */
  readonly under: readonly DeviceId[];
  /** Whether it goes over a link that is shared with the work of a site. */
  readonly overLink: boolean;
}

/** The most that are brought at once, in all and to one site over such a link. */
const [mostAtOnce, mostOverLink] = [8, 2];

/** The one step of which a run of this kind is made. */
export const bringStep = 'transfer';

/**
 * What brings images ahead is a rollout too: one wave of runs that prepare and transfer, and never go down. Any of it may be left
 * and begun again, and who fails holds back nobody.
 */
export function planBringing(id: RolloutId, createdAt: Instant, createdBy: string, all: readonly Bringing[]): Plan {
  const staging = 'staging:all';
  const capacity: Record<Key, number> = { [staging]: mostAtOnce };
  for (const { overLink, site } of all) if (overLink) capacity[`link:${site}`] = mostOverLink;
  const step = { step: bringStep, leg: 0, typicalMs: 0, ...traitsOf(bringStep), stoppable: true, pastReturn: false };
  const passage: Passage = { legs: [], steps: [step], stretches: [{ name: 'transfer', from: 0, to: 1 }], rungs: [] };
  return {
    version: 2,
    id,
    name: 'staging',
    createdAt,
    createdBy,
    unsaved: 'hold',
    wayBack: false,
    waves: [{ name: 'all', gate: { soakMs: 0, failureLimit: all.length + 1, approval: false } }],
    passages: [passage],
    runs: all.map(({ id: run, name, holder, site, image, under, overLink }): PlannedRun => ({
      id: run,
      device: holder,
      name,
      address: '',
      site,
      family: '',
      serial: '',
      from: '',
      target: '',
      image,
      wave: 0,
      passage: 0,
      room: overLink ? [staging, `link:${site}`] : [staging],
      under,
      downClaims: [],
    })),
    capacity,
    leftOut: [],
  };
}
