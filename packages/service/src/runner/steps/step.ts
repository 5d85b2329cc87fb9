import type { Instant, Plan, PlannedRun, StepName } from '@barrow/core';
import type { UpgradableFamily } from '@barrow/families';
import type { Context } from '../../context.js';
import type { DeviceRow, ImageRow } from '../../data/entities.js';
import type { Devices } from '../../devices/devices.js';
import type { ImageStore } from '../../images/store.js';
import type { Backups } from '../backups.js';
import type { Offers } from '../../staging/offers.js';
import type { Deliveries } from '../../staging/deliveries.js';
import type { Transfers } from '../../staging/transfers.js';
import type { Watches } from '../../staging/watch.js';
import type { DeviceSession } from '../session.js';

export type Facts = Record<string, unknown>;

/** What is remembered of a step that was begun. */
export interface StepTrace {
  readonly begunAt: Instant;
  endedAt: Instant | null;
  facts: Facts;
}

/** Everything that a step may use. Steps are begun only by the scheduler's word. */
export interface StepContext {
  readonly context: Context;
  readonly plan: Plan;
  readonly run: PlannedRun;
  readonly family: UpgradableFamily;
  readonly device: DeviceRow;
  readonly image: ImageRow;
  readonly images: ImageStore;
  readonly offers: Offers;
  readonly transfers: Transfers;
  readonly watches: Watches;
  readonly deliveries: Deliveries;
  readonly backups: Backups;
  readonly devices: Devices;
  /** What the earlier steps of this passage found. */
  readonly trail: ReadonlyMap<StepName, StepTrace>;
  readonly begunAt: Instant;
  readonly signal: AbortSignal;
  /** Logs in; the session is closed and its conversation kept when the step ends. */
  readonly login: () => Promise<DeviceSession>;
}

/** How a step ended well. `skip`: there is nothing to do on this device. */
export type StepResult = { readonly kind: 'done'; readonly facts?: Facts } | { readonly kind: 'skip'; readonly reason: string };

/** Carries out one step. @throws CauseError with the named reason. */
export type Step = (context: StepContext) => Promise<StepResult>;
