import {
  duration,
  makePassage,
  makePlan,
  NeedsInCircle,
  pilotsOf,
  planInput,
  shortened,
  type Candidate,
  type Gate,
  type Kind,
  type Passage,
  type PathStep,
  type Plan,
  type PlanInput,
  type PlannedWindow,
  type PlanRequest,
  type RunFacts,
  type WayLeg,
} from '@barrow/core';
import { isUpgradable, wayNamed, wayOf, type Family } from '@barrow/families';
import type { Context } from '../context.js';
import { ImageEntity } from '../data/entities.js';
import { newId } from '../data/seal.js';
import type { Proven } from '../devices/proven.js';
import type { Devices, KnownDevice } from '../devices/devices.js';
import { Refusal } from '../errors.js';
import type { MapService } from '../map/map.js';
import { Beside } from './plan-beside.js';
import { hazardsIn, saidByFamily, saidOfImages, withLeftBehind, withTakenAlong, type Drop } from './plan-hazards.js';
import type { Sites } from '../staging/sites.js';
import { windowFor } from '../windows.js';
import type { Durations } from './durations.js';
import { asIfIt, wayBackTarget, whyNotBack, type WayBackOf } from './plan-back.js';
import { namedWaves, refuseUnknownGates } from './plan-waves.js';
import { withMixed } from './plan-mixed.js';
import { consoleOf, spokenText } from './plan-console.js';
import { poweredText, powerOf } from './plan-power.js';
import { otherThanHouse, refuseTooLong, windowOfHour } from './plan-windows.js';

/** Parents of parents, at most. */
const deepest = 8;

/** How long is waited after a wave, when nobody says. */
const usualSoakSeconds = 600;

/** What a step brings with it, in words. */
const noticesOf = ({ resets, notices }: PathStep): string[] => [
  ...(resets.length > 0 ? [`${resets.join(' and ')} are reset`] : []),
  ...notices,
];

/** The part of a version path that one run can take: every leg by a way of the family, up to where that ends. */
interface Passable {
  readonly legs: WayLeg[];
  readonly notices: string[];
  /** What its images reset, and what there is no more afterwards. */
  readonly resets: string[];
  readonly ends: string[];
  readonly needs: { readonly leg: number; readonly device: string }[];
  /** Models that are not served any more after a leg, by family. */
  readonly drops: Drop[];
  /** Why it goes no further; null when it leads to the end. */
  readonly stops: string | null;
}

/** `brings`: whether a device is planned to take an image in the same rollout. */
function passable(
  family: Family,
  path: readonly PathStep[],
  packages: ReadonlySet<string>,
  brings: (device: string, image: string) => boolean,
): Passable {
  const legs: WayLeg[] = [];
  const notices: string[] = [];
  const resets: string[] = [];
  const ends: string[] = [];
  const needs: { leg: number; device: string }[] = [];
  const drops: Drop[] = [];
  for (const step of path) {
    const { image } = step;
    const stops = (why: string): Passable => ({
      legs,
      notices,
      resets,
      ends,
      drops,
      needs: needs.filter((n) => n.leg < legs.length),
      stops: why,
    });
    if (step.on !== null) {
      if (!brings(step.on.id, image.sha256)) return stops(`${step.on.name} has to take ${image.file} first: plan it in the same rollout`);
      if (!needs.some((n) => n.device === step.on!.id)) {
        needs.push({ leg: legs.length, device: step.on.id });
        notices.push(`waits for ${step.on.name}, which has to take ${image.file} first`);
      }
      continue;
    }
    const way = image.family === family.family ? wayOf(family, image.component, step.from) : null;
    if (!way) {
      if (family.ways.some((w) => image.family === family.family && w.component === image.component))
        return stops(`${image.file} is taken from ${step.from} by none of the ways of ${family.title}`);
      const what = image.component === 'system' ? `family ${image.family}` : `a ${image.component.replaceAll('-', ' ')}`;
      return stops(`${image.file} is of ${what}, which Barrow cannot install yet`);
    }
    if (packages.has(image.sha256) && family.travel?.how === 'device-pulls')
      return stops(`${image.file} is a release of several files, which Barrow cannot install yet`);
    const { sha256, component, version, bytes } = image;
    for (const { family: of, models } of image.drops)
      if (of !== undefined) drops.push({ leg: legs.length, family: of, models: models ?? null });
    const removes = [...new Set(image.drops.flatMap((d) => d.services ?? []))];
    legs.push({
      ...{ image: sha256, component, from: step.from, to: version, bytes, way },
      ...(step.resets.length > 0 ? { resets: step.resets } : {}),
      ...(removes.length > 0 ? { removes } : {}),
    });
    resets.push(...step.resets);
    ends.push(...image.drops.map((d) => `${d.what}${d.models ? ` (${d.models.join(', ')})` : ''}`));
    notices.push(...noticesOf(step).map((n) => (path.length > 1 ? `${version}: ${n}` : n)));
  }
  return { legs, notices: [...new Set(notices)], resets, ends, drops, needs, stops: null };
}

/** A leg with the image of the version before, where its way can use one. */
async function withEarlier(devices: Devices, known: KnownDevice, leg: WayLeg): Promise<WayLeg> {
  if (leg.component !== 'system' || !leg.way.recovery?.includes('earlier-image')) return leg;
  const image = await devices.imageBack(known, leg.to, leg.from);
  return image === null ? leg : { ...leg, earlier: { image: image.sha256, bytes: image.bytes } };
}

/** Why what fails cannot be taken back, for those versions of which that is so. */
function withoutWayBack({ legs, rungs }: Passage, family: Family): string[] {
  const why = new Map<string, string[]>();
  legs.forEach(({ component, from, to, way }, leg) => {
    if (rungs.some((r) => r.leg === leg && r.takes)) return;
    const recovery = wayNamed(family, component, way)?.recovery ?? [];
    const reason = recovery.includes('earlier-image')
      ? `the store has no image of ${from} that may be taken after ${to}`
      : 'its family names no way';
    why.set(reason, [...(why.get(reason) ?? []), to]);
  });
  return [...why].map(([reason, versions]) => `one way: if ${versions.join(' or ')} fails, Barrow cannot take it back: ${reason}`);
}

/** For each device of a plan, the names of the others that hang on it. */
function carriedBy(candidates: readonly Candidate[]): Map<string, string[]> {
  const planned = new Set(candidates.map((c) => c.device));
  const carried = new Map<string, string[]>();
  for (const { device, name, under } of candidates)
    for (const above of under)
      if (above !== device && planned.has(above)) {
        const names = carried.get(above);
        if (names) names.push(name);
        else carried.set(above, [name]);
      }
  return carried;
}

function noticeOfCarrying(names: readonly string[] | undefined): string[] {
  if (!names) return [];
  const some = names.length <= 4 ? names.join(', ') : `${names.slice(0, 3).join(', ')} and ${names.length - 3} more`;
  return [`carries ${some}: it goes down only while ${names.length === 1 ? 'that one is not' : 'none of them is'} being written`];
}

/**
 * What a device would lose by its image, and what goes in the same rollout, goes before it: old access points before the release of
 * their controller that serves them no more.
 */
function dropped(
  planned: readonly Candidate[],
  dropping: ReadonlyMap<string, Passable['drops']>,
  known: ReadonlyMap<string, KnownDevice>,
): Candidate[] {
  const below = new Map<string, Candidate[]>();
  for (const one of planned) {
    const parent = known.get(one.device)!.row.parent;
    if (parent === null || !dropping.has(parent)) continue;
    const list = below.get(parent);
    if (list) list.push(one);
    else below.set(parent, [one]);
  }
  return planned.map((one) => {
    const lost = (dropping.get(one.device) ?? []).flatMap(({ leg, family, models }) =>
      (below.get(one.device) ?? [])
        .filter((c) => c.family === family && (models === null || models.includes(known.get(c.device)!.row.model ?? '')))
        // Who waits for it cannot go before it.
        .filter((c) => !c.needs?.some((n) => n.device === one.device))
        .map((c) => ({ leg, device: c.device, name: c.name })),
    );
    if (lost.length === 0) return one;
    const names =
      lost
        .slice(0, 3)
        .map((l) => l.name)
        .join(', ') + (lost.length > 3 ? ` and ${lost.length - 3} more` : '');
    return {
      ...one,
      needs: [...(one.needs ?? []), ...lost.map(({ leg, device }) => ({ leg, device }))],
      notices: [...(one.notices ?? []), `waits for ${names}, which it serves no more afterwards as they are`],
    };
  });
}

/** In an order in which a device comes after the one through which it is managed. */
function parentsFirst(devices: readonly KnownDevice[]): KnownDevice[] {
  const known = new Map(devices.map((d) => [d.row.id, d]));
  const done = new Set<KnownDevice>();
  const visit = (one: KnownDevice, above: number): void => {
    const parent = one.row.parent === null ? undefined : known.get(one.row.parent);
    // However a record may go round in a circle.
    if (parent && above < deepest && !done.has(parent)) visit(parent, above + 1);
    done.add(one);
  };
  for (const one of devices) visit(one, 0);
  return [...done];
}

/** @throws Refusal naming those that would wait for each other */
function madeOrRefused(request: PlanRequest): Plan {
  try {
    return makePlan(request);
  } catch (error) {
    if (!(error instanceof NeedsInCircle)) throw error;
    throw new Refusal(
      422,
      'needs-in-circle',
      'These devices cannot be planned together',
      `None could begin: ${error.message}.`,
      'Plan one of them alone first, then the others.',
    );
  }
}

/** The files of the families by which these are handled, and of those through which they are. */
async function familyTextsOf(context: Context, devices: Devices, candidates: readonly Candidate[]): Promise<Record<string, string>> {
  const parents = [...new Set(candidates.flatMap((c) => [c.via ?? [], c.power?.device ?? [], c.console?.device ?? []].flat()))];
  const through = (await Promise.all(parents.map((id) => devices.get(id)))).map((d) => d.row.family);
  const used = new Set([...candidates.map((c) => c.family), ...through]);
  return Object.fromEntries([...context.familyTexts].filter(([family]) => used.has(family)));
}

/** None of those that were meant can be planned. */
export class NothingToPlan extends Refusal {
  constructor(readonly leftOut: Plan['leftOut']) {
    super(
      422,
      'nothing-to-do',
      'There is nothing to plan',
      leftOut.length > 0
        ? `None of these devices can be upgraded: ${leftOut
            .slice(0, 3)
            .map((l) => `${l.name}: ${l.reason}`)
            .join('; ')}${leftOut.length > 3 ? ` and ${leftOut.length - 3} more` : ''}.`
        : 'No device is behind its target.',
      '`barrow standing` shows every device against its target; `barrow target set` sets one.',
    );
  }
}

/** Where its console is plugged in stays up for it, as all that it needs to come back. */
const besideAnd = (known: Pick<Candidate, 'needsUp' | 'radio'>, server: string | undefined): Pick<Candidate, 'needsUp' | 'radio'> =>
  server === undefined ? known : { ...known, needsUp: [...new Set([...(known.needsUp ?? []), server])] };

/** What nobody has seen work goes to one device of each model first; the others need that one verified. */
function afterTheFirst(candidates: readonly Candidate[], modelOf: (c: Candidate) => string | null): Candidate[] {
  const first = new Map<string, string>();
  const keyOf = (c: Candidate): string => JSON.stringify([c.family, modelOf(c)]);
  for (const c of candidates) if (c.unproven && !c.needs?.length && !first.has(keyOf(c))) first.set(keyOf(c), c.device);
  return candidates.map((c) => {
    const device = c.unproven ? first.get(keyOf(c)) : undefined;
    return device === undefined || device === c.device ? c : { ...c, needs: [...(c.needs ?? []), { leg: 0, device }] };
  });
}

/** Makes a plan for the devices that are meant and are behind their target. @throws Refusal when none is. */
export async function planRollout(
  {
    context,
    devices,
    map,
    sites,
    durations,
    proven,
  }: {
    readonly context: Context;
    readonly devices: Devices;
    readonly map: MapService;
    readonly sites: Sites;
    readonly durations: Durations;
    readonly proven: Proven;
  },
  asked: PlanInput,
  by: string,
  back: WayBackOf | null = null,
): Promise<Plan> {
  const input = planInput.parse(asked);
  await devices.knownFilter(input);
  const nameOf = new Map<string, string>();
  const named = await namedWaves(devices, input.waves, nameOf);
  const byName = input.devices.length > 0 || back !== null;
  const words = input.devices.length === 0 && back ? [...back.runs.keys()] : input.devices;
  const all = await devices.list({});
  const chosen: KnownDevice[] = byName ? await Promise.all(words.map((d) => devices.get(d))) : all;
  const meant = [...new Map(chosen.map((d) => [d.row.id, d])).values()].filter(
    ({ row }) =>
      (input.site === null || row.site === input.site) &&
      (input.family === null || row.family === input.family) &&
      (input.model === null || row.model === input.model) &&
      (input.kind === null || row.kind === input.kind) &&
      (input.tag === null || row.tags.includes(input.tag)) &&
      (byName || row.retired === null),
  );
  const images = new Map((await context.db.find(ImageEntity)).map((i) => [i.sha256, i]));
  const packages = new Set([...images.values()].filter((i) => i.files.length > 1).map((i) => i.sha256));
  const leftOut: { device: string; name: string; reason: string }[] = [];
  const fit: Candidate[] = [];
  const guards = await map.guards();
  const now = Date.now();
  const window = windowFor(input.window, now);
  const siteWindows = new Map<string, PlannedWindow | null>();
  /** What the house says for a site, where the plan says nothing. */
  const windowAt = (site: string): PlannedWindow | null => {
    let found = siteWindows.get(site);
    if (found === undefined) siteWindows.set(site, (found = windowFor(sites.get(site).window, now)));
    return found;
  };
  const passages = new Map<string, Passage>();
  const learned = await durations.learned([...new Set(meant.flatMap(({ row }) => row.family ?? []))]);
  const brought = new Map<string, ReadonlySet<string>>();
  const dropping = new Map<string, Passable['drops']>();
  const feeds = await map.feedsOf();
  const rows = new Map(all.map(({ row }) => [row.id, row]));
  const beside = new Beside(all, await devices.names());
  const facts = new Map<string, RunFacts>();
  const brings = (device: string, image: string): boolean => brought.get(device)?.has(image) ?? false;
  for (const found of parentsFirst(meant)) {
    const known = back?.asIf && back.runs.has(found.row.id) ? asIfIt(found, back.runs.get(found.row.id)!.brought) : found;
    const { row } = known;
    const leave = (reason: string): void => void leftOut.push({ device: row.id, name: row.name, reason });
    const was = back?.runs.get(row.id);
    const why = back ? whyNotBack(context, known, was) : null;
    if (why !== null) {
      leave(why);
      continue;
    }
    if (row.retired !== null) {
      leave(`it was retired${row.retired.replacedBy === null ? '' : `: ${row.retired.replacedBy} took its place`}`);
      continue;
    }
    const target = was ? wayBackTarget(row.family!, was.version, back!.name) : known.target;
    const standing = was ? await devices.wayTo(known, target!) : input.down && byName ? await devices.wayDown(known) : known.standing;
    const step = standing.path?.steps[0];
    if (!step || !target || row.family === null) {
      // Who asked for all that is behind does not want to read about all that is not.
      if (byName || standing.standing === 'blocked' || standing.standing === 'unknown')
        leave(
          target?.pin
            ? target.why
            : (standing.reason ?? (standing.standing === 'at-target' ? `runs its target ${target?.version} already` : standing.standing)),
        );
      continue;
    }
    if (row.serial === null || row.firmware === null) {
      leave('its serial is not known, so that nobody could tell it from another device');
      continue;
    }
    const family = context.families.get(row.family);
    if (!family || !isUpgradable(family)) {
      leave(`family ${row.family} can be recorded, and Barrow cannot upgrade it yet`);
      continue;
    }
    const { legs, notices, resets, ends, drops, needs, stops } = passable(family, standing.path!.steps, packages, brings);
    const last = legs.at(-1);
    if (!last) {
      leave(stops!);
      continue;
    }
    // Nobody is spoken to at an address that is not its own.
    if (row.address === '' && family.travel?.how !== 'through-parent') {
      const parent = row.parent === null ? undefined : rows.get(row.parent)?.name;
      leave(
        `it has no address of its own${parent === undefined ? '' : `: it is reached only through ${parent}, and its family cannot be upgraded that way`}`,
      );
      continue;
    }
    const via = family.travel?.how === 'through-parent' ? row.parent : undefined;
    if (via === null) {
      leave('it is handled through its parent, and that is not known');
      continue;
    }
    brought.set(row.id, new Set(legs.map((l) => l.image)));
    const returnable = await Promise.all(legs.map((leg) => withEarlier(devices, known, leg)));
    const cuts = legs.some((l) => l.way.recovery?.includes('power-cycle'));
    const fed = cuts ? powerOf(row.id, { feeds, guards, rows, families: context.families }) : null;
    const power = fed && 'power' in fed ? fed.power : undefined;
    const spoken = legs.some((l) => l.way.recovery?.includes('console')) ? consoleOf(row, rows, context.families, guards) : null;
    const console = spoken && 'console' in spoken ? spoken.console : undefined;
    const key = JSON.stringify([
      row.family,
      row.model,
      ...returnable.map((l) => [l.image, l.from, l.earlier?.image]),
      !power,
      !power?.others,
      !console,
    ]);
    const passage =
      passages.get(key) ??
      makePassage(
        returnable,
        context.options.timeScale,
        input.level,
        power?.others ? 'cuts-off' : power !== undefined,
        (way, step) => learned(family.family, row.model, way, step),
        console !== undefined,
      );
    passages.set(key, passage);
    const house = windowAt(row.site);
    const open = window ?? house;
    const hour = windowOfHour(row.name, passage, legs[0]!.way, { asked: open, wayBack: input.wayBack, now });
    if (drops.length > 0) dropping.set(row.id, drops);
    facts.set(row.id, {
      resets,
      drops: ends,
      oneWay: input.wayBack ? withoutWayBack(passage, family) : [],
      backsUp: passage.steps.some((s) => s.step === 'backup'),
      leavesBehind: [],
      ...saidByFamily(family, passage),
      ...saidOfImages(legs.map((l) => images.get(l.image)!)),
    });
    fit.push({
      device: row.id,
      name: row.name,
      address: row.address,
      site: row.site,
      family: row.family,
      kind: row.kind as Kind,
      serial: row.serial,
      from: row.firmware,
      target: last.to,
      image: last.image,
      notices: [
        ...(was ? [`goes back to ${was.version}: its settings stay as they are, and the backup from before ${back!.name} is kept`] : []),
        ...(legs.length > 1
          ? [
              `${legs.map((l) => `${l.component === 'system' ? '' : `${l.component.replaceAll('-', ' ')} `}${l.to}`).join(' → ')}, each verified before the next`,
            ]
          : []),
        ...notices,
        ...(spoken === null || !input.wayBack ? [] : [spokenText(spoken)]),
        ...(fed === null || !input.wayBack ? [] : [poweredText(fed)]),
        ...(stops === null ? [] : [`it goes as far as ${last.to}, on the way to ${target.version}: ${stops}`]),
        ...(input.level && !passage.stretches.some((s) => s.afterSoak)
          ? ['it is not looked at again after the soak: its family says no way to']
          : []),
      ],
      passage,
      ...(hour ? { window: hour } : window === null && house ? { window: { name: `site ${row.site}`, window: house } } : {}),
      ...(was ? { back: true as const } : {}),
      ...(proven.is(row.family, row.model) ? {} : { unproven: true as const }),
      ...(needs.length + (was?.after.length ?? 0) > 0
        ? { needs: [...needs, ...(was?.after ?? []).map((device) => ({ leg: 0, device }))] }
        : {}),
      ...(via === undefined ? {} : { via }),
      ...(power === undefined ? {} : { power }),
      ...(console === undefined ? {} : { console }),
      under: guards.under.get(row.id) ?? [row.id],
      ...besideAnd(beside.of(row.id), console?.device),
      rings: guards.rings.get(row.id) ?? [],
      feeds: (guards.feeds.get(row.id) ?? []).map((id) => ({ device: id, of: guards.feedCount.get(id)! })),
    });
  }
  const known = new Map(meant.map((d) => [d.row.id, d]));
  const ordered = afterTheFirst(dropped(fit, dropping, known), (c) => known.get(c.device)?.row.model ?? null);
  const { candidates, facts: heeded } = withMixed(ordered, facts, { all, images, families: context.families });
  if (candidates.length === 0) throw new NothingToPlan(leftOut);
  const carried = carriedBy(candidates);
  const links = sites.linkRates();
  const versions = [...new Set(candidates.map((c) => c.target))];
  const made = madeOrRefused({
    id: newId('r'),
    name:
      input.name ??
      (back ? `back from ${back.name}` : null) ??
      `${candidates.length === 1 ? candidates[0]!.name : `${candidates.length} devices`} to ${versions.join(', ')}`,
    createdAt: Date.now(),
    createdBy: by,
    unsaved: input.unsaved,
    wayBack: input.wayBack,
    window,
    named,
    first:
      input.first ??
      (named.length > 0
        ? 0
        : pilotsOf(
            candidates.map((c) => ({
              ...{ device: c.device, name: c.name, family: c.family, site: c.site },
              model: known.get(c.device)?.row.model ?? null,
              isRemote: links[c.site] !== undefined,
            })),
          )),
    by: input.by,
    gates: Object.fromEntries(
      Object.entries(input.gates).map(([name, { soakSeconds, ...gate }]) => [
        name,
        { ...gate, ...(soakSeconds === undefined ? {} : { soakMs: soakSeconds * 1000 }) } as Partial<Gate>,
      ]),
    ),
    atOnce: input.atOnce,
    perSite: input.perSite,
    apartMs: input.apartSeconds * 1000,
    gate: {
      soakMs: (input.soakSeconds ?? usualSoakSeconds) * 1000,
      failureLimit: input.failureLimit,
      ...(input.failureShare === undefined ? {} : { failureShare: input.failureShare }),
      ...(input.absentLimit === undefined ? {} : { absentLimit: input.absentLimit }),
      approval: input.approval,
    },
    candidates: candidates.map((c) => ({ ...c, notices: [...(c.notices ?? []), ...noticeOfCarrying(carried.get(c.device))] })),
    leftOut,
    families: await familyTextsOf(context, devices, candidates),
    links,
  });
  refuseTooLong(made, Date.now());
  const plan = shortened(made, Date.now());
  refuseUnknownGates(plan, named, input.gates);
  const planned = new Set(plan.runs.map((r) => r.device));
  const absent = named.flatMap(({ name, devices: of }) =>
    of.filter((id) => !planned.has(id)).map((id) => `${nameOf.get(id)} is named for the wave ${name}, and not in this plan.`),
  );
  // A choice that has no effect is said, never dropped.
  const idle = [
    ...((input.soakSeconds ?? 0) > 0 && plan.waves.at(-1)!.gate.soakMs === 0 ? [`the soak of ${duration(input.soakSeconds! * 1000)}`] : []),
    ...(input.approval ? ['the approval'] : []),
  ];
  const here = await map.here();
  const hazards = hazardsIn(plan, all, withTakenAlong(withLeftBehind(heeded, dropping, all, planned), all, planned, context.families), {
    under: guards.under,
    placed: await map.placed(),
    here: here?.device ?? null,
    beside,
    asked: sites.asked(),
    contacts: sites.contacts(),
  });
  const remarks = [
    ...(plan.remarks ?? []),
    ...absent,
    ...otherThanHouse(window, siteWindows),
    ...(here ? [`Who cuts off whom is seen from ${here.name}, on which Barrow's own machine hangs.`] : []),
  ];
  if (plan.waves.length === 1 && idle.length > 0) {
    const remark = `${idle.join(' and ')} ${idle.length === 1 ? 'has' : 'have'} no effect: there is one wave, and nothing waits for it.`;
    remarks.push(`${remark[0]!.toUpperCase()}${remark.slice(1)}`);
  }
  return {
    ...plan,
    asked: { window: input.window, down: input.down },
    ...(hazards.length > 0 ? { hazards } : {}),
    ...(remarks.length > 0 ? { remarks } : {}),
  };
}
