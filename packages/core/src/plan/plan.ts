import type { DeviceId, Instant, Ms, RolloutId, RunId, Sha256 } from '../units.js';
import { stepNames, type StepName } from '../scheduler/steps.js';

/** What must hold before the wave after this one may begin. */
export interface Gate {
  /** How long to wait after the last run of the wave has ended. */
  readonly soakMs: Ms;
  /** How many failed runs in the wave hold the rollout; at least 1. */
  readonly failureLimit: number;
  /** Whether a person must say so as well. */
  readonly approval: boolean;
}

export interface PlannedWave {
  readonly name: string;
  readonly gate: Gate;
}

/** One step of a run with its usual duration and its place relative to the point of no return. */
export interface PlannedStep {
  readonly step: StepName;
  readonly typicalMs: Ms;
  /** From this step on, nothing interrupts the run. */
  readonly pastReturn: boolean;
}

/** One device's passage through the rollout, as planned. */
export interface PlannedRun {
  readonly id: RunId;
  readonly device: DeviceId;
  readonly name: string;
  readonly address: string;
  readonly site: string;
  readonly family: string;
  readonly serial: string;
  readonly from: string;
  readonly target: string;
  readonly image: Sha256;
  /** What a person has to know before it begins: what it resets, what has to follow. */
  readonly notices?: readonly string[];
  readonly wave: number;
  /** The limits that this run counts against, e.g. `rollout`, `site:eelgate`. */
  readonly limitKeys: readonly string[];
  readonly steps: readonly PlannedStep[];
}

/** What to do about settings that the device has not saved. */
export type UnsavedPolicy = 'hold' | 'save';

/** The whole change, as one reads it before it is started. It never changes afterwards. */
export interface Plan {
  readonly id: RolloutId;
  readonly name: string;
  readonly createdAt: Instant;
  readonly createdBy: string;
  readonly unsaved: UnsavedPolicy;
  readonly waves: readonly PlannedWave[];
  readonly runs: readonly PlannedRun[];
  /** The most runs at once for each limit key; a key without an entry is not limited. */
  readonly limits: Readonly<Record<string, number>>;
  /** What a person has to be told of what they asked for, in sentences. */
  readonly remarks?: readonly string[];
  /** Devices that were asked for and left out, with the reason. */
  readonly leftOut: readonly { readonly device: DeviceId; readonly name: string; readonly reason: string }[];
}

export interface Candidate {
  readonly device: DeviceId;
  readonly name: string;
  readonly address: string;
  readonly site: string;
  readonly family: string;
  readonly serial: string;
  readonly from: string;
  readonly target: string;
  readonly image: Sha256;
  readonly notices?: readonly string[];
  /** Usual duration of each step for this device and image. */
  readonly typicalMs: Readonly<Record<StepName, Ms>>;
  readonly pointOfNoReturn: StepName;
}

export interface PlanRequest {
  readonly id: RolloutId;
  readonly name: string;
  readonly createdAt: Instant;
  readonly createdBy: string;
  readonly unsaved: UnsavedPolicy;
  /** How many devices go first, alone; 0 for a single wave. */
  readonly first: number;
  /** The most devices at once in the later wave. */
  readonly atOnce: number;
  /** The most devices at once in one site; 0 for no limit. */
  readonly perSite: number;
  readonly gate: Gate;
  readonly candidates: readonly Candidate[];
  readonly leftOut: Plan['leftOut'];
}

/**
 * Orders the candidates into waves. The first wave shows what the change does: one device of each family in turn,
 * until `first` devices are chosen; the rest follow by site and name.
 */
export function makePlan(request: PlanRequest): Plan {
  const ordered = [...request.candidates].sort(
    (a, b) => a.site.localeCompare(b.site) || a.name.localeCompare(b.name, 'en', { numeric: true }) || a.device.localeCompare(b.device),
  );
  const first = new Set<Candidate>();
  const byFamily = new Map<string, Candidate[]>();
  for (const c of ordered) {
    const members = byFamily.get(c.family);
    if (members) members.push(c);
    else byFamily.set(c.family, [c]);
  }
  for (let round = 0; first.size < Math.min(request.first, ordered.length); round++)
    for (const members of byFamily.values()) {
      const member = members[round];
      if (member && first.size < request.first) first.add(member);
    }
  const split = first.size > 0 && first.size < ordered.length;
  const waves: PlannedWave[] = split
    ? [
        { name: 'first', gate: request.gate },
        { name: 'rest', gate: { ...request.gate, soakMs: 0, approval: false } },
      ]
    : [{ name: 'all', gate: { ...request.gate, soakMs: 0, approval: false } }];
  const limits: Record<string, number> = { rollout: request.atOnce };
  const stepsOf = new Map<string, PlannedStep[]>();
  const runs = ordered.map((c): PlannedRun => {
    const key = JSON.stringify([c.pointOfNoReturn, c.typicalMs]);
    let steps = stepsOf.get(key);
    if (!steps) {
      const point = stepNames.indexOf(c.pointOfNoReturn);
      steps = stepNames.map((step, i) => ({ step, typicalMs: c.typicalMs[step], pastReturn: i >= point }));
      stepsOf.set(key, steps);
    }
    const limitKeys = ['rollout'];
    if (request.perSite > 0) {
      limitKeys.push(`site:${c.site}`);
      limits[`site:${c.site}`] = request.perSite;
    }
    return {
      id: c.device,
      device: c.device,
      name: c.name,
      address: c.address,
      site: c.site,
      family: c.family,
      serial: c.serial,
      from: c.from,
      target: c.target,
      image: c.image,
      ...(c.notices && c.notices.length > 0 ? { notices: c.notices } : {}),
      wave: split && !first.has(c) ? 1 : 0,
      limitKeys,
      steps,
    };
  });
  runs.sort((a, b) => a.wave - b.wave);
  const { id, name, createdAt, createdBy, unsaved, leftOut } = request;
  return { id, name, createdAt, createdBy, unsaved, waves, runs, limits, leftOut };
}
