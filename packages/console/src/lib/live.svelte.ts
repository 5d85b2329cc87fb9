import type { LiveEvent } from '@barrow/core';
import { client, failureOf, session } from './session.svelte.js';

type Listener = (event: LiveEvent) => void;
type Back = () => unknown;

const listeners = new Set<Listener>();
const onBack = new Set<Back>();

/** Whether live changes arrive; the frame shows it. */
export const live = $state<{ state: 'connecting' | 'live' | 'lost'; lostSince: number | null }>({ state: 'connecting', lostSince: null });

/** Hears what happens while a page is open; `back` is called when the connection was lost and has returned. */
export function hear(listener: Listener, back?: Back): () => void {
  listeners.add(listener);
  if (back) onBack.add(back);
  return () => {
    listeners.delete(listener);
    if (back) onBack.delete(back);
  };
}

type Changed = Extract<LiveEvent, { kind: 'changed' }>['what'];

/** Loads anew a moment after one of these has changed, or after what `also` says is news, once for all that comes in it. */
export function hearChanges(of: readonly Changed[], load: () => unknown, also?: (event: LiveEvent) => unknown): () => void {
  let pending: ReturnType<typeof setTimeout> | undefined;
  const end = hear((event) => {
    const isNews = also?.(event) === true;
    if (!isNews && (event.kind !== 'changed' || !of.includes(event.what))) return;
    pending ??= setTimeout(() => {
      pending = undefined;
      load();
    }, 200);
  }, load);
  return () => {
    clearTimeout(pending);
    end();
  };
}

/** Keeps one connection for the whole console while somebody is signed in. */
export function keepListening(): () => void {
  const stop = new AbortController();
  void (async () => {
    let lost = false;
    try {
      for await (const event of client().events({
        signal: stop.signal,
        onState: (connected) => {
          live.state = connected ? 'live' : 'lost';
          live.lostSince = connected ? null : (live.lostSince ?? Date.now());
          if (connected && lost) {
            void client()
              .about()
              .then((about) => (session.about = about))
              .catch(() => undefined);
            for (const back of onBack) back();
          }
          lost = !connected;
        },
      }))
        for (const listener of listeners) listener(event);
    } catch (error) {
      failureOf(error);
    }
  })();
  return () => stop.abort();
}
