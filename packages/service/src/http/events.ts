import { streamSSE } from 'hono/streaming';
import type { Context as HonoContext } from 'hono';
import type { LiveEvent } from '@barrow/core';
import type { Live } from '../live.js';
import type { Journal } from '../runner/journal.js';
import type { Env } from './auth.js';

/** A listener that is further behind is cut off; it resumes by the number it had last. */
const longestQueue = 5000;
const resumePage = 1000;
/** A line is sent at least this often, so that a listener knows that it is still told everything. */
const heartbeatMs = 10_000;
/** A listener that takes nothing for so long is cut off. */
const longestStallMs = 30_000;

export interface Ends {
  /** The service stops. */
  readonly closing: AbortSignal;
  /** The token with which it listens was removed. */
  readonly removed: AbortSignal;
}

/**
 * Server-sent events (HTML Living Standard §9.2). Entries of the journal carry their number as `id`, so that a
 * listener that comes back with Last-Event-ID misses none; everything else is true only for the moment.
 */
export function liveEvents(c: HonoContext<Env>, live: Live, journal: Journal, ends: Ends): Response {
  const last = c.req.header('last-event-id') ?? c.req.query('after');
  return streamSSE(c, async (stream) => {
    const over = new AbortController();
    const queue: LiveEvent[] = [];
    /** Lets go what waits now: for an event, or for the listener to take one. One promise each, so that nothing gathers while it listens. */
    let wake: (() => void) | null = null;
    let release: (() => void) | null = null;
    const end = (): void => {
      over.abort();
      wake?.();
      release?.();
    };
    const leave = live.listen((event) => {
      queue.push(event);
      if (queue.length > longestQueue) end();
      wake?.();
    });
    stream.onAbort(end);
    const signals = [ends.closing, ends.removed];
    for (const signal of signals)
      if (signal.aborted) end();
      else signal.addEventListener('abort', end, { once: true });
    /** Writes, and waits no longer for a listener that takes nothing. */
    const put = (write: () => Promise<unknown>): Promise<void> =>
      new Promise((resolve) => {
        const late = setTimeout(end, longestStallMs);
        release = (): void => {
          clearTimeout(late);
          release = null;
          resolve();
        };
        write()
          .catch(end)
          .finally(() => release?.());
      });
    const alive = setInterval(() => void stream.write(': still here\n\n').catch(end), heartbeatMs);
    const send = (event: LiveEvent): Promise<void> =>
      put(() => stream.writeSSE({ data: JSON.stringify(event), ...(event.kind === 'journal' ? { id: String(event.entry.seq) } : {}) }));
    try {
      let told = last !== undefined && /^\d+$/.test(last) ? Number(last) : journal.last;
      await put(() => stream.writeSSE({ event: 'hello', data: JSON.stringify({ journal: told }), id: String(told) }));
      while (!over.signal.aborted) {
        const page = await journal.after(told, resumePage);
        for (const entry of page) if (!over.signal.aborted) await send({ kind: 'journal', entry });
        told = page.at(-1)?.seq ?? told;
        if (page.length < resumePage) break;
      }
      while (!over.signal.aborted) {
        const event = queue.shift();
        if (!event) {
          await new Promise<void>((resolve) => (wake = resolve));
          wake = null;
          continue;
        }
        // What was read from the journal while catching up is not told twice.
        if (event.kind === 'journal') {
          if (event.entry.seq <= told) continue;
          told = event.entry.seq;
        }
        await send(event);
      }
    } finally {
      clearInterval(alive);
      leave();
      for (const signal of signals) signal.removeEventListener('abort', end);
      // Who was cut off must notice it: what lies in the socket is not waited for.
      (c.env as unknown as { outgoing?: { destroy(): void } } | undefined)?.outgoing?.destroy();
    }
  });
}
