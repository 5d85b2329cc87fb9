import type { Bytes, Ms, Sha256 } from '../units.js';
import type { RemovedService, Resettable } from '../images/note.js';
import type { Learned } from '../rehearsal/took.js';
import { traitsOf, type StepName, type StepTraits } from '../scheduler/steps.js';
import type { Passage, PlannedLeg, PlannedRung, PlannedStep, PlannedStretch, RungMeans } from './plan.js';

/** One step of a way, with how long it usually takes. */
export interface WayStep {
  readonly step: StepName;
  readonly usualMs: Ms;
  /** Added for each MiB of the image. */
  readonly perMiBMs?: Ms | undefined;
  /** What a person is asked to do. */
  readonly words?: string;
  /** What is otherwise than with this verb elsewhere. */
  readonly traits?: Partial<StepTraits>;
}

/** How a device of a family takes an image of a component. */
export interface Way {
  readonly name: string;
  readonly component: string;
  /** `prove` is the one that comes after the soak. */
  readonly stretches: readonly { readonly name: string; readonly steps: readonly WayStep[] }[];
  /** From this step on, nothing interrupts the leg. */
  readonly pointOfNoReturn: StepName;
  /** It is handled through another device: of its kind, so many at once. */
  readonly throughParent?: { readonly most: number; /** So far apart. */ readonly apartMs?: Ms };
  /** How long a device is waited for after its restart, before it counts as lost. */
  readonly returnsWithinMs?: Ms;
  /** How long after its restart it may still be writing: before that its power is not cut. */
  readonly writeLimitMs?: Ms | undefined;
  /** A reset brings back a login that its family knows. */
  readonly resetsLogin?: boolean;
  /** What may be tried, in this order, when it fails past the point of no return. */
  readonly recovery?: readonly RungMeans[];
  /** It takes what it holds by itself, at this time of day: minutes after midnight in a time zone. */
  readonly applies?: OwnHour;
}

/** A time of day at which devices do something by themselves. */
export interface OwnHour {
  readonly at: number;
  /** Of the IANA time zone database. */
  readonly zone: string;
}

/** One image on the way of a run, and how it is taken. */
export interface WayLeg {
  readonly image: Sha256;
  readonly component: string;
  readonly from: string;
  readonly to: string;
  readonly bytes: Bytes;
  readonly way: Way;
  /** The image of the version before, where the store has it and it may be gone back to. */
  readonly earlier?: { readonly image: Sha256; readonly bytes: Bytes } | undefined;
  /** What its image resets, coming from where it starts. */
  readonly resets?: readonly Resettable[];
  /** What no longer answers after its image. */
  readonly removes?: readonly RemovedService[];
}

/** By the slot in which the version before still stands. */
const toOtherSlot = ['take-stock', 'fall-back', 'confirm-next-boot', 'reboot', 'return', 'checks'];
/** By its file, which is brought again. */
const byEarlierImage = ['take-stock', 'transfer', 'verify-image', 'activate', 'confirm-next-boot', 'reboot', 'return', 'checks'];
/** Off and on again; then it comes back as after a restart. */
const switching = ['cut-power', 'give-power'];
const switchMs: Ms = 15_000;
/** Over its console; then it is waited for. */
const speaking = ['by-console'];
const speakMs: Ms = 30_000;
/** By what was saved before; only on the version by which it was. */
const bySettings = ['take-stock', 'restore', 'checks'];
/** How long a look, or the choice of a slot, is taken to last where no step of the way tells. */
const shortMs: Ms = 5000;
/** How long it takes to log in after a reset and restore the settings. */
const setUpMs: Ms = 20_000;

/** However fast a demo device's time runs, Barrow waits at least so long for its return. */
export const shortestReturnMs: Ms = 15_000;

const mebibyte = 1024 * 1024;
/** The stretch of a way that comes after the soak. */
export const prove = 'prove';

/**
 * The passage of a run: the steps of one leg after those of another, each leg past its return and back. Durations are in our
 * time, which a demo device's runs faster than by `timeScale`.
 *
 * @param proves whether the device is looked at again, and its other copy brought level, after the soak, where its way can
 * @param learned what such a step took here before, against what the family file says
 * @param powered whether its power can be cut and given again by what feeds it; `cuts-off`: others lose theirs with it
 * @param consoled whether it can be spoken to over its console
 */
export function makePassage(
  legs: readonly WayLeg[],
  timeScale = 1,
  proves = false,
  powered: boolean | 'cuts-off' = false,
  learned: (way: string, step: StepName) => Learned | null = () => null,
  consoled = false,
): Passage {
  const steps: PlannedStep[] = [];
  const stretches: PlannedStretch[] = [];
  const planned: PlannedLeg[] = [];
  const scaled = ({ usualMs, perMiBMs = 0 }: WayStep, bytes: Bytes): Ms =>
    Math.round((usualMs + (perMiBMs * bytes) / mebibyte) / timeScale);
  const removed = new Set<RemovedService>();
  legs.forEach(({ way, bytes, image, component, from, to, resets = [], removes = [] }, leg) => {
    for (const one of removes) removed.add(one);
    planned.push({
      ...{ image, component, from, to, way: way.name },
      ...(resets.length > 0 ? { resets } : {}),
      ...(removed.size > 0 ? { removes: [...removed] } : {}),
    });
    const isSetUp = resets.includes('settings') || resets.includes('logins');
    let past = false;
    let comes = way.applies !== undefined;
    for (const { name, steps: taken } of way.stretches) {
      const afterSoak = name === prove;
      // What a leg before the last one left behind is what the next one goes back to.
      if (afterSoak && !(proves && leg === legs.length - 1)) continue;
      const begins = steps.length;
      const wasPast = past;
      for (const one of taken) {
        past ||= one.step === way.pointOfNoReturn;
        const traits = { ...traitsOf(one.step), ...one.traits };
        const ownHour = comes && traits.down && traits.waits;
        if (ownHour) comes = false;
        steps.push({
          step: one.step,
          leg,
          ...lasting(scaled(one, bytes), one.words === undefined && !ownHour ? learned(way.name, one.step) : null),
          ...traits,
          ...(one.words === undefined ? {} : { words: one.words }),
          // What its parent holds for it comes over no link any more.
          ...(one.step === 'transfer' && way.throughParent === undefined && bytes > 0 ? { octets: bytes } : {}),
          ...(ownHour ? { ownHour } : {}),
          ...(one.step === 'return' && way.returnsWithinMs !== undefined
            ? { limitMs: Math.max(shortestReturnMs, Math.round(way.returnsWithinMs / timeScale)) }
            : {}),
          pastReturn: past && !afterSoak,
        });
        if (one.step === 'return' && isSetUp)
          steps.push({
            step: 'set-up',
            leg,
            typicalMs: scaled({ step: 'set-up', usualMs: setUpMs }, 0),
            ...traitsOf('set-up'),
            pastReturn: past,
          });
      }
      const last = stretches[stretches.length - 1];
      const ofParent = way.throughParent && partOfParent(taken, way.throughParent, timeScale);
      // What lies past the point of no return is never left.
      if (wasPast && last && !afterSoak) {
        const both = { ...last.ofParent, ...ofParent };
        stretches[stretches.length - 1] = { ...last, to: steps.length, ...(Object.keys(both).length > 0 ? { ofParent: both } : {}) };
      } else
        stretches.push({
          name,
          from: begins,
          to: steps.length,
          ...(afterSoak ? { afterSoak } : {}),
          ...(ofParent ? { ofParent } : {}),
          ...(taken.every((s) => s.words !== undefined) ? { byHand: true } : {}),
        });
    }
  });
  const rungs: PlannedRung[] = [];
  const ownBegins = steps.length;
  legs.forEach(({ way, component, from, to, image, bytes, earlier }, leg) => {
    const usual = new Map(way.stretches.flatMap((s) => s.steps).map((s) => [s.step, s]));
    for (const means of way.recovery ?? []) {
      if (means === 'wait') {
        const step = steps.findIndex((s) => s.leg === leg && s.waits && s.down);
        if (step >= 0) rungs.push({ means, leg, step, stretch: stretches.findIndex((s) => step < s.to) });
        continue;
      }
      if (means === 'power-cycle' || means === 'console') {
        const back = steps.findIndex((s) => s.leg === leg && s.waits && s.down);
        const [can, own, usualMs] = means === 'console' ? [consoled, speaking, speakMs] : [powered, switching, switchMs];
        if (!can || back < 0) continue;
        const stretch = stretches.find((s) => back < s.to)!;
        const begins = steps.length;
        const again = steps.slice(back, stretch.to).map(({ ownHour: _, ...s }): PlannedStep => ({ ...s, pastReturn: true }));
        for (const step of own) steps.push({ step, leg, typicalMs: scaled({ step, usualMs }, 0), ...traitsOf(step), pastReturn: true });
        steps.push(...again);
        const { ofParent } = stretch;
        const cutsOff = means === 'power-cycle' && powered === 'cuts-off' ? { cutsOff: true as const } : {};
        stretches.push({ name: means, from: begins, to: steps.length, ...cutsOff, ...(ofParent ? { ofParent } : {}) });
        rungs.push({
          ...{ means, leg, step: begins, stretch: stretches.length - 1, joins: stretch.to },
          ...cutsOff,
          ...(means === 'console' && way.resetsLogin ? { factory: true as const } : {}),
        });
        continue;
      }
      if (means === 'earlier-image' && earlier === undefined) continue;
      const brought = means === 'earlier-image' ? earlier! : { image, bytes };
      const takes = { image: brought.image, component, from: to, to: from, way: way.name };
      const begins = steps.length;
      const taken =
        means === 'other-slot'
          ? toOtherSlot
          : means === 'restore'
            ? bySettings
            : byEarlierImage.filter((s) => s === 'take-stock' || usual.has(s));
      const own = planned.length + rungs.filter((r) => r.takes).length;
      for (const step of taken) {
        const one = usual.get(step) ?? { step, usualMs: shortMs };
        steps.push({ step, leg: own, typicalMs: scaled(one, brought.bytes), ...traitsOf(step), ...one.traits, pastReturn: true });
      }
      const { ofParent } = stretches.filter((s) => s.from < ownBegins && !s.afterSoak).at(-1)!;
      stretches.push({ name: means, from: begins, to: steps.length, ...(ofParent ? { ofParent } : {}) });
      rungs.push({
        means,
        leg,
        step: begins,
        stretch: stretches.length - 1,
        takes,
        ...(way.resetsLogin ? { factory: true as const } : {}),
      });
    }
  });
  const aside = steps.find((s) => s.sets === 'aside');
  if (aside === undefined) return { legs: planned, steps, stretches, rungs };
  const back = steps.find((s) => s.sets === 'back')!;
  const putBack = { stretch: stretches.length, step: steps.length };
  steps.push({ ...back, leg: aside.leg, pastReturn: false });
  stretches.push({ name: back.step, from: putBack.step, to: steps.length, putsBack: true });
  return { legs: planned, steps, stretches, rungs, putBack };
}

/** How long a step usually takes: by what it took before, else by the family file. */
function lasting(fileMs: Ms, learned: Learned | null): Pick<PlannedStep, 'typicalMs' | 'learned'> {
  if (learned === null) return { typicalMs: fileMs };
  const of = (permille: number): Ms => Math.round((fileMs * permille) / 1000);
  return { typicalMs: of(learned.permille), learned: { count: learned.count, mostMs: of(learned.mostPermille), fileMs } };
}

/** What a stretch uses of the device through which it is handled: its storage while an image comes there, a place while a device is down. */
function partOfParent(
  steps: readonly WayStep[],
  { most, apartMs }: NonNullable<Way['throughParent']>,
  timeScale: number,
): PlannedStretch['ofParent'] {
  const all = steps.map(({ step, traits }) => ({ step, ...traitsOf(step), ...traits }));
  const storage = all.some((s) => s.writes && !s.down && s.step === 'transfer');
  const down = all.some((s) => s.down);
  const apart = apartMs === undefined ? {} : { apartMs: apartMs / timeScale };
  return storage || down ? { ...(storage ? { storage: true } : {}), ...(down ? { most, ...apart } : {}) } : undefined;
}
