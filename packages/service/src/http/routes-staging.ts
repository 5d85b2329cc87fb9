import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  deliveryInput,
  deliveryPlanSchema,
  deliverySchema,
  describeMismatches,
  dhcpSchema,
  mismatches,
  offerSchema,
  storeCheckSchema,
  type ImageScope,
} from '@barrow/core';
import type { ImageRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import type { Parts } from '../parts.js';
import { setArmed } from '../staging/armed.js';
import { checkStores } from '../staging/check.js';
import { planDelivery } from '../staging/delivery-work.js';
import { once } from '../touch/touch.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** What is offered, what is brought ahead of rollouts, and whether the stores can be reached. */
export function stagingRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, devices, images, offers, deliveries } = parts;

  /** @throws Refusal when it is withdrawn or rotten */
  const stageable = async (asked: string): Promise<ImageRow> => {
    const image = await images.get(asked);
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
    return image;
  };

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
      const image = await stageable(body.image);
      const rows = (await Promise.all(body.devices.map((d) => devices.get(d)))).map((d) => d.row);
      for (const row of rows) {
        if (row.address === '')
          throw new Refusal(
            422,
            'place-unfit',
            'Nothing was staged',
            `${row.name} has no address of its own, so that it cannot fetch anything.`,
            'Stage the image at its parent: `barrow staging put IMAGE DEVICE --at parent`.',
          );
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
    path: '/api/v1/offers/dhcp',
    role: 'viewer',
    summary: 'What to enter into a DHCP server for devices that are told by it where to fetch from',
    answer: dhcpSchema,
    run: () => offers.dhcp(),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/stores/check',
    deed: 'nothing',
    role: 'operator',
    summary: 'Whether the stores answer through each address, and whether devices reach them',
    body: z.strictObject({ devices: z.array(z.string()).max(50).default([]) }),
    answer: storeCheckSchema,
    run: async ({ body, c }) => {
      const rows = (await Promise.all(body.devices.map((d) => devices.get(d)))).map((d) => d.row);
      return checkStores(parts, rows, c.req.raw.signal);
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/deliveries',
    role: 'viewer',
    summary: 'Images on their way to where devices can take them, and there, newest first',
    query: z.object({ limit: z.coerce.number().int().min(1).max(5000).default(500) }),
    answer: z.object({ items: z.array(deliverySchema) }),
    run: async ({ query }) => ({ items: await deliveries.list(query.limit) }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/deliveries',
    role: 'operator',
    summary: 'Bring an image to devices, their parents or the stores of their sites, ahead of a rollout',
    body: deliveryInput,
    answer: z.object({ items: z.array(deliverySchema) }),
    status: 201,
    run: async ({ body, who }) => {
      const image = await stageable(body.image);
      const rows = (await Promise.all(body.devices.map((d) => devices.get(d)))).map((d) => d.row);
      return { items: await deliveries.view(await deliveries.put(image, rows, body.place, body.makeRoom, who.name)) };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/deliveries/plan',
    deed: 'nothing',
    role: 'operator',
    summary: 'What a delivery would find and do; the holders are asked now, and nothing is changed',
    body: deliveryInput,
    answer: deliveryPlanSchema,
    run: async ({ body, c }) => {
      const image = await stageable(body.image);
      const rows = (await Promise.all(body.devices.map((d) => devices.get(d)))).map((d) => d.row);
      const groups = await deliveries.group(image, rows, body.place);
      return {
        items: await Promise.all(
          groups.slice(0, 50).map((g) => planDelivery(context, deliveries.parts, deliveries, image, g, c.req.raw.signal)),
        ),
      };
    },
  });
  for (const [verb, summary, act] of [
    ['stop', 'Stop a delivery that waits or is under way', (id: string) => deliveries.stopOne(id)],
    ['retry', 'Begin a delivery anew that failed or was stopped', (id: string) => deliveries.retry(id)],
  ] as const)
    addOperation(app, {
      method: 'post',
      path: `/api/v1/deliveries/{id}/${verb}`,
      role: 'operator',
      summary,
      params: idParam,
      answer: deliverySchema,
      run: async ({ params }) => {
        await act(params.id);
        return (await deliveries.view([deliveries.get(params.id)]))[0]!;
      },
    });

  addOperation(app, {
    method: 'post',
    path: '/api/v1/devices/{id}/disarm',
    role: 'operator',
    summary: 'Take back that the next reset of a device brings another version',
    params: idParam,
    answer: z.object({ device: z.string(), disarmed: z.string() }),
    run: async ({ params, c, who }) => {
      const known = await devices.get(params.id);
      const { row } = known;
      const { armed } = devices.view(known);
      if (!armed)
        throw new Refusal(
          409,
          'device-not-armed',
          'Nothing was disarmed',
          `${row.name} takes nothing new at its next reset.`,
          '`barrow device list` marks those that do.',
        );
      const family = context.families.get(row.family ?? '');
      if (!family?.procedures.disarm)
        throw new Refusal(
          422,
          'cannot-disarm',
          'Nothing was disarmed',
          `The family ${row.family ?? 'of it is not known and'} does not say how ${row.name} is disarmed.`,
          'Choose what it boots next on the device itself.',
        );
      if (parts.runner.rolloutOf(row.id) !== null)
        throw new Refusal(
          409,
          'device-in-rollout',
          'Nothing was disarmed',
          `${row.name} is in a rollout.`,
          'Wait for it to end, or stop it.',
        );
      await once(context, row, family, 'disarm', { given: { imageVersion: armed.version }, signal: c.req.raw.signal });
      await setArmed(context, row.id, null, who.name);
      return { device: row.name, disarmed: armed.version };
    },
  });
}
