import {
  duration,
  makePlan,
  planInput,
  stepNames,
  type Candidate,
  type Ms,
  type PathStep,
  type Plan,
  type PlanInput,
  type StepName,
} from '@barrow/core';
import { isUpgradable, type UpgradableFamily } from '@barrow/families';
import type { Context } from '../context.js';
import { ImageEntity } from '../data/entities.js';
import { newId } from '../data/seal.js';
import type { Devices, KnownDevice } from '../devices/devices.js';
import { Refusal } from '../errors.js';
import type { MapService } from '../map/map.js';

/** How long is waited after the first wave, when nobody says. */
const usualSoakSeconds = 600;

const mebibyte = 1024 * 1024;

/** Usual durations of each step for an image of this size, in our time. */
export function typicalDurations(family: UpgradableFamily, bytes: number, timeScale: number): Record<StepName, Ms> {
  const { durations } = family;
  return Object.fromEntries(
    stepNames.map((step) => {
      const base = durations[step] + (step === 'transfer' ? (durations.transferPerMiB * bytes) / mebibyte : 0);
      return [step, Math.round(base / timeScale)];
    }),
  ) as Record<StepName, Ms>;
}

/** What a step brings with it, in words. */
function noticesOf(step: PathStep, steps: number, target: string): string[] {
  return [
    ...(step.resets.length > 0 ? [`${step.resets.join(' and ')} are reset`] : []),
    ...step.notices,
    ...(steps > 1 ? [`${step.image.version} is the first of ${steps} images on the way to ${target}; plan again when it is verified`] : []),
  ];
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

/** Makes a plan for the devices that are meant and are behind their target. @throws Refusal when none is. */
export async function planRollout(context: Context, devices: Devices, map: MapService, asked: PlanInput, by: string): Promise<Plan> {
  const input = planInput.parse(asked);
  await devices.knownFilter(input);
  const named = input.devices.length > 0;
  const chosen: KnownDevice[] = named ? await Promise.all(input.devices.map((d) => devices.get(d))) : await devices.list({});
  const meant = [...new Map(chosen.map((d) => [d.row.id, d])).values()].filter(
    ({ row }) => (input.site === null || row.site === input.site) && (input.family === null || row.family === input.family),
  );
  const packages = new Set((await context.db.find(ImageEntity)).filter((i) => i.files.length > 1).map((i) => i.sha256));
  const leftOut: { device: string; name: string; reason: string }[] = [];
  const candidates: Candidate[] = [];
  const guards = await map.guards();
  const durations = new Map<string, Record<StepName, Ms>>();
  for (const known of meant) {
    const { row, target } = known;
    const standing = input.down && named ? await devices.wayDown(known) : known.standing;
    const leave = (reason: string): void => void leftOut.push({ device: row.id, name: row.name, reason });
    const step = standing.path?.steps[0];
    if (!step || !target || row.family === null) {
      // Who asked for all that is behind does not want to read about all that is not.
      if (named || standing.standing === 'blocked' || standing.standing === 'unknown')
        leave(
          target?.pin
            ? target.why
            : (standing.reason ?? (standing.standing === 'at-target' ? `runs its target ${target?.version} already` : standing.standing)),
        );
      continue;
    }
    const { image } = step;
    if (row.serial === null || row.firmware === null) {
      leave('its serial is not known, so that nobody could tell it from another device');
      continue;
    }
    const family = context.families.get(row.family);
    if (!family || !isUpgradable(family)) {
      leave(`family ${row.family} can be recorded, and Barrow cannot upgrade it yet`);
      continue;
    }
    if (step.on !== null) {
      leave(`${step.on.name} has to take ${image.file} first`);
      continue;
    }
    if (image.component === 'boot-loader' || packages.has(image.sha256)) {
      leave(
        `${image.file} is ${image.component === 'boot-loader' ? 'a boot loader' : 'a release of several files'}, which Barrow cannot install yet`,
      );
      continue;
    }
    const key = `${row.family}/${image.sha256}`;
    const typicalMs = durations.get(key) ?? typicalDurations(family, image.bytes, context.options.timeScale);
    durations.set(key, typicalMs);
    candidates.push({
      device: row.id,
      name: row.name,
      address: row.address,
      site: row.site,
      family: row.family,
      serial: row.serial,
      from: row.firmware,
      // One image at a time: a version on the way is verified before the next is planned.
      target: image.version,
      image: image.sha256,
      notices: [
        ...noticesOf(step, standing.path!.steps.length, target.version),
        ...(row.armed && row.armed.version !== image.version
          ? [`it is armed: its next reset, whatever causes it, brings ${row.armed.version}`]
          : []),
      ],
      typicalMs,
      pointOfNoReturn: family.pointOfNoReturn,
      under: guards.under.get(row.id) ?? [row.id],
      rings: guards.rings.get(row.id) ?? [],
      feeds: (guards.feeds.get(row.id) ?? []).map((id) => ({ device: id, of: guards.feedCount.get(id)! })),
    });
  }
  if (candidates.length === 0)
    throw new Refusal(
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
  const carried = carriedBy(candidates);
  const versions = [...new Set(candidates.map((c) => c.target))];
  const plan = makePlan({
    id: newId('r'),
    name: input.name ?? `${candidates.length === 1 ? candidates[0]!.name : `${candidates.length} devices`} to ${versions.join(', ')}`,
    createdAt: Date.now(),
    createdBy: by,
    unsaved: input.unsaved,
    first: input.first,
    atOnce: input.atOnce,
    perSite: input.perSite,
    gate: { soakMs: (input.soakSeconds ?? usualSoakSeconds) * 1000, failureLimit: input.failureLimit, approval: input.approval },
    candidates: candidates.map((c) => ({ ...c, notices: [...(c.notices ?? []), ...noticeOfCarrying(carried.get(c.device))] })),
    leftOut,
  });
  // A choice that has no effect is said, never dropped.
  const idle = [
    ...((input.soakSeconds ?? 0) > 0 ? [`the soak of ${duration(input.soakSeconds! * 1000)}`] : []),
    ...(input.approval ? ['the approval'] : []),
  ];
  if (plan.waves.length > 1 || idle.length === 0) return plan;
  const remark = `${idle.join(' and ')} ${idle.length === 1 ? 'has' : 'have'} no effect: there is one wave, and nothing waits for it`;
  return { ...plan, remarks: [`${remark[0]!.toUpperCase()}${remark.slice(1)}.`] };
}
