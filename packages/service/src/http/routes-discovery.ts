import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { discoverySchema, mapSchema } from '@barrow/core';
import { NetworkEntity } from '../data/entities.js';
import { notFound } from '../errors.js';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** Discoveries, and the map that comes of them. */
export function discoveryRoutes(app: OpenAPIHono<Env>, { context, discovery, map }: Parts): void {
  const { db } = context;
  addOperation(app, {
    method: 'post',
    path: '/api/v1/discoveries',
    role: 'operator',
    summary: 'Look for devices in the configured networks',
    body: z.strictObject({
      networks: z.array(z.string()).default([]),
      /** Asked for when it would ask more than 65,536 addresses. */
      sure: z.boolean().default(false),
    }),
    answer: discoverySchema,
    status: 201,
    run: async ({ body, who }) => {
      const all = await db.find(NetworkEntity, {}, { orderBy: { name: 'asc' } });
      const chosen = body.networks.map((asked) => {
        const found = all.find((n) => n.id === asked || n.name === asked);
        if (!found) throw notFound('network', asked, '`barrow network list` shows them; nothing else is ever scanned.');
        return found;
      });
      return discovery.start(chosen.length > 0 ? chosen : all, who.name, body.sure);
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/discoveries/{id}',
    role: 'viewer',
    summary: 'A discovery, running or ended; "latest" is the newest',
    params: idParam,
    answer: discoverySchema,
    run: async ({ params }) => discovery.get(params.id),
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/discoveries/running',
    role: 'operator',
    summary: 'Stop the running discovery',
    answer: z.object({ stopped: z.boolean() }),
    run: async () => {
      await discovery.stop();
      return { stopped: true };
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/map',
    role: 'viewer',
    summary: 'Links and feeds between devices, with their evidence',
    answer: mapSchema,
    run: async () => map.whole(),
  });
}
