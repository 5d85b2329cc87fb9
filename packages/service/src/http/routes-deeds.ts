import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { deedsSchema, type DeedView } from '@barrow/core';
import { rfc3339 } from '../context.js';
import type { Parts } from '../parts.js';
import type { Audited, Env } from './auth.js';
import { addOperation, purposeOf } from './operation.js';

interface Deed {
  readonly id: number;
  readonly at: number;
  readonly who: string;
  readonly role: string;
  readonly method: string;
  readonly path: string;
  readonly detail: string | null;
}

/** Who did what: every change that was asked for and done, and every secret that was shown. */
export function deedRoutes(app: OpenAPIHono<Env>, { context: { db } }: Parts): void {
  /** How what a path names is called, where it is a device, a rollout or an image. */
  const namesIn = async (deeds: readonly Deed[]): Promise<ReadonlyMap<string, string>> => {
    const ids = [...new Set(deeds.flatMap(({ method, path }) => purposeOf(method, path)?.named ?? []))];
    const rows = await db.select<{ id: string; name: string }>(
      `with asked(id) as (select value from json_each(?))
       select id, name from device where id in asked union all select id, name from rollout where id in asked
       union all select sha256, file from image where sha256 in asked`,
      [JSON.stringify(ids)],
    );
    return new Map(rows.map((r) => [r.id, r.name]));
  };
  addOperation(app, {
    method: 'get',
    path: '/api/v1/deeds',
    role: 'viewer',
    summary: 'Who did what, newest first',
    query: z.object({
      who: z.string().max(100).optional(),
      before: z.coerce.number().int().optional().describe('Only those before this one, by its id.'),
      most: z.coerce.number().int().min(1).max(500).default(100),
    }),
    answer: deedsSchema,
    run: async ({ query: { who, before, most } }) => {
      const found = await db.select<Deed>(
        'select id, at, who, role, method, path, detail from deed where (? is null or who = ?) and (? is null or id < ?) order by id desc limit ?',
        [who ?? null, who ?? null, before ?? null, before ?? null, most + 1],
      );
      const deeds = found.slice(0, most);
      const names = await namesIn(deeds);
      const view = ({ id, at, who: by, role, method, path, detail }: Deed): DeedView => {
        const said = detail === null ? null : (JSON.parse(detail) as Audited);
        const purpose = purposeOf(method, path);
        const subject = purpose?.named ?? null;
        return {
          id,
          at: rfc3339(at),
          who: by,
          role,
          // The first part of the sentence says it; the rest is for who reads the description of the interface.
          what: purpose?.summary.split(/[,;:]/)[0] ?? `${method} ${path}`,
          path,
          subject: said?.subject ?? (subject === null ? null : (names.get(subject) ?? subject)),
          changes: [...(said?.changes ?? [])],
        };
      };
      return { items: deeds.map(view), more: found.length > most };
    },
  });
}
