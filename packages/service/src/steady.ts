import { uptime } from 'node:os';

/** What passes between our two clocks before it is taken for a sleep of the machine, in milliseconds. */
const noticeable = 2000;

let wall = Date.now();
let machine = uptime();
let process = performance.now();

/**
 * The time of day as it was when we began, carried on by clocks that nobody sets: a step of the wall clock moves it not at all, and
 * a machine that slept has slept in it too (`uptime` counts sleep, `performance` does not). Durations and waits are measured
 * by it, and the journal's moments are told by it, so that none is negative and none ends early.
 */
export function steadyNow(): number {
  const awake = performance.now() - process;
  const slept = (uptime() - machine) * 1000 - awake;
  return Math.round(wall + awake + (slept > noticeable ? slept : 0));
}

/** Where this time began, so that a service that is started again goes on with it. */
export interface SteadyBegin {
  readonly wall: number;
  /** How long the machine was up then, in seconds, and which start of it that was; null: it cannot be told. */
  readonly machine: number;
  readonly boot: string | null;
}
export const steadyBegin = (boot: string | null): SteadyBegin => ({ wall, machine, boot });

/**
 * Goes on with the time of a service that has ended, however the wall clock was set meanwhile: by the time of the machine, where that
 * was not started anew since; else by the wall clock, and never before what was told last.
 */
export function goOnFrom(before: SteadyBegin | null, boot: string | null, toldLast: number): void {
  if (before !== null && boot !== null && before.boot === boot && uptime() >= before.machine) {
    wall = before.wall + (uptime() - before.machine) * 1000;
    machine = uptime();
    process = performance.now();
  }
  if (steadyNow() < toldLast) wall += toldLast - steadyNow();
}

/** How far the wall clock is from it, in milliseconds. */
export const wallIsOff = (): number => Date.now() - steadyNow();

const measures: (() => boolean)[] = [];
/** While this says so, spans are being measured by it, and it begins nothing anew. */
export function whileMeasured(isMeasured: () => boolean): void {
  measures.push(isMeasured);
}

/** Begins anew with the time of day, unless something is measured. @returns whether it did */
export function resync(): boolean {
  if (measures.some((isMeasured) => isMeasured())) return false;
  wall = Date.now();
  machine = uptime();
  process = performance.now();
  return true;
}
