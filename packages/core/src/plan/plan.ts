import type { RemovedService, Resettable } from '../images/note.js';
import type { Bytes, DeviceId, Instant, Key, Kind, Ms, RolloutId, RunId, Sha256 } from '../units.js';
import type { StepName, StepTraits } from '../scheduler/steps.js';
import type { Hazard } from './hazards/kinds.js';
import { divide, type Division, type NamedWave } from './waves.js';
import { fitsAt, type Spans } from './windows.js';

/** What must hold before the wave after this one may begin. */
export interface Gate {
  /** How long to wait after the last run of the wave has ended. */
  readonly soakMs: Ms;
  /** Whether its devices are looked at while they soak, beside some that nobody touched; absent: they only wait. */
  readonly watch?: true;
  /** How many failed runs in the wave hold the rollout; at least 1. */
  readonly failureLimit: number;
  /** Which share of the wave, in hundredths, does the same. */
  readonly failureShare?: number;
  /** How many absent devices at the end of the wave are too many to go on; absent: any number may be. */
  readonly absentLimit?: number;
  /** Whether a person must say so as well. */
  readonly approval: boolean;
}

export interface PlannedWave {
  readonly name: string;
  readonly gate: Gate;
}

/** What a run holds while it is in a stretch: a guard against harm, or a place under a limit. */
export interface Claim {
  /** What stands before its colon tells the kind: `rollout`, `site`, `apart`, `parent`, `store`, `staging` and `link` are places under a limit, all others guards. */
  readonly key: Key;
  /** Shared: as many as the key's capacity allows, any number when it has none. Exclusive: nobody else. */
  readonly mode: 'shared' | 'exclusive';
}

/** One step of a passage with its usual duration, and the traits by which the scheduler knows it; it knows no names. */
export interface PlannedStep extends StepTraits {
  readonly step: StepName;
  /** Index of the leg that it is of. */
  readonly leg: number;
  readonly typicalMs: Ms;
  /** Where that comes from what it took here before: from how many times, what most did not exceed, and what its family file says. */
  readonly learned?: { readonly count: number; readonly mostMs: Ms; readonly fileMs: Ms };
  /** How long Barrow waits for it at most, where that is known beforehand. */
  readonly limitMs?: Ms;
  /** From this step on, nothing interrupts the leg. */
  readonly pastReturn: boolean;
  /** What a person is asked to do in it. */
  readonly words?: string;
  /** What is brought in it over the link of the site. */
  readonly octets?: Bytes;
  /** The device comes to it by itself, at an hour of its own; until then the run is armed, and takes no place under a limit. */
  readonly ownHour?: true;
}

/** One image's part of a run. */
export interface PlannedLeg {
  readonly image: Sha256;
  readonly component: string;
  readonly from: string;
  readonly to: string;
  /** The name of the way by which it is taken. */
  readonly way: string;
  /** What its image resets, as its note says; the device is set up again after its return. */
  readonly resets?: readonly Resettable[];
  /** What no longer answers afterwards, as the notes of this image and of those before it say. */
  readonly removes?: readonly RemovedService[];
}

/** A group of steps that is entered as a whole or not at all, and for as long as which claims are held. */
export interface PlannedStretch {
  readonly name: string;
  /** Indexes into the steps of the passage; `to` is the first that is not in it. */
  readonly from: number;
  readonly to: number;
  /** It is entered only when its wave has soaked: the device has reached its target, and is looked at again. */
  readonly afterSoak?: true;
  /** All of it is done by a person, however long that takes: it takes no place under a limit. */
  readonly byHand?: true;
  /** It is no part of the way: only what was set aside is put back in it, when the way came to another end. */
  readonly putsBack?: true;
  /** Others lose their power with it. */
  readonly cutsOff?: true;
  /** Where it is handled through another device: what of that is used alone (its storage), or with how many others at once. */
  readonly ofParent?: { readonly storage?: true; readonly most?: number; readonly apartMs?: Ms };
}

/** What is tried, in turn, when a leg fails past its point of no return. */
export const rungMeans = ['wait', 'console', 'power-cycle', 'other-slot', 'restore', 'earlier-image'] as const;
export type RungMeans = (typeof rungMeans)[number];

/** One thing to try. */
export interface PlannedRung {
  readonly means: RungMeans;
  /** Index of the leg after whose failure it may be tried. */
  readonly leg: number;
  /** Index of the stretch that it is, or in which it stands. */
  readonly stretch: number;
  /** Index of its first step. */
  readonly step: number;
  /** What is brought back, by steps of its own; absent: the leg goes on where it stands. */
  readonly takes?: PlannedLeg;
  /** Its own steps stand for those of the leg up to this one, where the leg goes on. */
  readonly joins?: number;
  /** Its steps may log in as to a device that was reset. */
  readonly factory?: true;
  /** Others go dark with it: it is tried only when a person says that they may. */
  readonly cutsOff?: true;
}

/** What gives a device its power: an outlet or a port of another, which can switch it. */
export interface PowerFrom {
  readonly device: DeviceId;
  readonly name: string;
  /** As the map names it. */
  readonly outlet: string;
  /** Who else hangs on it, and loses its power with it. */
  readonly others?: readonly { readonly device: DeviceId; readonly name: string }[];
}

/** Where a device can be spoken to without its network: a line of a console server. */
export interface ConsoleAt {
  readonly device: DeviceId;
  readonly name: string;
  /** As a person has named it. */
  readonly line: string;
}

/** What runs of a kind pass through; runs share it. */
export interface Passage {
  /** Empty in plans of before: there is one then, which the run itself tells. */
  readonly legs: readonly PlannedLeg[];
  /** Those of the legs, then those of the rungs, which count as legs of their own. */
  readonly steps: readonly PlannedStep[];
  /** In order, and without gaps: those of the legs, then one for each rung that has steps of its own. */
  readonly stretches: readonly PlannedStretch[];
  /** By leg, in the order in which they are tried. */
  readonly rungs: readonly PlannedRung[];
  /** Where what was set aside is put back when the run ends before the way has done so: the last of all steps. */
  readonly putBack?: { readonly stretch: number; readonly step: number };
}

/** This leg of a run is begun only when another run has ended verified: a controller goes before its access points. */
export interface Need {
  readonly leg: number;
  readonly run: RunId;
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
  /** Before its first leg. */
  readonly from: string;
  /** After its last leg. */
  readonly target: string;
  /** The image of its last leg. */
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
  /** Devices that give what it needs to come back: none of them is down while it goes down. */
  readonly needsUp?: readonly DeviceId[];
  /** Acyclic, and never of a run in a later wave. */
  readonly needs?: readonly Need[];
  /** The device through which it is handled, when it cannot be reached itself. */
  readonly via?: DeviceId;
  /** Where its power can be cut and given again when it does not come back. */
  readonly power?: PowerFrom;
  /** Where it can be given back its address when it does not come back. */
  readonly console?: ConsoleAt;
  /** It goes back to what it ran before another rollout, whatever its target is. */
  readonly back?: true;
  /** No device of its family and model was upgraded and verified here yet: what fails of it is mended only when a person says so. */
  readonly unproven?: true;
  /** The window in which it may go down, by its name in the plan; absent: at any time. */
  readonly window?: string;
  /** What its going down claims besides: rings of which one member may be down, devices that lose one of several feeds. */
  readonly downClaims: readonly Key[];
}

/** Times at which devices may go down, as a person said them, and as they fall. */
export interface PlannedWindow {
  /** As it is said: `22:00–04:00 (Europe/London)`. */
  readonly text: string;
  readonly spans: Spans;
  /** For devices that take what they hold at an hour of their own: when that is. Only the entry has to lie in the spans then. */
  readonly hours?: readonly Instant[];
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
  /** Who fails past the point of no return is taken back at once, by the rungs of its passage; else when a person says so. */
  readonly wayBack: boolean;
  readonly waves: readonly PlannedWave[];
  readonly passages: readonly Passage[];
  readonly runs: readonly PlannedRun[];
  /** Times at which devices may go down, by name. */
  readonly windows?: Readonly<Record<string, PlannedWindow>>;
  /** The texts of the family files with which it was made, by family: what changes there later does not change what runs. */
  readonly families?: Readonly<Record<string, string>>;
  /** The most that may hold a key at once; a key without an entry is not limited. */
  readonly capacity: Readonly<Record<Key, number>>;
  /** Octets in a second over the link to a site, which all share that are brought an image there; a site without an entry has no limit. */
  readonly links?: Readonly<Record<string, number>>;
  /** How far apart those who take a key have to begin, where it is the beginning that hurts: registrations, inrush. */
  readonly spacing?: Readonly<Record<Key, Ms>>;
  /** What could hurt, those first that a person has to accept before the start; none in plans of before. */
  readonly hazards?: readonly Hazard[];
  /** What a person has to be told of what they asked for, in sentences. */
  readonly remarks?: readonly string[];
  /** Of what was asked for, what nothing else here tells; null window: that of each site. Not in plans of before. */
  readonly asked?: { readonly window: unknown; readonly down: boolean };
  /** Devices that were asked for and left out, with the reason. */
  readonly leftOut: readonly { readonly device: DeviceId; readonly name: string; readonly reason: string }[];
}

export interface Candidate {
  readonly device: DeviceId;
  readonly name: string;
  readonly address: string;
  readonly site: string;
  readonly family: string;
  readonly kind?: Kind;
  readonly serial: string;
  readonly from: string;
  readonly target: string;
  /** Of its last leg. */
  readonly image: Sha256;
  readonly notices?: readonly string[];
  /** What it passes through; candidates that pass alike may name the same one. */
  readonly passage: Passage;
  readonly under: readonly DeviceId[];
  /** Rings of which it, or what goes dark with it, is a carrying member. */
  readonly rings: readonly string[];
  /** Devices of several feeds that lose one with it, and how many they have. */
  readonly feeds: readonly { readonly device: DeviceId; readonly of: number }[];
  /** Access points, itself maybe, where nobody is heard any more when it and all that reach there too are down; how many those are. */
  readonly radio?: readonly { readonly device: DeviceId; readonly of: number }[];
  readonly needsUp?: readonly DeviceId[];
  readonly needs?: readonly { readonly leg: number; readonly device: DeviceId }[];
  readonly via?: DeviceId;
  readonly power?: PowerFrom;
  readonly console?: ConsoleAt;
  readonly back?: true;
  readonly unproven?: true;
  /** When it may go down, where that is not as for the others. */
  readonly window?: { readonly name: string; readonly window: PlannedWindow };
}

export interface PlanRequest {
  readonly id: RolloutId;
  readonly name: string;
  readonly createdAt: Instant;
  readonly createdBy: string;
  readonly unsaved: UnsavedPolicy;
  readonly wayBack: boolean;
  /** When devices may go down; null: at any time. */
  readonly window?: PlannedWindow | null;
  /** Waves that a person named, before all others. */
  readonly named?: readonly NamedWave[];
  /** How many devices go first of those that no wave was named for, 0 for none; or which ones. */
  readonly first: number | readonly DeviceId[];
  /** How the others are divided; null: they are not. */
  readonly by?: Division | null;
  /** What of the gate of a wave is otherwise, by its name. */
  readonly gates?: Readonly<Record<string, Partial<Gate>>>;
  /** The most devices at once in the later wave. */
  readonly atOnce: number;
  /** The most devices at once in one site; 0 for no limit. */
  readonly perSite: number;
  /** How far apart devices of one site begin to go down; 0 for no matter. */
  readonly apartMs?: Ms;
  readonly gate: Gate;
  readonly candidates: readonly Candidate[];
  readonly leftOut: Plan['leftOut'];
  readonly families?: Readonly<Record<string, string>>;
  readonly links?: Plan['links'];
}

/** The window of a plan in which every device goes down that has none of its own. */
const theWindow = 'window';

/** Who soaks is looked at. */
const watched = (gate: Gate): Gate => (gate.soakMs > 0 ? { ...gate, watch: true } : gate);

/**
 * Orders the candidates into waves: those that a person named; then one that shows what the change does, with one device of each family
 * in turn; then the rest. Within a wave they go by the length of their way to the end, what hangs on others before these; then by site and name.
 */
export function makePlan(request: PlanRequest): Plan {
  const ordered = [...request.candidates].sort(
    (a, b) =>
      a.site.localeCompare(b.site) ||
      b.under.length - a.under.length ||
      a.name.localeCompare(b.name, 'en', { numeric: true }) ||
      a.device.localeCompare(b.device),
  );
  const { waves: divided, moved } = divide(ordered, { named: request.named ?? [], first: request.first, by: request.by ?? null });
  const waves = divided.map(({ name, members }, index): PlannedWave => {
    const gate = { ...request.gate, ...request.gates?.[name] };
    if (index < divided.length - 1) return { name, gate: watched(gate) };
    // Who is looked at again after the soak is, whatever comes after it; else nothing is left to wait for.
    const proves = members.some((c) => c.passage.stretches.some((s) => s.afterSoak));
    const soakMs = proves ? gate.soakMs : (request.gates?.[name]?.soakMs ?? 0);
    return { name, gate: watched({ ...gate, soakMs, approval: false }) };
  });
  const waveOf = new Map(divided.flatMap(({ members }, wave) => members.map((c) => [c, wave] as const)));
  const byDevice = new Map(ordered.map((c) => [c.device, c]));
  const rolloutKey = `rollout:${request.id}`;
  const capacity: Record<Key, number> = { [rolloutKey]: request.atOnce };
  const spacing: Record<Key, Ms> = {};
  const passages: Passage[] = [];
  const passageOf = new Map<Passage, number>();
  const windows: Record<string, PlannedWindow> = {};
  const windowOfCandidate = (c: Candidate): { window?: string } => {
    const found = c.window ?? (request.window ? { name: theWindow, window: request.window } : null);
    if (found === null) return {};
    windows[found.name] ??= found.window;
    return { window: found.name };
  };
  const runs = ordered.map((c): PlannedRun => {
    let passage = passageOf.get(c.passage);
    if (passage === undefined) {
      passage = passages.push(c.passage) - 1;
      passageOf.set(c.passage, passage);
    }
    const room = [rolloutKey];
    if (request.perSite > 0) {
      room.push(`site:${c.site}`);
      capacity[`site:${c.site}`] = request.perSite;
    }
    if (request.apartMs) spacing[`apart:${c.site}`] = request.apartMs;
    for (const { ofParent } of c.passage.stretches)
      if (c.via !== undefined && ofParent?.most !== undefined) {
        capacity[`parent:${c.via}`] = ofParent.most;
        if (ofParent.apartMs !== undefined) spacing[`parent:${c.via}`] = ofParent.apartMs;
      }
    const needs = (c.needs ?? []).filter((n) => byDevice.has(n.device)).map(({ leg, device }) => ({ leg, run: device }));
    for (const ring of c.rings) capacity[`ring:${ring}`] = 1;
    for (const { device, of } of c.feeds) capacity[`feeds:${device}`] = of - 1;
    for (const { device, of } of c.radio ?? []) capacity[`radio:${device}`] = of - 1;
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
      wave: waveOf.get(c)!,
      passage,
      room,
      under: c.under.includes(c.device) ? c.under : [c.device, ...c.under],
      ...(c.needsUp && c.needsUp.length > 0 ? { needsUp: c.needsUp } : {}),
      ...(needs.length > 0 ? { needs } : {}),
      ...(c.via === undefined ? {} : { via: c.via }),
      ...(c.power === undefined ? {} : { power: c.power }),
      ...(c.console === undefined ? {} : { console: c.console }),
      ...(c.back ? { back: c.back } : {}),
      ...(c.unproven ? { unproven: c.unproven } : {}),
      ...windowOfCandidate(c),
      downClaims: [
        ...c.rings.map((r) => `ring:${r}`),
        ...c.feeds.map((f) => `feeds:${f.device}`),
        ...(c.radio ?? []).map((r) => `radio:${r.device}`),
      ],
    };
  });
  refuseCircles(runs);
  const ways = waysToEnd(ordered, request.perSite);
  runs.sort((a, b) => a.wave - b.wave || ways.get(b.device)! - ways.get(a.device)!);
  const { id, name, createdAt, createdBy, unsaved, wayBack, leftOut } = request;
  const families = request.families ? { families: request.families } : {};
  return {
    version: 2,
    id,
    name,
    createdAt,
    createdBy,
    unsaved,
    wayBack,
    waves,
    passages,
    runs,
    ...(Object.keys(windows).length > 0 ? { windows } : {}),
    ...families,
    capacity,
    ...(Object.keys(spacing).length > 0 ? { spacing } : {}),
    ...(request.links && Object.keys(request.links).length > 0 ? { links: request.links } : {}),
    ...(moved.length > 0 ? { remarks: moved.map((m) => `${m.who.name} goes in the wave ${m.into}: ${m.for.name} needs it.`) } : {}),
    leftOut,
  };
}

/**
 * How long is the way to the end from when a device begins, at least: what it takes together with what it hangs on, one after the
 * other, or with those that need it; or what is left of its site by then where so many of a site go at once. Who has the longest
 * goes first. None may need itself.
 */
function waysToEnd(candidates: readonly Candidate[], perSite: number): Map<DeviceId, Ms> {
  const byDevice = new Map(candidates.map((c) => [c.device, c]));
  const lasting = new Map<Passage, Ms>();
  const takes = ({ passage }: Candidate): Ms => {
    let ms = lasting.get(passage);
    if (ms === undefined) lasting.set(passage, (ms = passage.steps.slice(0, legSteps(passage)).reduce((sum, s) => sum + s.typicalMs, 0)));
    return ms;
  };
  const neededBy = new Map<DeviceId, Candidate[]>();
  for (const c of candidates)
    for (const { device } of c.needs ?? []) {
      const others = neededBy.get(device);
      if (others) others.push(c);
      else neededBy.set(device, [c]);
    }
  const ways = new Map<DeviceId, Ms>();
  const wayOf = (c: Candidate): Ms => {
    const known = ways.get(c.device);
    if (known !== undefined) return known;
    const above = [...new Set([...c.under, ...(c.needsUp ?? [])])].reduce(
      (sum, id) => sum + (id === c.device || !byDevice.has(id) ? 0 : takes(byDevice.get(id)!)),
      0,
    );
    const way = takes(c) + Math.max(above, ...(neededBy.get(c.device) ?? []).map(wayOf));
    ways.set(c.device, way);
    return way;
  };
  candidates.forEach(wayOf);
  if (perSite === 0) return ways;
  const left = new Map<string, Ms>();
  // From the end; of those that are alike the first has most before it.
  for (const c of [...candidates].reverse().sort((a, b) => ways.get(a.device)! - ways.get(b.device)!)) {
    const work = (left.get(c.site) ?? 0) + takes(c);
    left.set(c.site, work);
    ways.set(c.device, Math.max(ways.get(c.device)!, work / perSite));
  }
  return ways;
}

/** Runs that wait for each other would wait for ever. */
export class NeedsInCircle extends Error {
  readonly code = 'needs-in-circle';
  constructor(readonly names: readonly string[]) {
    super(`${names.join(' waits for ')} waits for ${names[0]}`);
  }
}

/**
 * Follows who needs whom.
 *
 * @throws NeedsInCircle when that leads back to where it began
 */
export function refuseCircles(runs: readonly Pick<PlannedRun, 'id' | 'name' | 'needs'>[]): void {
  const known = new Map(runs.map((r) => [r.id, r]));
  const done = new Set<RunId>();
  for (const { id } of runs) {
    /** From the one that was begun with to the one that is looked at, each with how many of its needs were followed. */
    const path: { readonly id: RunId; next: number }[] = done.has(id) ? [] : [{ id, next: 0 }];
    const on = new Map(path.map((p) => [p.id, 0]));
    for (let at = path.at(-1); at; at = path.at(-1)) {
      const need = known.get(at.id)?.needs?.[at.next++]?.run;
      if (need === undefined) {
        done.add(at.id);
        on.delete(at.id);
        path.pop();
      } else if (on.has(need)) throw new NeedsInCircle(path.slice(on.get(need)).map((p) => known.get(p.id)!.name));
      else if (!done.has(need)) {
        on.set(need, path.length);
        path.push({ id: need, next: 0 });
      }
    }
  }
}

/** The passage of a run. */
export const passageOf = (plan: Plan, run: PlannedRun): Passage => plan.passages[run.passage]!;

/** The steps of a run, those of its rungs after those of its legs. */
export const stepsOf = (plan: Plan, run: PlannedRun): readonly PlannedStep[] => passageOf(plan, run).steps;

/** The rungs that have steps of their own, and those of them that bring something back. */
const ownRungs = (passage: Passage): PlannedRung[] => passage.rungs.filter((r) => r.takes || r.joins !== undefined);
const takingRungs = (passage: Passage): PlannedRung[] => passage.rungs.filter((r) => r.takes);

/** How many of the steps of a passage are those of its legs. */
export const legSteps = (passage: Passage): number => ownRungs(passage)[0]?.step ?? passage.putBack?.step ?? passage.steps.length;

/** The legs of a run, at least one. */
export function legsOf(plan: Plan, run: PlannedRun): readonly PlannedLeg[] {
  const { legs } = passageOf(plan, run);
  return legs.length > 0 ? legs : [{ image: run.image, component: 'system', from: run.from, to: run.target, way: '' }];
}

/** What a step is part of: a leg, or what a rung brings back. */
export function legAt(plan: Plan, run: PlannedRun, leg: number): PlannedLeg {
  const legs = legsOf(plan, run);
  return legs[leg] ?? takingRungs(passageOf(plan, run))[leg - legs.length]!.takes!;
}

/** How long a stretch needs of a window: its steps, and the longest way back from it where the plan takes it at once. */
export function needOf(plan: Pick<Plan, 'wayBack'>, passage: Passage, stretch: PlannedStretch): Ms {
  const lasting = (from: number, to: number): Ms => passage.steps.slice(from, to).reduce((sum, s) => sum + s.typicalMs, 0);
  const { leg } = passage.steps[stretch.from]!;
  const back = plan.wayBack
    ? ownRungs(passage)
        .filter((r) => r.leg === leg && !r.cutsOff)
        .map((r) => lasting(r.step, passage.stretches[r.stretch]!.to))
    : [];
  return lasting(stretch.from, stretch.to) + Math.max(0, ...back);
}

/** In which a stretch of a run may be entered: one in which it goes down, and that mends nothing; null: it needs none. */
export function windowOf(plan: Plan, run: PlannedRun, stretch: number): { readonly name: string; readonly window: PlannedWindow } | null {
  const window = run.window === undefined ? undefined : plan.windows?.[run.window];
  return window && goesDownIn(plan, run, stretch) ? { name: run.window!, window } : null;
}

/** Whether a run goes down in a stretch, and not to be mended. */
function goesDownIn(plan: Plan, run: PlannedRun, stretch: number): boolean {
  const passage = passageOf(plan, run);
  const { from, to } = passage.stretches[stretch]!;
  return from < legSteps(passage) && passage.steps.slice(from, to).some((s) => s.down);
}

/** Whether a stretch in which a run goes down, and its way back, would last beyond a moment if it were entered now. */
export function lastsBeyond(plan: Plan, run: PlannedRun, stretch: number, now: Instant, moment: Instant | null): boolean {
  if (moment === null || !goesDownIn(plan, run, stretch)) return false;
  const passage = passageOf(plan, run);
  return now + needOf(plan, passage, passage.stretches[stretch]!) > moment;
}

/** When a stretch may be entered by its window: now, later, or never (null). */
export function opensAt(plan: Plan, run: PlannedRun, stretch: number, now: Instant): Instant | null {
  const found = windowOf(plan, run, stretch);
  if (!found) return now;
  const passage = passageOf(plan, run);
  if (found.window.hours) return fitsAt(found.window.spans, now, 0);
  return fitsAt(found.window.spans, now, needOf(plan, passage, passage.stretches[stretch]!));
}

/** Whether a claim guards against harm; the others are places under a limit. */
export const isGuard = ({ key }: Claim): boolean => !/^(rollout|site|apart|parent|store|staging|link):/.test(key);

/**
 * What a run holds while it is in a stretch, the hardest to get last. Nothing goes down that carries a device which is
 * writing; nothing writes below what is down; one of a ring is down at a time; no device loses its last feed.
 */
export function claimsOf(plan: Plan, run: PlannedRun, stretch: PlannedStretch): Claim[] {
  const steps = stepsOf(plan, run).slice(stretch.from, stretch.to);
  const goesDown = steps.some((s) => s.down);
  const room = stretch.byHand || stretch.putsBack ? [] : run.room;
  const claims: Claim[] = [...room.map((key): Claim => ({ key, mode: 'shared' })), { key: `device:${run.device}`, mode: 'exclusive' }];
  if (run.via !== undefined && stretch.ofParent?.storage) claims.push({ key: `store:${run.via}`, mode: 'exclusive' });
  if (run.via !== undefined && stretch.ofParent?.most !== undefined) claims.push({ key: `parent:${run.via}`, mode: 'shared' });
  if (goesDown || steps.some((s) => s.writes))
    for (const id of new Set([...run.under, ...(goesDown ? (run.needsUp ?? []) : [])]))
      claims.push({ key: `up:${id}`, mode: goesDown && id === run.device ? 'exclusive' : 'shared' });
  // Who loses its power with it is as down as it is: nothing of theirs is being written then.
  if (stretch.cutsOff) for (const { device } of run.power?.others ?? []) claims.push({ key: `up:${device}`, mode: 'exclusive' });
  if (goesDown) for (const key of run.downClaims) claims.push({ key, mode: 'shared' });
  const apart = `apart:${run.site}`;
  if (goesDown && plan.spacing?.[apart] !== undefined) claims.push({ key: apart, mode: 'shared' });
  return claims;
}
