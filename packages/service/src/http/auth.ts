import { createHash, randomBytes } from 'node:crypto';
import { setMaxListeners } from 'node:events';
import { createMiddleware } from 'hono/factory';
import { roles, type AuditChange, type Role } from '@barrow/core';
import type { Context } from '../context.js';
import { isNoRoom } from '../data/database.js';
import { DeedEntity, TokenEntity, type TokenRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { Refusal } from '../errors.js';

export interface Who {
  readonly name: string;
  readonly role: Role;
  /** The id of the token. */
  readonly token: string;
}
/**
 * What the audit log keeps of a request: that something was changed, that a secret was shown, or nothing. `tried`: something was sent to
 * a device, so the entry is kept also when the request failed.
 */
export type Deed = 'change' | 'shown' | 'tried' | 'nothing';
/** What the audit log says of a request besides who and when. */
export interface Audited {
  readonly subject: string | null;
  readonly changes: readonly AuditChange[];
}
export type Env = { Variables: { who: Who; deed: Deed | undefined; audited: Audited | undefined } };

/** The last use of a token is written down at most this often. */
const lastUsedEvery = 60_000;

const digest = (token: string): string => createHash('sha256').update(token).digest('hex');

/** Access tokens: 256 random bits each, kept as digests only. */
export class Tokens {
  readonly #byDigest = new Map<string, TokenRow>();
  readonly #removals = new Map<string, AbortController>();

  constructor(private readonly context: Context) {}

  async load(): Promise<void> {
    this.#byDigest.clear();
    for (const row of await this.context.db.find(TokenEntity)) this.#byDigest.set(row.digest, row);
  }

  /** Makes a token; its text is told once and nowhere kept. @throws Refusal when the name is taken. */
  async add(name: string, role: Role): Promise<{ row: TokenRow; text: string }> {
    if ([...this.#byDigest.values()].some((t) => t.name === name))
      throw new Refusal(
        409,
        'token-name-taken',
        'The token was not made',
        `There is a token "${name}" already.`,
        'Choose another name, or remove that token first.',
      );
    const text = `barrow_${randomBytes(32).toString('base64url')}`;
    const row: TokenRow = { id: newId('k'), name, role, digest: digest(text), createdAt: Date.now(), lastUsed: null };
    await this.context.db.write(async (em) => em.insert(TokenEntity, row));
    this.#byDigest.set(row.digest, row);
    return { row, text };
  }

  async remove(row: TokenRow): Promise<void> {
    await this.context.db.write(async (em) => em.nativeDelete(TokenEntity, { id: row.id }));
    this.#byDigest.delete(row.digest);
    this.#removals.get(row.id)?.abort();
    this.#removals.delete(row.id);
  }

  /** Ends when a token is removed: what was opened with it is closed at once. */
  removal(token: string): AbortSignal {
    const known = this.#removals.get(token) ?? new AbortController();
    this.#removals.set(token, known);
    setMaxListeners(0, known.signal);
    return known.signal;
  }

  list(): TokenRow[] {
    return [...this.#byDigest.values()].sort((a, b) => a.createdAt - b.createdAt);
  }

  who(header: string | undefined): Who | null {
    const text = header?.replace(/^Bearer /, '');
    // Looking up a digest tells nothing by its timing about the token.
    const row = text ? this.#byDigest.get(digest(text)) : undefined;
    if (!row) return null;
    const now = Date.now();
    if (now - (row.lastUsed ?? 0) > lastUsedEvery)
      this.context.db
        .write(async (em) => em.nativeUpdate(TokenEntity, { id: row.id }, { lastUsed: now }))
        .catch((error: unknown) => this.context.log.error({ error }, 'last use of a token not kept'));
    row.lastUsed = now;
    return { name: row.name, role: row.role, token: row.id };
  }
}

/** Refuses requests without a known token, and keeps who changed what. */
export function authenticate(context: Context, tokens: Tokens) {
  return createMiddleware<Env>(async (c, next) => {
    const who = tokens.who(c.req.header('authorization'));
    if (!who)
      throw new Refusal(
        401,
        'token-refused',
        'Not let in',
        c.req.header('authorization') ? 'The token is not known to this service.' : 'The request has no token.',
        'Give the token of this service: --token, BARROW_TOKEN, or --data with the folder of the service on this machine.',
      );
    c.set('who', who);
    await next();
    const deed = c.get('deed') ?? (['GET', 'HEAD', 'OPTIONS'].includes(c.req.method) ? 'nothing' : 'change');
    // What was refused has changed nothing.
    if (deed === 'nothing' || (deed !== 'tried' && c.res.status >= 400)) return;
    const row = {
      at: Date.now(),
      who: who.name,
      role: who.role,
      method: c.req.method,
      path: new URL(c.req.url).pathname,
      status: c.res.status,
      detail: c.get('audited') ?? null,
    };
    // What was changed is changed already: its entry is written as soon as there is room again, and nobody waits for that.
    await context.db
      .write(async (em) => em.insert(DeedEntity, row as never))
      .catch((error: unknown) => {
        if (!isNoRoom(error)) throw error;
        void context.db
          .writeSurely(async (em) => em.insert(DeedEntity, row as never))
          .catch((late: unknown) => context.log.error({ error: late, deed: row }, 'an audit entry was lost when the service stopped'));
      })
      .catch((error: unknown) => context.log.error({ error, deed: row }, 'an audit entry was not written'));
  });
}

/** Lets only those on whose role is high enough, and says what is to be kept of it. */
export function mayDo(role: Role, deed: Deed) {
  return createMiddleware<Env>(async (c, next) => {
    need(c.get('who'), role);
    c.set('deed', deed);
    await next();
  });
}

/** Refuses those whose role is below the one needed. */
export function need(who: Who, role: Role): void {
  if (roles.indexOf(who.role) < roles.indexOf(role))
    throw new Refusal(
      403,
      'role-too-low',
      'Not allowed',
      `This needs the role ${role}; ${who.name} is ${who.role}.`,
      'Ask somebody with that role, or use their token.',
    );
}
