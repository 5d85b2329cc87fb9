import { Hono } from 'hono';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { JournalEntry } from '@barrow/core';
import type { Env } from '../src/http/auth.js';
import { liveEvents } from '../src/http/events.js';
import { Live } from '../src/live.js';
import type { Journal } from '../src/runner/journal.js';

describe('listeners of the live events', () => {
  const live = new Live();
  let listening = 0;
  const open = async (): Promise<Response> => {
    const app = new Hono<Env>();
    const journal = { last: 0, after: (): Promise<JournalEntry[]> => Promise.resolve([]) } as unknown as Journal;
    const never = new AbortController().signal;
    app.get('/', (c) => liveEvents(c, live, journal, { closing: never, removed: never }));
    return app.request('/');
  };
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout', 'setInterval', 'clearInterval'] });
    const listen = live.listen.bind(live);
    vi.spyOn(live, 'listen').mockImplementation((listener) => {
      const leave = listen(listener);
      listening++;
      return () => {
        listening--;
        leave();
      };
    });
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.restoreAllMocks();
  });

  it('are cut off when they take nothing for half a minute, five of them too; who reads stays', async () => {
    const silent = await Promise.all(Array.from({ length: 5 }, open));
    const reader = (await open()).body!.getReader();
    const heard: string[] = [];
    const reading = (async () => {
      for (let piece = await reader.read(); !piece.done; piece = await reader.read())
        heard.push(new TextDecoder().decode(piece.value as Uint8Array));
    })();
    await vi.waitUntil(() => listening === 6);
    for (let i = 0; i < 6; i++) {
      live.changed('devices', [`d-${i}`]);
      await vi.advanceTimersByTimeAsync(10_000);
    }
    await vi.waitUntil(() => listening === 1);
    expect(silent.every((r) => r.status === 200)).toBe(true);
    expect(heard.join('')).toContain('"ids":["d-5"]');
    expect(heard.join('')).toContain(': still here');
    await reader.cancel();
    await reading;
    await vi.waitUntil(() => listening === 0);
  });

  it('are cut off when too much has gathered for them', async () => {
    await open();
    await vi.waitUntil(() => listening === 1);
    for (let i = 0; i <= 5001; i++) live.changed('devices');
    await vi.waitUntil(() => listening === 0);
  });
});
