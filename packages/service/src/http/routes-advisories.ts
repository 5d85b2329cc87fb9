import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { advisoryDetailSchema, advisorySchema, mappingInput, rankedSchema } from '@barrow/core';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** Security advisories, and whom they touch. */
export function advisoryRoutes(app: OpenAPIHono<Env>, { advisories }: Parts): void {
  addOperation(app, {
    method: 'get',
    path: '/api/v1/advisories',
    role: 'viewer',
    summary: 'The advisories, with how many devices each touches',
    answer: z.object({ items: z.array(advisorySchema) }),
    run: async () => ({ items: await advisories.list() }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/advisories',
    mostBody: 16 << 20,
    role: 'operator',
    summary: 'Take a CSAF 2.0 document in; a later edition takes the place of an earlier one',
    body: z.strictObject({ text: z.string().min(1).max(20_000_000) }),
    answer: advisorySchema.extend({ isNew: z.boolean() }),
    run: async ({ body, who }) => {
      const { view, isNew } = await advisories.add(body.text, who.name);
      return { ...view, isNew };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/advisories/ranking',
    role: 'viewer',
    summary: 'The exposed devices, gravest first, and how far the fixing version is',
    answer: rankedSchema,
    run: () => advisories.rank(),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/advisories/products',
    role: 'operator',
    summary: 'Say once which family and models a product of an advisory is, or that nothing of it is here',
    body: mappingInput,
    answer: z.object({ mapped: z.string() }),
    run: async ({ body, who }) => {
      await advisories.map(body, who.name);
      return { mapped: body.product };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/advisories/{id}',
    role: 'viewer',
    summary: 'One advisory: its products, what they are here, and every device that it is about',
    params: idParam,
    answer: advisoryDetailSchema,
    run: ({ params }) => advisories.detail(params.id),
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/advisories/{id}',
    role: 'operator',
    summary: 'Remove an advisory',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => ({ removed: await advisories.remove(params.id) }),
  });
}
