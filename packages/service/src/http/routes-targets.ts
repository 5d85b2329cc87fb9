import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { readVersion, targetInput, targetSchema, VersionUnreadable, type Target } from '@barrow/core';
import { rfc3339 } from '../context.js';
import { TargetEntity, type TargetRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import type { Parts } from '../service.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** The versions that sets of devices should run. */
export function targetRoutes(app: OpenAPIHono<Env>, { context, devices }: Parts): void {
  const { db } = context;
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
