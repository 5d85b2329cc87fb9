import { createRoute, z, type OpenAPIHono } from '@hono/zod-openapi';
import type { Context as HonoContext } from 'hono';
import { auditChanges, problemSchema, type AuditChange, type Role } from '@barrow/core';
import { mayDo, type Deed, type Env, type Who } from './auth.js';
import { limitedBody, usualBody } from './body.js';

type Shape = z.ZodType;
type Given<T extends Shape | undefined> = T extends Shape ? z.output<T> : undefined;

export interface Operation<P extends Shape | undefined, Q extends Shape | undefined, B extends Shape | undefined, R extends Shape> {
  readonly method: 'get' | 'post' | 'put' | 'delete';
  readonly path: string;
  readonly role: Role;
  readonly summary: string;
  readonly params?: P;
  readonly query?: Q;
  readonly body?: B;
  readonly answer: R;
  readonly status?: 200 | 201;
  /** The most octets of its body. */
  readonly mostBody?: number;
  /** What is kept of it: that something was changed, that a secret was shown, or nothing. Reading is nothing, the rest a change, unless said. */
  readonly deed?: Deed;
  /** What the audit log says of it; asked before it is carried out. Without it: what its body says. */
  readonly audit?: (given: { params: Given<P>; query: Given<Q>; body: Given<B> }) => Promise<AuditFacts>;
  readonly run: (given: { params: Given<P>; query: Given<Q>; body: Given<B>; who: Who; c: HonoContext<Env> }) => Promise<z.input<R>>;
}

/** What an operation tells the audit log. */
export interface AuditFacts {
  /** The name of what it is about; null: as its path or its answer names it. */
  readonly subject?: string | null;
  /** The values before it, under the names of its body. */
  readonly before?: Readonly<Record<string, unknown>> | null;
  /** Said besides what the body says, or in place of it. */
  readonly changes?: readonly AuditChange[];
}

/** What each operation is, by its method and what its path looks like. */
const known: { readonly method: string; readonly path: RegExp; readonly parameters: number; readonly summary: string }[] = [];

/** What a request was for, in words, and the first thing that its path names; null for a path of before. `/targets/set` is nearer than `/targets/{id}`. */
export function purposeOf(method: string, path: string): { readonly summary: string; readonly named: string | null } | null {
  const found = known.filter((k) => k.method === method && k.path.test(path)).sort((a, b) => a.parameters - b.parameters)[0];
  if (!found) return null;
  const named = found.path.exec(path)?.[1];
  return { summary: found.summary, named: named === undefined ? null : decoded(named) };
}

/** What an answer or a body calls the thing that it is about. */
function nameIn(data: unknown): string | null {
  if (typeof data !== 'object' || data === null) return null;
  for (const key of ['name', 'removed', 'deviceName', 'file'])
    if (key in data && typeof (data as Record<string, unknown>)[key] === 'string') return (data as Record<string, string>)[key]!;
  return null;
}

/** What stands in a path, decoded; as it is where it cannot be decoded. */
function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

const problem = { description: 'A problem', content: { 'application/problem+json': { schema: problemSchema } } };

/** Adds one operation: described by OpenAPI, checked on the way in and on the way out, and open only to its role. */
export function addOperation<P extends Shape | undefined, Q extends Shape | undefined, B extends Shape | undefined, R extends Shape>(
  app: OpenAPIHono<Env>,
  operation: Operation<P, Q, B, R>,
): void {
  const { method, path, role, summary, params, query, body, answer, status = 200, mostBody = usualBody, deed, audit, run } = operation;
  const pieces = path.split(/\{\w+\}/);
  known.push({
    method: method.toUpperCase(),
    path: new RegExp(`^${pieces.join('([^/]+)')}$`),
    parameters: pieces.length - 1,
    summary,
  });
  const route = createRoute({
    method,
    path,
    summary,
    description: `Needs the role ${role}.`,
    security: [{ token: [] }],
    // Who may not do it is told so before anything of the request is read.
    middleware: [mayDo(role, deed ?? (method === 'get' ? 'nothing' : 'change')), ...(body ? limitedBody(mostBody) : [])],
    request: {
      ...(params ? { params: params as never } : {}),
      ...(query ? { query: query as never } : {}),
      ...(body ? { body: { required: true, content: { 'application/json': { schema: body } } } } : {}),
    },
    responses: { [status]: { description: 'Done', content: { 'application/json': { schema: answer } } }, default: problem },
  } as never);
  app.openapi(
    route as never,
    (async (c: HonoContext<Env>) => {
      const who = c.get('who');
      const valid = c.req as unknown as { valid: (part: string) => unknown };
      const given = {
        params: (params ? valid.valid('param') : undefined) as never,
        query: (query ? valid.valid('query') : undefined) as never,
        body: (body ? valid.valid('json') : undefined) as never,
      };
      // What it is about may be gone afterwards. What is unknown is refused by the operation itself.
      const facts = c.get('deed') === 'nothing' ? null : ((await audit?.(given).catch(() => null)) ?? null);
      // Known beforehand, it is kept also of what fails after something was sent.
      if (facts?.changes) c.set('audited', { subject: facts.subject ?? null, changes: facts.changes });
      const data = await run({ ...given, who, c });
      if (c.get('deed') !== 'nothing')
        c.set('audited', {
          subject: facts?.subject ?? nameIn(data) ?? nameIn(given.body),
          changes: facts?.changes ?? auditChanges(given.body, facts?.before ?? null),
        });
      const text = JSON.stringify(answer.parse(data));
      // Its length told, what is short goes as it is.
      return c.body(text, status, { 'content-type': 'application/json', 'content-length': String(Buffer.byteLength(text)) });
    }) as never,
  );
}

/** Adds one operation that answers a file: described by OpenAPI, and open only to its role. */
export function addOctets<P extends Shape>(
  app: OpenAPIHono<Env>,
  operation: {
    readonly path: string;
    readonly role: Role;
    readonly summary: string;
    readonly params: P;
    /** The media type of the file. */
    readonly type: string;
    readonly run: (params: z.output<P>) => Promise<{ readonly octets: Uint8Array; readonly name: string }>;
  },
): void {
  const { path, role, summary, params, type, run } = operation;
  const route = createRoute({
    method: 'get',
    path,
    summary,
    description: `Needs the role ${role}.`,
    security: [{ token: [] }],
    middleware: [mayDo(role, 'nothing')],
    request: { params: params as never },
    responses: {
      200: { description: 'The file', content: { [type]: { schema: z.string().openapi({ format: 'binary' }) } } },
      default: problem,
    },
  } as never);
  app.openapi(
    route as never,
    (async (c: HonoContext<Env>) => {
      const { octets, name } = await run((c.req as unknown as { valid: (part: string) => z.output<P> }).valid('param'));
      return c.body(octets as Uint8Array<ArrayBuffer>, 200, {
        'content-type': type,
        'content-disposition': `attachment; filename="${name}"`,
      });
    }) as never,
  );
}

export const idParam = z.object({ id: z.string().min(1).max(200) });
