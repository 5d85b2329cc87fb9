import type { DeviceId, Instant, Key, Ms, RolloutId, RunId, Sha256 } from '../units.js';
import { traitsOf, stepNames, stretchOf, type StepName } from '../scheduler/steps.js';

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

/** What a run holds while it is in a stretch: a guard against harm, or a place under a limit. */
export interface Claim {
  /** What stands before its colon tells the kind: `rollout` and `site` are places under a limit, all others guards. */
  readonly key: Key;
  /** Shared: as many as the key's capacity allows, any number when it has none. Exclusive: nobody else. */
  readonly mode: 'shared' | 'exclusive';
}

/** One step of a passage with its usual duration, and the traits by which the scheduler knows it; it knows no names. */
export interface PlannedStep {
  readonly step: StepName;
  readonly typicalMs: Ms;
  /** When its outcome was lost: begun again, or never without asking the device what is true. */
  readonly whenLost: 'again' | 'ask';
  /** May be given up in the middle, when the service has to stop. */
  readonly stoppable: boolean;
  /** The device writes, and must keep its power and its way. */
  readonly writes: boolean;
  /** The device does not forward traffic. */
  readonly down: boolean;
  /** From this step on, nothing interrupts the run. */
  readonly pastReturn: boolean;
  /** The device is left to itself: it is only waited for, or looked at. */
  readonly waits: boolean;
}

/** A group of steps that is entered as a whole or not at all, and for as long as which claims are held. */
export interface PlannedStretch {
  readonly name: string;
  /** Indexes into the steps of the passage; `to` is the first that is not in it. */
  readonly from: number;
  readonly to: number;
}

/** The way that runs of a kind take; runs share it. */
export interface Passage {
  readonly steps: readonly PlannedStep[];
  /** In order, and without gaps. */
  readonly stretches: readonly PlannedStretch[];
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
  /** Index into the passages of the plan. */
  readonly passage: number;
  /** The limits under which it takes a place in each stretch, e.g. `rollout:r-1`, `site:eelgate`. */
  readonly room: readonly Key[];
  /** The devices whose going down would take its power or its way, itself among them. */
  readonly under: readonly DeviceId[];
  /** What its going down claims besides: rings of which one member may be down, devices that lose one of several feeds. */
  readonly downClaims: readonly Key[];
}

/** What to do about settings that the device has not saved. */
export type UnsavedPolicy = 'hold' | 'save';

/** The whole change, as one reads it before it is started. It never changes afterwards. */
export interface Plan {
  readonly version: 2;
  readonly id: RolloutId;
  readonly name: string;
  readonly createdAt: Instant;
  readonly createdBy: string;
  readonly unsaved: UnsavedPolicy;
  readonly waves: readonly PlannedWave[];
  readonly passages: readonly Passage[];
  readonly runs: readonly PlannedRun[];
  /** The most that may hold a key at once; a key without an entry is not limited. */
  readonly capacity: Readonly<Record<Key, number>>;
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
  readonly under: readonly DeviceId[];
  /** Rings of which it, or what goes dark with it, is a carrying member. */
  readonly rings: readonly string[];
  /** Devices of several feeds that lose one with it, and how many they have. */
  readonly feeds: readonly { readonly device: DeviceId; readonly of: number }[];
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
  const rolloutKey = `rollout:${request.id}`;
  const capacity: Record<Key, number> = { [rolloutKey]: request.atOnce };
  const passages: Passage[] = [];
  const passageOf = new Map<string, number>();
  const runs = ordered.map((c): PlannedRun => {
    const key = JSON.stringify([c.pointOfNoReturn, c.typicalMs]);
    let passage = passageOf.get(key);
    if (passage === undefined) {
      passage = passages.push(makePassage(c.typicalMs, c.pointOfNoReturn)) - 1;
      passageOf.set(key, passage);
    }
    const room = [rolloutKey];
    if (request.perSite > 0) {
      room.push(`site:${c.site}`);
      capacity[`site:${c.site}`] = request.perSite;
    }
    for (const ring of c.rings) capacity[`ring:${ring}`] = 1;
    for (const { device, of } of c.feeds) capacity[`feeds:${device}`] = of - 1;
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
      passage,
      room,
      under: c.under.includes(c.device) ? c.under : [c.device, ...c.under],
      downClaims: [...c.rings.map((r) => `ring:${r}`), ...c.feeds.map((f) => `feeds:${f.device}`)],
    };
  });
  runs.sort((a, b) => a.wave - b.wave);
  const { id, name, createdAt, createdBy, unsaved, leftOut } = request;
  return { version: 2, id, name, createdAt, createdBy, unsaved, waves, passages, runs, capacity, leftOut };
}

/** The passage of a run of today's nine steps: look and keep, bring, change. */
export function makePassage(typicalMs: Readonly<Record<StepName, Ms>>, pointOfNoReturn: StepName): Passage {
  const point = stepNames.indexOf(pointOfNoReturn);
  const steps = stepNames.map((step, i): PlannedStep => ({ step, typicalMs: typicalMs[step], ...traitsOf[step], pastReturn: i >= point }));
  const stretches: PlannedStretch[] = [];
  stepNames.forEach((step, i) => {
    const last = stretches[stretches.length - 1];
    // What lies past the point of no return is never left.
    const name = i > point ? last!.name : stretchOf[step];
    if (last?.name === name) stretches[stretches.length - 1] = { ...last, to: i + 1 };
    else stretches.push({ name, from: i, to: i + 1 });
  });
  return { steps, stretches };
}

/** The passage of a run. */
export const passageOf = (plan: Plan, run: PlannedRun): Passage => plan.passages[run.passage]!;

/** The steps of a run. */
export const stepsOf = (plan: Plan, run: PlannedRun): readonly PlannedStep[] => passageOf(plan, run).steps;

/** Whether a claim guards against harm; the others are places under a limit. */
export const isGuard = ({ key }: Claim): boolean => !/^(rollout|site):/.test(key);

/** What somebody holds who writes on a device: it is in one pair of hands, and keeps its power and its way. */
export const writingClaims = (device: DeviceId, under: readonly DeviceId[]): Claim[] => [
  { key: `device:${device}`, mode: 'exclusive' },
  ...under.map((id): Claim => ({ key: `up:${id}`, mode: 'shared' })),
];

/**
 * What a run holds while it is in a stretch, the hardest to get last. Nothing goes down that carries a device which is
 * writing; nothing writes below what is down; one of a ring is down at a time; no device loses its last feed.
 */
export function claimsOf(plan: Plan, run: PlannedRun, stretch: PlannedStretch): Claim[] {
  const steps = stepsOf(plan, run).slice(stretch.from, stretch.to);
  const goesDown = steps.some((s) => s.down);
  const claims: Claim[] = [...run.room.map((key): Claim => ({ key, mode: 'shared' })), { key: `device:${run.device}`, mode: 'exclusive' }];
  if (goesDown || steps.some((s) => s.writes))
    for (const id of new Set(run.under)) claims.push({ key: `up:${id}`, mode: goesDown && id === run.device ? 'exclusive' : 'shared' });
  if (goesDown) for (const key of run.downClaims) claims.push({ key, mode: 'shared' });
  return claims;
}
