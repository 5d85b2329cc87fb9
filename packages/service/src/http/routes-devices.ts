import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  deviceSchema,
  discoverySchema,
  observationSchema,
  pageOf,
  standings,
  targetInput,
  targetSchema,
  VersionUnreadable,
  readVersion,
  type Target,
} from '@barrow/core';
import { rfc3339 } from '../context.js';
import { DeviceEntity, NetworkEntity, ObservationEntity, TargetEntity, type TargetRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import type { Parts } from '../service.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

const listQuery = z.object({
  text: z.string().max(200).optional(),
  site: z.string().optional(),
  kind: z.string().optional(),
  family: z.string().optional(),
  standing: z.enum(standings).optional(),
  limit: z.coerce.number().int().min(1).max(10_000).default(200),
  cursor: z.string().optional(),
});

/** Discovery, devices, targets. */
export function deviceRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, devices, discovery } = parts;
  const { db } = context;

  addOperation(app, {
    method: 'post',
    path: '/api/v1/discoveries',
    role: 'operator',
    summary: 'Look for devices in the configured networks',
    body: z.strictObject({ networks: z.array(z.string()).default([]) }),
    answer: discoverySchema,
    status: 201,
    run: async ({ body, who }) => {
      const all = await db.find(NetworkEntity, {}, { orderBy: { name: 'asc' } });
      const chosen = body.networks.map((asked) => {
        const found = all.find((n) => n.id === asked || n.name === asked);
        if (!found) throw notFound('network', asked, '`barrow network list` shows them; nothing else is ever scanned.');
        return found;
      });
      return discovery.start(chosen.length > 0 ? chosen : all, who.name);
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
    path: '/api/v1/devices',
    role: 'viewer',
    summary: 'Devices, filtered and paged',
    query: listQuery,
    answer: pageOf(deviceSchema).extend({ total: z.number().int() }),
    run: async ({ query }) => {
      const all = await devices.list(query);
      const start = query.cursor ? all.findIndex((d) => d.row.id === query.cursor) + 1 : 0;
      const page = all.slice(start, start + query.limit);
      return {
        items: page.map((d) => devices.view(d)),
        next: start + page.length < all.length ? page[page.length - 1]!.row.id : null,
        total: all.length,
      };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/devices/{id}',
    role: 'viewer',
    summary: 'One device, by id, name, address, serial or MAC, with its latest observations',
    params: idParam,
    answer: deviceSchema.extend({ hostKey: z.string().nullable(), observations: z.array(observationSchema) }),
    run: async ({ params }) => {
      const found = await devices.get(params.id);
      const rows = await db.find(ObservationEntity, { device: found.row.id }, { orderBy: { id: 'desc' }, limit: 20 });
      const row = await db.findOne(DeviceEntity, { id: found.row.id });
      return {
        ...devices.view(found),
        hostKey: row?.hostKey ?? null,
        observations: rows.map(({ probe, address, at, raw, parsed }) => ({ probe, address, at: rfc3339(at), raw, parsed })),
      };
    },
  });

  const targetView = async (row: TargetRow): Promise<Target> => ({
    id: row.id,
    family: row.family,
    version: row.version,
    model: row.model,
    site: row.site,
    device: row.device,
    setBy: row.setBy,
    setAt: rfc3339(row.setAt),
    devices: (await devices.all()).filter((d) => d.target?.id === row.id).length,
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/targets',
    role: 'viewer',
    summary: 'The versions that sets of devices should run',
    answer: z.object({ items: z.array(targetSchema) }),
    run: async () => ({
      items: await Promise.all((await db.find(TargetEntity, {}, { orderBy: { family: 'asc', setAt: 'asc' } })).map(targetView)),
    }),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/targets',
    role: 'operator',
    summary: 'Set the version for a family, or for one model, site or device of it; replaces the rule for the same set',
    body: targetInput,
    answer: targetSchema,
    run: async ({ body, who }) => {
      const family = context.families.get(body.family);
      if (!family) throw notFound('family', body.family, `The families are ${[...context.families.keys()].join(', ')}.`);
      let version: string;
      try {
        version = readVersion(family.versions, body.version).canonical;
      } catch (error) {
        if (!(error instanceof VersionUnreadable)) throw error;
        throw new Refusal(
          422,
          'version-unreadable',
          'The target was not set',
          `${error.message}.`,
          `Write it as the family does, e.g. as \`barrow image list\` shows.`,
        );
      }
      if (body.model !== null && !family.models.some((m) => m.model === body.model))
        throw notFound('model', body.model, `${family.title} are ${family.models.map((m) => m.model).join(', ')}.`);
      const device = body.device === null ? null : (await devices.get(body.device)).row;
      if (device && device.family !== body.family)
        throw new Refusal(
          422,
          'device-of-another-family',
          'The target was not set',
          `${device.name} is of family ${device.family ?? 'not known'}.`,
          'Name the family of the device.',
        );
      const scope = { family: body.family, model: body.model, site: body.site, device: device?.id ?? null };
      const row: TargetRow = { ...scope, id: newId('g'), version, setAt: Date.now(), setBy: who.name };
      await db.write(async (em) => {
        await em.nativeDelete(TargetEntity, scope);
        await em.insert(TargetEntity, row);
      });
      context.live.changed('targets');
      return targetView(row);
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/targets/{id}',
    role: 'operator',
    summary: 'Remove a target rule',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => {
      const row = await db.findOne(TargetEntity, { id: params.id });
      if (!row) throw notFound('target', params.id, '`barrow target list` shows them.');
      await db.write(async (em) => em.nativeDelete(TargetEntity, { id: row.id }));
      context.live.changed('targets');
      return { removed: row.id };
    },
  });
}
