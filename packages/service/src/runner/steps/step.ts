import type { Instant, Plan, PlannedLeg, PlannedRun, PlannedStep, StepName } from '@barrow/core';
import type { AskPerson, Family, ProcedureName, ProcedureResult } from '@barrow/families';
import type { Context } from '../../context.js';
import type { Said } from '../by-hand.js';
import type { Facts, StepTrace } from '../trail.js';
import type { DeviceRow, ImageRow } from '../../data/entities.js';
import type { Devices } from '../../devices/devices.js';
import type { ImageStore } from '../../images/store.js';
import type { Expected } from '../expected.js';
import type { Backups } from '../backups.js';
import type { Offers } from '../../staging/offers.js';
import type { Deliveries } from '../../staging/deliveries.js';
import type { Transfers } from '../../staging/transfers.js';
import type { Watches } from '../../staging/watch.js';
import type { Sign } from '../../touch/alive.js';
import type { Whereabouts } from '../../touch/find.js';
import type { Use } from '../../touch/procedure.js';
import type { Touch } from '../../touch/touch.js';

/** Everything that a step may use. Steps are begun only by the scheduler's word. */
export interface StepContext {
  readonly context: Context;
  readonly plan: Plan;
  readonly run: PlannedRun;
  /** The image's part of the run in which the step stands, and its place among them. */
  readonly leg: PlannedLeg;
  readonly legs: { readonly index: number; readonly all: readonly PlannedLeg[] };
  /** The steps of the leg. */
  readonly steps: readonly PlannedStep[];
  /** Whether the settings were saved before it. */
  readonly saves: boolean;
  readonly family: Family;
  /** How long the device may take to come back, in our time. */
  readonly returnMs: number;
  /** How long after its restart it may still be writing, in our time; null: its family does not say. */
  readonly writeLimitMs: number | null;
  readonly device: DeviceRow;
  readonly image: ImageRow;
  readonly images: ImageStore;
  readonly offers: Offers;
  readonly transfers: Transfers;
  readonly watches: Watches;
  readonly deliveries: Deliveries;
  readonly backups: Backups;
  readonly expected: Expected;
  readonly devices: Devices;
  /** What the earlier steps of this leg found. */
  readonly trail: {
    readonly get: (step: StepName) => StepTrace | undefined;
    /** The same of the leg that is taken back, while one is. */
    readonly ofLeg: (step: StepName) => StepTrace | undefined;
    /** What they found in an earlier attempt that went further than its preflight, and after which it was begun anew. */
    readonly earlier: (step: StepName) => StepTrace | undefined;
  };
  readonly begunAt: Instant;
  readonly signal: AbortSignal;
  /** Carries out one procedure and lets go. @throws CauseError */
  readonly once: (name: ProcedureName, given?: Readonly<Record<string, string>>) => Promise<ProcedureResult>;
  /** The same on what feeds it. @throws CauseError */
  readonly onFeeder: (name: 'cut-power' | 'give-power') => Promise<ProcedureResult>;
  /** Gives it its address again over its console, where it proves that it is the one. @throws CauseError */
  readonly onConsole: () => Promise<ProcedureResult>;
  /** A text of the family file, with what is known of the device and its image put in. */
  readonly fillIn: (template: string) => Promise<string>;
  /** What is known to hang on it, or it on: for who looks whom an upgrade may have cut off. */
  readonly around: (device: string) => Promise<readonly AroundIt[]>;
  /** Of the other devices those that are being changed now, or were and came to no good end, each with that in words. */
  readonly troubled: (except: string) => ReadonlyMap<string, string>;
  /** Looks for it at other addresses of its network, where it proves by its serial that it is the one; from then on it is there. */
  readonly lookElsewhere: () => Promise<(Whereabouts & { readonly was: string }) | null>;
  /** Whether it answers, by whatever it answers; one that is handled through another tells by its record only. */
  readonly alive: (timeoutMs: number, retries: number) => Promise<Sign>;
  /** Looks by which SNMP credential it answers now, where its image takes one away; that one is kept. */
  readonly askAnew: () => Promise<void>;
  /** Waits for the person who does what the step asks for. */
  readonly byHand: () => Promise<Said>;
  /** Asks whoever looks after the rollout. @throws LeftUnanswered */
  readonly askPerson: AskPerson;
  /** Tells what is waited for that is none of the device's doing; null: nothing any more. */
  readonly delayed: (why: string | null) => void;
  /** Tells how far it is, in percent. */
  readonly tell: (percent: number) => void;
  /** Logs in when it is first needed; the session is closed and its conversation kept when the step ends. */
  readonly login: (more?: Use) => Promise<Touch>;
}

/** One that a link, a feed or a parent leads to, and by which port of whom is asked. */
export interface AroundIt {
  readonly device: string;
  readonly name: string;
  readonly mac: string | null;
  readonly port: string | null;
}

/** How a step ended well. `skip`: there is nothing to do on this device; `skip-leg`: this image is behind it; `proven`: so it is, and all is as it was to be. */
export type StepResult =
  | { readonly kind: 'done'; readonly facts?: Facts }
  | { readonly kind: 'skip'; readonly reason: string }
  | { readonly kind: 'skip-leg'; readonly reason: string }
  | { readonly kind: 'proven'; readonly reason: string; readonly facts?: Facts };

/** Carries out one step. @throws CauseError with the named reason. */
export type Step = (context: StepContext) => Promise<StepResult>;
