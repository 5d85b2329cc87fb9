import { Readable } from 'node:stream';
import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { describeRange, familyAddedSchema, familySummarySchema, type FamilyAdded } from '@barrow/core';
import { isUpgradable, remarksOfSense, whatWorks } from '@barrow/families';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { packFamily, type Conversations, mostArchiveBytes, unpackFamily } from '../devices/family-archive.js';
import { addOperation, idParam } from './operation.js';

/** The gear that Barrow knows: families that ship, and files that were added. */
export function familyRoutes(app: OpenAPIHono<Env>, { context, familyFiles, proven }: Parts): void {
  const { db } = context;
  const take = async (text: string, replace: boolean, conversations: Conversations | null): Promise<FamilyAdded> => {
    const { family, what, remarks } = await familyFiles.add(text, replace, conversations);
    return {
      family: family.family,
      title: family.title,
      what,
      works: whatWorks(family),
      remarks: [...remarks, ...remarksOfSense(family).map((r) => `${r.path.join('.')}: ${r.message}`)],
      conversations: conversations?.size ?? 0,
    };
  };
  addOperation(app, {
    method: 'get',
    path: '/api/v1/families',
    role: 'viewer',
    summary: 'The families that Barrow knows, and which of them it can upgrade',
    answer: z.object({ items: z.array(familySummarySchema) }),
    run: async () => {
      const counted = await db.select<{ family: string; n: number }>(
        'select family, count(*) as n from device where family is not null group by family',
      );
      const counts = new Map(counted.map(({ family, n }) => [family, n]));
      return {
        items: [...context.families.values()].map((f) => ({
          family: f.family,
          title: f.title,
          maker: f.maker,
          kind: f.kind,
          models: f.models,
          upgradable: isUpgradable(f),
          recognisedBy: [...new Set(f.recognise.flatMap((r) => Object.keys(r)))],
          procedures: Object.keys(f.procedures),
          storage: f.storage?.note ?? null,
          travel:
            f.travel === undefined
              ? null
              : f.travel.how === 'pushed'
                ? 'Barrow carries it to the device'
                : f.travel.how === 'through-parent'
                  ? 'through the storage of its parent'
                  : `the device pulls by ${f.travel.protocol.toUpperCase()}`,
          ways: f.ways.map(({ name, component, from, stretches, pointOfNoReturn }) => ({
            name,
            component,
            from: from ? describeRange(from) : null,
            steps: Object.values(stretches).flatMap((steps) => steps.map((s) => s.step)),
            pointOfNoReturn,
          })),
          devices: counts.get(f.family) ?? 0,
          added: familyFiles.isAdded(f.family),
          works: [...whatWorks(f)],
          unproven: isUpgradable(f) ? proven.lacking(f.family) : [],
        })),
      };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/families/{id}/file',
    role: 'viewer',
    summary: 'The file of a family, as it was written (YAML)',
    params: idParam,
    answer: z.object({ family: z.string(), text: z.string() }),
    run: async ({ params }) => ({ family: params.id, text: familyFiles.text(params.id) }),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/families',
    role: 'admin',
    summary: 'Add a family file; what runs keeps the one that its plan was made with',
    body: z.strictObject({
      text: z.string().min(1).max(1_000_000),
      replace: z.boolean().default(false),
      /** What was said while it was taught, by procedure (YAML); absent: those that are here stay. */
      conversations: z.record(z.string().regex(/^[a-z-]+$/), z.string().max(1_000_000)).optional(),
    }),
    mostBody: mostArchiveBytes,
    answer: familyAddedSchema,
    run: ({ body }) => take(body.text, body.replace, body.conversations === undefined ? null : new Map(Object.entries(body.conversations))),
  });
  app.openAPIRegistry.registerPath({
    method: 'get',
    path: '/api/v1/families/{id}/archive',
    summary: 'The file of a family with what was said while it was taught, as one archive',
    description: 'Needs the role viewer.',
    request: { params: idParam },
    responses: {
      200: { description: 'A tar archive', content: { 'application/x-tar': { schema: { type: 'string', format: 'binary' } as never } } },
    },
  });
  app.get('/api/v1/families/:id/archive', async (c) => {
    const name = c.req.param('id');
    const stream = packFamily(name, familyFiles.text(name), await familyFiles.conversations(name));
    return c.body(Readable.toWeb(stream) as ReadableStream, 200, { 'content-type': 'application/x-tar' });
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/families/archive',
    role: 'admin',
    summary:
      'Add a family file with what was said while it was taught: an archive as it was had from another service, in base64 (RFC 4648)',
    body: z.strictObject({ archive: z.base64().min(1), replace: z.boolean().default(false) }),
    mostBody: 2 * mostArchiveBytes,
    answer: familyAddedSchema,
    run: async ({ body }) => {
      const { text, conversations } = await unpackFamily(Buffer.from(body.archive, 'base64'));
      return take(text, body.replace, conversations);
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/families/{id}',
    role: 'admin',
    summary: 'Remove a family that was added, and of which nothing is here',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => {
      await familyFiles.remove(params.id);
      return { removed: params.id };
    },
  });
}
