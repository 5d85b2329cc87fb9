import { streamSSE } from 'hono/streaming';
import type { Context as HonoContext } from 'hono';
import type { LiveEvent } from '@barrow/core';
import type { Live } from '../live.js';
import type { Journal } from '../runner/journal.js';
import type { Env } from './auth.js';

/** A listener that is further behind is cut off; it resumes by the number it had last. */
const longestQueue = 5000;
const resumePage = 1000;
const keepAliveMs = 15_000;

/**
 * Server-sent events (HTML Living Standard §9.2). Entries of the journal carry their number as `id`, so that a
 * listener that comes back with Last-Event-ID misses none; everything else is true only for the moment.
 */
export function liveEvents(c: HonoContext<Env>, live: Live, journal: Journal, closing: AbortSignal): Response {
  const last = c.req.header('last-event-id') ?? c.req.query('after');
  return streamSSE(c, async (stream) => {
    const queue: LiveEvent[] = [];
    let wake: (() => void) | null = null;
    let over = false;
    const end = (): void => {
      over = true;
      wake?.();
    };
    const leave = live.listen((event) => {
      queue.push(event);
      if (queue.length > longestQueue) end();
      wake?.();
    });
    stream.onAbort(end);
    closing.addEventListener('abort', end, { once: true });
    const alive = setInterval(() => {
      void stream.write(': still here\n\n').catch(end);
    }, keepAliveMs);
    const send = (event: LiveEvent): Promise<void> =>
      stream.writeSSE({ data: JSON.stringify(event), ...(event.kind === 'journal' ? { id: String(event.entry.seq) } : {}) });
    try {
      let told = last !== undefined && /^\d+$/.test(last) ? Number(last) : journal.last;
      await stream.writeSSE({ event: 'hello', data: JSON.stringify({ journal: told }), id: String(told) });
      for (;;) {
        const page = await journal.after(told, resumePage);
        for (const entry of page) await send({ kind: 'journal', entry });
        told = page.at(-1)?.seq ?? told;
        if (page.length < resumePage) break;
      }
      while (!over) {
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
      closing.removeEventListener('abort', end);
    }
  });
}
