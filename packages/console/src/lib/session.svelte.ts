import { BarrowClient, ProblemError, UnreachableError } from '@barrow/client';
import type { About } from '@barrow/core';

const key = 'barrow-token';

/** Who looks at the console, and the way to the service. */
export const session = $state<{ token: string | null; about: About | null }>({ token: localStorage.getItem(key), about: null });

/** The demo and `barrow serve` print an address with the token behind the hash; it never reaches a server or a log. */
export function takeTokenFromAddress(): void {
  const given = new URLSearchParams(location.hash.slice(1)).get('token');
  if (!given) return;
  signIn(given);
  history.replaceState(null, '', location.pathname + location.search);
}

export function signIn(token: string): void {
  localStorage.setItem(key, token);
  session.token = token;
}

export function signOut(): void {
  localStorage.removeItem(key);
  session.token = null;
  session.about = null;
}

export function client(): BarrowClient {
  return new BarrowClient({ url: location.origin, token: session.token ?? '' });
}

export function may(role: 'operator' | 'admin'): boolean {
  const has = session.about?.role;
  return has === 'admin' || has === role;
}

/** What went wrong, in the three parts that every page shows. */
export interface Failure {
  readonly what: string;
  readonly why: string;
  readonly next: string;
}

/** What a person typed that cannot be meant, found before it was sent. */
export class Slip extends Error {
  constructor(
    readonly what: string,
    readonly why: string,
    readonly next: string,
  ) {
    super(why);
  }
}

/** @param act what a person had asked for, as a word after "Not": `held`, `stopped`, `done` */
export function failureOf(error: unknown, act = 'done'): Failure {
  if (error instanceof Slip) return { what: error.what, why: error.why, next: error.next };
  if (error instanceof ProblemError) {
    if (error.problem.status === 401) signOut();
    return { what: error.problem.title, why: error.problem.detail, next: error.problem.next };
  }
  // What a person asked for is never tried again by itself: they must know that it was not done.
  if (error instanceof UnreachableError && error.changes)
    return {
      what: `Not ${act}: the service cannot be reached`,
      why: `${error.why}. Nothing came back, so that nobody knows that it was ${act}.`,
      next: 'It is not tried again by itself. When the connection is back, look how it stands and press again.',
    };
  if (error instanceof UnreachableError)
    return {
      what: 'The service cannot be reached',
      why: `${error.why}.`,
      next: 'It is tried again by itself. If it stays so, look whether the service runs.',
    };
  return { what: 'The console failed', why: error instanceof Error ? error.message : String(error), next: 'Load the page again.' };
}
