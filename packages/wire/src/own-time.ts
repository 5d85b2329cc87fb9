/**
 * A clock that stands still while we do. Silence of a device says something about it only for as long as we listened: a
 * process that was starved of its processor, stopped, or on a machine that slept, has not listened. The clock is monotonic
 * (no step of the wall clock moves it), and what passes in one go beyond a few ticks is our own lateness, and not counted.
 */
const tickMs = 50;
const mostInOneGo = 4 * tickMs;

let own = 0;
let last = performance.now();
let missed = 0;
let ticking: NodeJS.Timeout | null = null;

function advance(): void {
  const now = performance.now();
  const passed = now - last;
  last = now;
  const counted = Math.min(passed, mostInOneGo);
  own += counted;
  missed += passed - counted;
}

/** Ticks from the first use on; it keeps no process alive. */
function tick(): void {
  if (ticking) return;
  last = performance.now();
  ticking = setInterval(advance, tickMs);
  ticking.unref();
}

/** Milliseconds in which this process was there to listen, from an arbitrary beginning. */
export function ownNow(): number {
  tick();
  advance();
  return own;
}

/** Milliseconds that this process missed so far. */
export function ownMissed(): number {
  ownNow();
  return missed;
}

/** A wait of our own time, which can be taken back. */
export interface OwnTimer {
  cancel(): void;
}

/**
 * Calls `done` after `ms` of our own time, and not before everything that has arrived meanwhile was heard: timers are due
 * before sockets are read, so that a busy process would else call an answer missing that lies in its buffer.
 */
export function ownTimeout(done: () => void, ms: number): OwnTimer {
  const end = ownNow() + ms;
  let cancelled = false;
  let timer: NodeJS.Timeout;
  const heard = (): void => {
    if (!cancelled) done();
  };
  const look = (): void => {
    const left = end - ownNow();
    if (left > 0.5) timer = setTimeout(look, Math.min(left, 2 ** 31 - 1));
    // Two turns: one reads the sockets, the next hands on what they led to.
    else setImmediate(() => setImmediate(heard));
  };
  timer = setTimeout(look, Math.min(ms, 2 ** 31 - 1));
  return {
    cancel: () => {
      cancelled = true;
      clearTimeout(timer);
    },
  };
}

/** Waits `ms` of our own time; ends early, without a word, when it is aborted. */
export function ownPause(ms: number, signal?: AbortSignal): Promise<void> {
  return new Promise((resolve) => {
    if (signal?.aborted) return resolve();
    const end = (): void => {
      timer.cancel();
      signal?.removeEventListener('abort', end);
      resolve();
    };
    const timer = ownTimeout(end, ms);
    signal?.addEventListener('abort', end, { once: true });
  });
}
