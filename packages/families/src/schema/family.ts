import { faultsOfEmptiness, faultsOfOrder } from './order.js';
import { compareVersions, describeRange, duration, meantText, prove, readVersion, type VersionScheme } from '@barrow/core';
import { faultsOfSense } from './sense.js';
import { familyShape, proceduresOf, versionsOf, type Family, type FamilyWay } from './shape.js';
import { usesShell } from './walk.js';

/** Who falls back by itself is told in time to keep what it runs, and nobody else is told. */
function faultsOfGuard({ guard, stretches }: FamilyWay, fault: (path: PropertyKey[], message: string) => void): void {
  const steps = Object.entries(stretches).flatMap(([name, list]) => (name === prove ? [] : list));
  const at = steps.findIndex((s) => s.step === 'confirm');
  if (guard === undefined)
    return at < 0 ? undefined : fault(['stretches'], 'it is told to keep what it runs, and no `guard` says when it would not');
  if (at < 0) return fault(['guard'], 'it falls back by itself, and no step confirm tells it not to');
  const back = steps.findIndex((s) => s.step === 'return');
  const needs = steps.slice(Math.max(0, back), at + 1).reduce((sum, s) => sum + s.usualMs, 0);
  if (needs > guard.reverts)
    fault(['guard', 'reverts'], `its return, checks and confirm usually take ${duration(needs)}: it would fall back before that`);
}

/** What is set aside is put back before the device is let go; what comes by itself needs no restart, and has an hour to come at. */
function faultsOfSides({ stretches, applies }: FamilyWay, fault: (path: PropertyKey[], message: string) => void): void {
  for (const [name, steps] of Object.entries(stretches)) {
    const aside = steps.findIndex((s) => s.step === 'set-aside');
    const back = steps.findIndex((s) => s.step === 'put-back');
    if (aside < 0 && back < 0) continue;
    if (aside < 0 || back < aside)
      fault(['stretches', name], 'set-aside comes before put-back in the same stretch: what is set aside there is put back there');
  }
  if (applies === undefined) return;
  const steps = Object.values(stretches).flat();
  const by = steps.find((s) => s.step === 'reboot' || s.traits?.down);
  if (by) fault(['applies'], `it takes the image at an hour of its own, and the step ${by.step} restarts it before`);
  if (!steps.some((s) => s.step === 'return'))
    fault(['applies'], 'it takes the image at an hour of its own, and no step return waits for that');
}

/** Power is cut only of who cannot be writing any more, and for as long as is said. */
function faultsOfPower(
  { recovery, writeLimit, stretches }: FamilyWay,
  fault: (path: PropertyKey[], message: string) => void,
  { travel }: Family,
): void {
  const at = recovery.indexOf('power-cycle');
  if (at < 0) return writeLimit === undefined ? undefined : fault(['writeLimit'], 'nobody reads it: `recovery` does not name power-cycle');
  const here = ['recovery', at];
  if (travel?.how === 'through-parent')
    fault(here, 'whether it answers is only told by its parent: of who may still answer the power is not cut');
  if (writeLimit === undefined)
    fault(here, '`writeLimit` is missing, which says how long it may still be writing after its restart: before that its power is not cut');
  if (
    !Object.values(stretches)
      .flat()
      .some((s) => s.step === 'return')
  )
    fault(here, 'it waits for no return after which its power could be cut');
}

/** A power-cycle cuts the outlets too, also where a restart leaves them on. */
function faultsOfKeptPower({ recovery }: FamilyWay, fault: (path: PropertyKey[], message: string) => void, { keepsPower }: Family): void {
  const at = recovery.indexOf('power-cycle');
  if (keepsPower && at >= 0)
    fault(['recovery', at], 'a power-cycle takes the power of its outlets as well: leave `power-cycle` or `keepsPower` out');
}

/** Who is spoken to over a console logs in there, shows that it is the one, and is left as it was found. */
function faultsOfConsole({ recovery }: FamilyWay, fault: (path: PropertyKey[], message: string) => void, family: Family): void {
  const at = recovery.indexOf('console');
  if (at < 0) return;
  const here = ['recovery', at];
  if (family.travel?.how === 'through-parent') fault(here, 'it has no address of its own that could be given again');
  for (const needed of ['enter-console', 'give-address', 'leave-console'] as const)
    if (family.procedures[needed] === undefined)
      fault(here, `the procedure ${needed} is missing, without which nobody can give it its address again`);
  const cut = recovery.indexOf('power-cycle');
  if (cut >= 0 && cut < at) fault(here, 'it comes before power-cycle: whoever can still be spoken to keeps its power');
}

/** Which of several ways is taken is decided by the version that a device runs; each can be the one, and is known by its name. */
function faultsOfChoice(family: Family, index: number, fault: (path: PropertyKey[], message: string) => void): void {
  const { name, component, from } = family.ways[index]!;
  const before = family.ways.slice(0, index).filter((w) => w.component === component);
  if (before.some((w) => w.name === name)) fault(['ways', index, 'name'], `there is a way of ${component} with this name before it`);
  if (before.some((w) => !w.from || JSON.stringify(w.from) === JSON.stringify(from)))
    fault(['ways', index, 'component'], `there is a way of ${component} before it, so that this one is never taken`);
  const scheme = versionsOf(family, component);
  const bounds = Object.entries(from ?? {});
  const unreadable = bounds.filter(([, version]) => !isReadable(scheme, version));
  for (const [key, version] of unreadable)
    fault(['ways', index, 'from', key], `${JSON.stringify(version)} is no version as the family reads them`);
  // A range that none of its own bounds lies in, nor what is between them, has no version.
  const { atLeast, above, below, upTo } = from ?? {};
  const [low, high] = [atLeast ?? above, below ?? upTo];
  if (unreadable.length > 0 || low === undefined || high === undefined) return;
  const order = compareVersions(scheme, low, high);
  if (order > 0 || (order === 0 && (atLeast === undefined || upTo === undefined)))
    fault(['ways', index, 'from'], `no version is ${describeRange(from!)}: it is never taken`);
}

const isReadable = (scheme: VersionScheme, version: string): boolean => {
  try {
    return readVersion(scheme, version).text !== '';
  } catch {
    return false;
  }
};

/** What a family says fits together: a step of a way has its procedure; procedures say where they are carried out. */
export const familySchema = familyShape.superRefine((family, context) => {
  const fault = (path: PropertyKey[], message: string): void => context.addIssue({ code: 'custom', path, message });
  if (family.ways.length > 0 && family.travel === undefined)
    fault(['travel'], 'travel is missing: it has ways, and does not say how an image comes to the device');
  if (family.travel !== undefined && family.ways.length === 0) fault(['ways'], 'ways are missing, without which nothing can be upgraded');
  for (const [index, { stretches, pointOfNoReturn, recovery }] of family.ways.entries()) {
    const steps = Object.entries(stretches).flatMap(([stretch, list]) => list.map((step, at) => ({ ...step, stretch, at })));
    for (const { step, stretch, at } of steps)
      for (const needed of proceduresOf[step]!)
        if (family.procedures[needed] === undefined)
          fault(['ways', index, 'stretches', stretch, at], `the procedure ${needed} is missing, without which there is no ${step}`);
    const names = steps.filter((s) => s.stretch !== prove).map((s) => s.step);
    const after = steps.filter((s) => s.stretch === prove);
    if (after.length > 0) {
      if (Object.keys(stretches).at(-1) !== prove) fault(['ways', index, 'stretches', prove], 'it comes after the soak, and so last');
      for (const { step, at } of after)
        if (!['settle', 'level'].includes(step))
          fault(
            ['ways', index, 'stretches', prove, at],
            `after the soak there is settle and level; ${step} would change what was verified`,
          );
      if (after[0]!.step !== 'settle') fault(['ways', index, 'stretches', prove], 'it does not begin with settle');
    }
    for (const [name, why] of [
      ['preflight', 'nobody looks whether it is the device that was planned'],
      ['checks', 'nothing is verified'],
    ] as const)
      if (!names.includes(name)) fault(['ways', index, 'stretches'], `the step ${name} is missing, without which ${why}`);
    if (names[0] !== 'preflight' && names.includes('preflight')) fault(['ways', index, 'stretches'], 'it does not begin with preflight');
    const ends = names.filter((n) => !['by-hand', 'confirm', 'put-back'].includes(n)).at(-1);
    if (ends !== 'checks' && names.includes('checks')) fault(['ways', index, 'stretches'], 'it does not end with checks');
    for (const look of [faultsOfGuard, faultsOfSides, faultsOfPower, faultsOfKeptPower, faultsOfConsole])
      look(family.ways[index]!, (path, message) => fault(['ways', index, ...path], message), family);
    for (const [at, name] of names.entries())
      if (name !== 'by-hand' && names.indexOf(name) !== at) fault(['ways', index, 'stretches'], `the step ${name} stands in it twice`);
    for (const [at, means] of recovery.entries()) {
      const here = ['ways', index, 'recovery', at];
      if (recovery.indexOf(means) !== at) fault(here, `${means} stands in it twice`);
      if (means === 'wait' && !names.includes('return')) fault(here, 'it waits for no return that could be waited for once more');
      if (means === 'restore') {
        if (family.procedures.restore === undefined)
          fault(here, 'the procedure restore is missing, without which its settings cannot be put back');
        if (!recovery.slice(0, at).some((m) => m === 'other-slot' || m === 'earlier-image'))
          fault(here, 'settings are put back only on the version by which they were saved: it comes after other-slot or earlier-image');
        if (!names.includes('backup')) fault(here, 'it saves no settings that could be put back: it has no step backup');
      }
      if (means === 'other-slot')
        for (const needed of ['fall-back', 'next-boot', 'reboot'] as const)
          if (family.procedures[needed] === undefined)
            fault(here, `the procedure ${needed} is missing, without which it cannot go back to its other slot`);
    }
    for (const { step, stretch, at } of steps)
      if (['settle', 'level'].includes(step) && stretch !== prove)
        fault(['ways', index, 'stretches', stretch, at], `${step} comes after the soak: it stands in the stretch ${prove}`);
    if (!names.includes(pointOfNoReturn))
      fault(['ways', index, 'pointOfNoReturn'], `it has no step ${pointOfNoReturn}${meantText(pointOfNoReturn, names)}`);
    faultsOfOrder(family.ways[index]!, (path, message) => fault(['ways', index, ...path], message));
    faultsOfChoice(family, index, fault);
  }
  if (family.faces?.factory && !family.ways.some((w) => w.recovery.some((means) => !['wait', 'power-cycle'].includes(means))))
    fault(['faces', 'factory'], 'nobody logs in so: no way has a rung that would');
  if (family.staging) {
    const needed = family.procedures.transfer && family.travel?.how === 'device-pulls' ? [] : (['stage', 'verify-staged'] as const);
    for (const key of needed)
      if (family.procedures[key] === undefined)
        context.addIssue({
          code: 'custom',
          path: ['procedures', key],
          message: `the procedure ${key} is missing, without which nothing can be staged`,
        });
  }
  for (const [one, other] of [
    ['cut-power', 'give-power'],
    ['give-power', 'cut-power'],
  ] as const)
    if (family.procedures[one] && !family.procedures[other])
      fault(['procedures', one], `the procedure ${other} is missing: what is switched off is switched on again`);
  for (const [key, procedure] of Object.entries(family.procedures))
    // What is carried out on a parent speaks to the parent's shell.
    if (procedure && usesShell(procedure) && family.shell === undefined && family.travel?.how !== 'through-parent')
      context.addIssue({ code: 'custom', path: ['procedures', key], message: 'it says something, and the family has no shell' });
  faultsOfEmptiness(family, fault);
  for (const { path, message } of faultsOfSense(family)) context.addIssue({ code: 'custom', path: [...path], message });
});
