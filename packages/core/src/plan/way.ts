import type { Bytes, Ms, Sha256 } from '../units.js';
import { traitsOf, type StepName, type StepTraits } from '../scheduler/steps.js';
import type { Passage, PlannedLeg, PlannedStep, PlannedStretch } from './plan.js';

/** One step of a way, with how long it usually takes. */
export interface WayStep {
  readonly step: StepName;
  readonly usualMs: Ms;
  /** Added for each MiB of the image. */
  readonly perMiBMs?: Ms | undefined;
  /** What is otherwise than with this verb elsewhere. */
  readonly traits?: Partial<StepTraits>;
}

/** How a device of a family takes an image of a component. */
export interface Way {
  readonly name: string;
  readonly component: string;
  readonly stretches: readonly { readonly name: string; readonly steps: readonly WayStep[] }[];
  /** From this step on, nothing interrupts the leg. */
  readonly pointOfNoReturn: StepName;
  /** It is handled through another device: of its kind, so many at once. */
  readonly throughParent?: { readonly most: number };
}

/** One image on the way of a run, and how it is taken. */
export interface WayLeg {
  readonly image: Sha256;
  readonly component: string;
  readonly from: string;
  readonly to: string;
  readonly bytes: Bytes;
  readonly way: Way;
}

const mebibyte = 1024 * 1024;

/**
 * The passage of a run: the steps of one leg after those of another, each leg past its return and back. Durations are in our
 * time, which a demo device's runs faster than by `timeScale`.
 */
export function makePassage(legs: readonly WayLeg[], timeScale = 1): Passage {
  const steps: PlannedStep[] = [];
  const stretches: PlannedStretch[] = [];
  const planned: PlannedLeg[] = [];
  legs.forEach(({ way, bytes, image, component, from, to }, leg) => {
    planned.push({ image, component, from, to, way: way.name });
    let past = false;
    for (const { name, steps: taken } of way.stretches) {
      const begins = steps.length;
      const wasPast = past;
      for (const { step, usualMs, perMiBMs = 0, traits } of taken) {
        past ||= step === way.pointOfNoReturn;
        const typicalMs = Math.round((usualMs + (perMiBMs * bytes) / mebibyte) / timeScale);
        steps.push({ step, leg, typicalMs, ...traitsOf(step), ...traits, pastReturn: past });
      }
      const last = stretches[stretches.length - 1];
      const ofParent = way.throughParent && partOfParent(taken, way.throughParent.most);
      // What lies past the point of no return is never left.
      if (wasPast && last) {
        const both = { ...last.ofParent, ...ofParent };
        stretches[stretches.length - 1] = { ...last, to: steps.length, ...(Object.keys(both).length > 0 ? { ofParent: both } : {}) };
      } else stretches.push({ name, from: begins, to: steps.length, ...(ofParent ? { ofParent } : {}) });
    }
  });
  return { legs: planned, steps, stretches };
}

/** What a stretch uses of the device through which it is handled: its storage while an image comes there, a place while a device is down. */
function partOfParent(steps: readonly WayStep[], most: number): PlannedStretch['ofParent'] {
  const all = steps.map(({ step, traits }) => ({ step, ...traitsOf(step), ...traits }));
  const storage = all.some((s) => s.writes && !s.down && s.step === 'transfer');
  const down = all.some((s) => s.down);
  return storage || down ? { ...(storage ? { storage: true } : {}), ...(down ? { most } : {}) } : undefined;
}
