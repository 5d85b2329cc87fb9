/** A request that is refused, in three parts: what happened, why, and what to do. It becomes an RFC 9457 problem. */
export class Refusal extends Error {
  constructor(
    readonly status: 400 | 401 | 403 | 404 | 409 | 413 | 422 | 500 | 503 | 507,
    readonly code: string,
    readonly title: string,
    readonly detail: string,
    readonly next: string,
  ) {
    super(`${title}: ${detail}`);
  }
}

export const notFound = (what: string, asked: string, next: string): Refusal =>
  new Refusal(404, `${what.replaceAll(' ', '-')}-unknown`, `There is no such ${what}`, `"${asked}" is not known.`, next);

/** The service cannot start; what, why and what to do, for the person at the terminal. */
export class StartFailure extends Error {
  constructor(
    readonly code:
      'port-in-use' | 'database-newer' | 'data-in-use' | 'data-unusable' | 'data-damaged' | 'key-wrong' | 'family-file' | 'sheet-folder',
    readonly what: string,
    readonly why: string,
    readonly next: string,
  ) {
    super(`${what}: ${why}`);
  }
}
