import { z } from 'zod';
import type { Plan } from '../plan/plan.js';
import { closedObject } from '../text/closed.js';
import { moment, sha256Text } from './common.js';
import { planInput, type PlanInput } from './shapes.js';
import { windowInput } from './windows.js';

const { name: planName, waves, gates, atOnce, perSite, apartSeconds, unsaved, wayBack, level, down } = planInput.shape;
const gate = gates.unwrap().valueType;

/** A plan as a file: who in which wave, under which limits, and what it brought each of them. Devices are known again by their serial. */
export const planFile = closedObject({
  barrowPlan: z.literal(1),
  name: planName.unwrap(),
  madeAt: moment,
  madeBy: z.string(),
  waves: z
    .array(
      closedObject({
        name: waves.unwrap().element.shape.name,
        gate,
        devices: z
          .array(
            closedObject({ device: z.string(), serial: z.string(), from: z.string(), target: z.string(), images: z.array(sha256Text) }),
          )
          .min(1)
          .max(20_000),
      }),
    )
    .min(1)
    .max(50),
  atOnce,
  perSite,
  apartSeconds,
  unsaved,
  wayBack,
  level,
  down,
  window: windowInput.nullable().default(null),
});
export type PlanFile = z.output<typeof planFile>;

/**
 * A plan as a file.
 * @param moment the text of a moment
 * @returns null for a plan of which not all is known that was asked for: a way back, or one made by an earlier Barrow
 */
export function planFileOf(plan: Plan, moment: (at: number) => string): PlanFile | null {
  if (!plan.asked || plan.runs.some((r) => r.back)) return null;
  return {
    barrowPlan: 1,
    name: plan.name,
    madeAt: moment(plan.createdAt),
    madeBy: plan.createdBy,
    waves: plan.waves.map(({ name, gate: { soakMs, watch: _, ...rest } }, wave) => ({
      name,
      gate: { soakSeconds: Math.round(soakMs / 1000), ...rest },
      devices: plan.runs
        .filter((r) => r.wave === wave)
        .map((r) => ({
          device: r.name,
          serial: r.serial,
          from: r.from,
          target: r.target,
          images: plan.passages[r.passage]!.legs.map((leg) => leg.image),
        })),
    })),
    ...limitsAsked(plan),
    wayBack: plan.wayBack,
    level: plan.passages.some((p) => p.stretches.some((s) => s.afterSoak)),
    down: plan.asked.down,
  };
}

/** Under which limits a plan was asked for, as far as it tells. */
export function limitsAsked(plan: Plan): Pick<PlanFile, 'atOnce' | 'perSite' | 'apartSeconds' | 'unsaved' | 'window'> {
  const limits = Object.entries(plan.capacity);
  return {
    atOnce: plan.capacity[`rollout:${plan.id}`] ?? planInput.shape.atOnce.parse(undefined),
    perSite: limits.find(([key]) => key.startsWith('site:'))?.[1] ?? 0,
    apartSeconds: Math.round((Object.entries(plan.spacing ?? {}).find(([key]) => key.startsWith('apart:'))?.[1] ?? 0) / 1000),
    unsaved: plan.unsaved,
    window: windowInput.nullable().parse(plan.asked?.window ?? null),
  };
}

/** What is asked for to plan anew what a file says, for those of it that are still known. */
export const inputOfFile = (file: PlanFile, isKnown: (serial: string) => boolean): PlanInput => ({
  name: file.name,
  devices: file.waves.flatMap((w) => w.devices.map((d) => d.serial)).filter(isKnown),
  waves: file.waves
    .map(({ name, devices }) => ({ name, devices: devices.map((d) => d.serial).filter(isKnown) }))
    .filter((w) => w.devices.length > 0),
  first: 0,
  gates: Object.fromEntries(file.waves.filter((w) => w.devices.some((d) => isKnown(d.serial))).map((w) => [w.name, w.gate])),
  atOnce: file.atOnce,
  perSite: file.perSite,
  apartSeconds: file.apartSeconds,
  unsaved: file.unsaved,
  wayBack: file.wayBack,
  level: file.level,
  down: file.down,
  window: file.window,
});

/**
 * What is otherwise in a plan than its file says, in sentences; empty: it is the same.
 * @param deviceOf which device has a serial; undefined: none that is known
 */
export function differencesFrom(file: PlanFile, plan: Plan, deviceOf: (serial: string) => string | undefined): string[] {
  const planned = new Map(plan.runs.map((r) => [r.serial, r]));
  const left = new Map(plan.leftOut.map((l) => [l.device, l.reason]));
  return file.waves.flatMap(({ name, devices }) =>
    devices.flatMap((d) => {
      const run = planned.get(d.serial);
      if (!run) {
        const device = deviceOf(d.serial);
        const why =
          device === undefined ? `no device with the serial ${d.serial} is known` : (left.get(device) ?? 'it has nothing to take');
        return [`${d.device} of the file is not in this plan: ${why}.`];
      }
      const called = run.name === d.device ? run.name : `${run.name} (${d.device} in the file)`;
      const wave = plan.waves[run.wave]!.name;
      const images = plan.passages[run.passage]!.legs.map((leg) => leg.image);
      const why = [
        ...(run.from === d.from ? [] : [`runs ${run.from}, in the file ${d.from}`]),
        ...(run.target === d.target ? [] : [`goes to ${run.target}, in the file to ${d.target}`]),
        ...(run.from === d.from && run.target === d.target && images.join() !== d.images.join()
          ? ['takes other images than in the file']
          : []),
        ...(wave === name ? [] : [`goes in the wave ${wave}, in the file in ${name}`]),
      ];
      return why.length === 0 ? [] : [`${called} ${why.join('; ')}.`];
    }),
  );
}
