import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  backupSchema,
  compareConfigurations,
  describeMismatches,
  mismatches,
  offerSchema,
  transferSchema,
  type ImageScope,
} from '@barrow/core';
import { DeviceEntity } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import { hasShell } from '@barrow/families';
import { DeviceSession } from '../runner/session.js';
import type { Parts } from '../service.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** Staging, transfers, backups. */
export function stagingRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, devices, images, offers, tftp, backups } = parts;

  addOperation(app, {
    method: 'get',
    path: '/api/v1/offers',
    role: 'viewer',
    summary: 'What is offered, where, and to whom',
    answer: z.object({ items: z.array(offerSchema) }),
    run: async () => ({ items: await offers.list() }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/offers',
    role: 'operator',
    summary: 'Stage an image for devices that it fits',
    body: z.strictObject({ image: z.string(), devices: z.array(z.string()).min(1).max(10_000) }),
    answer: z.object({ items: z.array(offerSchema) }),
    status: 201,
    run: async ({ body, who }) => {
      const image = await images.get(body.image);
      if (image.note.withdrawn)
        throw new Refusal(
          409,
          'image-withdrawn',
          'Nothing was staged',
          `${image.file} is withdrawn: ${image.note.withdrawn.why}.`,
          'Stage another image, or take the withdrawal back with `barrow image withdraw --undo`.',
        );
      if (!(await images.isSound(image)))
        throw new Refusal(
          422,
          'image-missing',
          'Nothing was staged',
          `The content of ${image.file} no longer has its digest.`,
          'Add it again from its source; that mends it.',
        );
      const rows = (await Promise.all(body.devices.map((d) => devices.get(d)))).map((d) => d.row);
      for (const row of rows) {
        const found = mismatches(image as ImageScope, devices.hardwareOf(row));
        if (found.length > 0)
          throw new Refusal(
            422,
            'image-does-not-fit',
            'Nothing was staged',
            `${image.file} is not for ${row.name}: ${describeMismatches(found)}.`,
            'Stage the image that is for this hardware.',
          );
      }
      await offers.put(image, rows, who.name);
      return { items: (await offers.list()).filter((o) => o.image === image.sha256) };
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/offers/{id}',
    role: 'operator',
    summary: 'Drop what a person staged: an image, for one device or for all',
    params: idParam,
    query: z.object({ device: z.string().optional() }),
    answer: z.object({ dropped: z.number().int() }),
    run: async ({ params, query }) => ({
      dropped: await offers.drop(await images.get(params.id), query.device ? (await devices.get(query.device)).row : null),
    }),
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/transfers',
    role: 'viewer',
    summary: 'Transfers and refused requests, newest first',
    query: z.object({ limit: z.coerce.number().int().min(1).max(1000).default(100) }),
    answer: z.object({ items: z.array(transferSchema) }),
    run: async ({ query }) => ({ items: await tftp.list(query.limit) }),
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/backups',
    role: 'operator',
    summary: 'Configurations saved from devices, without their content',
    query: z.object({ device: z.string().optional() }),
    answer: z.object({ items: z.array(backupSchema) }),
    run: async ({ query }) => ({ items: await backups.list(query.device ? (await devices.get(query.device)).row.id : null) }),
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
      if (!family?.procedures.configuration || !hasShell(family))
        throw new Refusal(
          422,
          'family-unknown',
          'Nothing was saved',
          `${family ? `The family ${family.family} does not say how` : 'No family is known'}: Barrow cannot ask ${row.name} for its settings.`,
          'A family file with a procedure `configuration` would teach it.',
        );
      const session = await DeviceSession.open(context, row, family);
      try {
        const { gives } = await session.run('configuration');
        const kept = await backups.keep(row.id, gives['text'] ?? '', row.firmware, null);
        return (await backups.list(row.id)).find((b) => b.id === kept.id)!;
      } finally {
        session.close();
      }
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/backups/{id}',
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
}
