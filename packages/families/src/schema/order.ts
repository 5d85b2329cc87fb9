import { prove } from '@barrow/core';
import type { Family, FamilyWay } from './shape.js';

type Fault = (path: PropertyKey[], message: string) => void;

/** What comes before what, wherever a way has both. */
const order = ['preflight', 'backup', 'transfer', 'verify-image', 'activate', 'confirm-next-boot', 'reboot', 'return', 'checks'];
/** Steps that only look or wait: past them a device is as it was. */
const onlyLook = new Set(['preflight', 'backup', 'verify-image', 'confirm-next-boot', 'return', 'checks', 'settle']);
/** Procedures that have to do something. */
const acting = ['transfer', 'activate', 'reboot'] as const;

/** Ways that cannot work, whatever the device is: steps in an order that no upgrade has, and steps that nothing leads to. */
export function faultsOfOrder(way: FamilyWay, fault: Fault): void {
  const steps = Object.entries(way.stretches).flatMap(([stretch, list]) => (stretch === prove ? [] : list));
  const names = steps.map((s) => s.step);
  const known = names.filter((name) => order.includes(name));
  for (const [at, name] of known.entries()) {
    const next = known[at + 1];
    if (next !== undefined && order.indexOf(next) < order.indexOf(name))
      fault(['stretches'], `${next} comes after ${name}: it has to come before`);
  }
  const byHand = names.includes('by-hand') || way.applies !== undefined;
  const restarts = steps.some((s) => s.step === 'reboot' || (s.traits?.down === true && s.step !== 'return'));
  if (restarts && !names.includes('return'))
    fault(['stretches'], 'it restarts the device and has no step return: nothing waits until it is back');
  if (!restarts && !byHand && names.includes('activate'))
    fault(['stretches'], 'it activates an image, and nothing restarts the device: it has no step reboot, and no step says restarts');
  if (!restarts && !byHand && names.includes('return')) fault(['stretches'], 'it waits for a return, and nothing restarts the device');
  // A way in which Barrow changes nothing has no better one.
  const changes = acting.some((name) => names.includes(name));
  if (changes && onlyLook.has(way.pointOfNoReturn) && names.includes(way.pointOfNoReturn))
    fault(['pointOfNoReturn'], `${way.pointOfNoReturn} changes nothing: name the first step after which stopping would harm the device`);
}

/** Procedures that do nothing, and images for models that the family does not have. */
export function faultsOfEmptiness(family: Pick<Family, 'procedures' | 'ways' | 'models' | 'images'>, fault: Fault): void {
  const used = new Set(family.ways.flatMap((w) => Object.values(w.stretches).flatMap((list) => list.map((s) => s.step))));
  for (const name of acting)
    if (used.has(name) && family.procedures[name]?.do.length === 0)
      fault(['procedures', name, 'do'], `it does nothing, and a way has the step ${name}`);
  const models = new Set(family.models.map((m) => m.model));
  for (const [at, { models: of = [] }] of (family.images?.names ?? []).entries())
    for (const model of of)
      if (!models.has(model)) fault(['images', 'names', at, 'models'], `${model} is none of its models: ${[...models].join(', ')}`);
}
