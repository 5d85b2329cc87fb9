import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { backupSchema, compareConfigurations, restoredSchema, retentionSchema } from '@barrow/core';
import { DeviceEntity } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import { Touch } from '../touch/touch.js';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** Configurations saved from devices. */
export function backupRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, devices, backups, restoring } = parts;

  addOperation(app, {
    method: 'get',
    path: '/api/v1/backups',
    role: 'operator',
    summary: 'Configurations saved from devices, without their content',
    query: z.object({ device: z.string().optional() }),
    answer: z.object({ items: z.array(backupSchema) }),
    run: async ({ query }) => ({ items: await backups.list(query.device ? (await devices.get(query.device)).row.id : null) }),
  });
  const retained = z.object({ retention: retentionSchema.nullable() });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/backup-retention',
    role: 'viewer',
    summary: 'For how long backups are kept; null: for ever',
    answer: retained,
    run: async () => ({ retention: await backups.retention() }),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/backup-retention',
    role: 'admin',
    summary: 'Drop backups older than so many days, but of each device so many newest and the newest of each version; null: keep all',
    body: retained,
    answer: retained,
    run: async ({ body }) => {
      await backups.retain(body.retention);
      return body;
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/backups',
    role: 'operator',
    summary: 'Save the configuration of a device now',
    body: z.strictObject({ device: z.string() }),
    answer: backupSchema,
    status: 201,
    run: async ({ body }) => {
      const { row } = await devices.get(body.device);
      const family = row.family === null ? undefined : context.families.get(row.family);
      if (!family?.procedures.configuration)
        throw new Refusal(
          422,
          'family-unknown',
          'Nothing was saved',
          `${family ? `The family ${family.family} does not say how` : 'No family is known'}: Barrow cannot ask ${row.name} for its settings.`,
          'A family file with a procedure `configuration` would teach it.',
        );
      const touch = new Touch(context, row, family);
      try {
        // What it runs now, not what was recorded: only that version may be given them back.
        const told = family.procedures.record ? (await touch.run('record')).gives['firmware'] : undefined;
        const { gives } = await touch.run('configuration');
        const kept = await backups.keep(row.id, gives['text'] ?? '', told ?? row.firmware, null);
        return (await backups.list(row.id)).find((b) => b.id === kept.id)!;
      } finally {
        touch.close();
      }
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/backups/{id}',
    deed: 'shown',
    role: 'admin',
    summary: 'The content of a backup, secrets and all',
    params: idParam,
    answer: z.object({ id: z.string(), device: z.string(), text: z.string() }),
    run: async ({ params }) => {
      const { row, text } = await backups.text(params.id);
      return { id: row.id, device: row.device, text };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/backups/{id}/compare',
    deed: 'shown',
    role: 'admin',
    summary: 'The differences between two backups of one device, after normalisation',
    params: idParam,
    query: z.object({ with: z.string() }),
    answer: z.object({
      same: z.boolean(),
      added: z.number().int(),
      removed: z.number().int(),
      lines: z.array(z.string()),
      cut: z.number().int(),
    }),
    run: async ({ params, query }) => {
      const [before, after] = await Promise.all([backups.text(params.id), backups.text(query.with)]);
      const device = await context.db.findOne(DeviceEntity, { id: before.row.device });
      const family = context.families.get(device?.family ?? '');
      if (before.row.device !== after.row.device) throw notFound('backup', query.with, 'Compare two backups of one device.');
      const difference = compareConfigurations(before.text, after.text, family?.configuration ?? { ignoreLines: [] });
      return { ...difference, lines: [...difference.lines] };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/backups/{id}/restore',
    role: 'admin',
    summary:
      'Put the settings of a backup back into their device, on the version that wrote them; `look` tells the difference and changes nothing',
    params: idParam,
    body: z.strictObject({ look: z.boolean() }),
    answer: restoredSchema,
    run: async ({ params, body }) => {
      const { device, difference, refused, before } = await restoring.restore(params.id, body.look);
      return { device: device.id, deviceName: device.name, ...difference, lines: [...difference.lines], refused: [...refused], before };
    },
  });
}
