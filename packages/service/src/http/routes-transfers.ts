import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { siteInput, siteSchema, transferSchema, transferStates, transferStorySchema, writePcapng } from '@barrow/core';
import { DeviceEntity } from '../data/entities.js';
import { Refusal } from '../errors.js';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { addOctets, addOperation, idParam } from './operation.js';

/** What moves, what moved, what did not and why; and the sites that it moves to. */
export function transferRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, devices, transfers, offers, sites, deliveries, map } = parts;

  addOperation(app, {
    method: 'get',
    path: '/api/v1/transfers',
    role: 'viewer',
    summary: 'Transfers and refused requests, newest first; those awaited before all',
    query: z.object({
      limit: z.coerce.number().int().min(1).max(1000).default(100),
      state: z.enum(transferStates).optional(),
      device: z.string().optional(),
    }),
    answer: z.object({ items: z.array(transferSchema) }),
    run: async ({ query }) => {
      const device = query.device ? (await devices.get(query.device)).row.id : undefined;
      return { items: await transfers.list(query.limit, { state: query.state, device }) };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/transfers/{id}',
    role: 'viewer',
    summary: 'The story of a transfer: what was agreed, what was found, its first and last packets',
    params: idParam,
    answer: transferStorySchema,
    run: ({ params }) => transfers.story(params.id),
  });
  addOctets(app, {
    path: '/api/v1/transfers/{id}/packets.pcapng',
    role: 'viewer',
    summary: 'Its first and last packets as a pcapng file, for a viewer of your own',
    params: idParam,
    type: 'application/vnd.tcpdump.pcap',
    run: async ({ id }) => {
      const { row, packets, port = null } = await transfers.packetsOf(id);
      if (packets.length === 0)
        throw new Refusal(
          409,
          'no-packets',
          'There is nothing to export',
          'No packets of it were kept.',
          'Only TFTP transfers keep their packets.',
        );
      const [, address, peerPort] = /^(.*):(\d+)$/.exec(row.peer) ?? ['', row.peer, '0'];
      const us = await offers.storeAddressFor({ address: address!, network: '', site: row.site ?? '' });
      const octets = writePcapng(packets, {
        us: { address: us, port: parts.tftp.port, transferPort: port ?? parts.tftp.port },
        peer: { address: address!, port: Number(peerPort) },
      });
      return { octets, name: `transfer-${row.id}.pcapng` };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/transfers/{id}/stop',
    role: 'operator',
    summary: 'End a transfer that moves; the device is told',
    params: idParam,
    answer: transferSchema,
    run: async ({ params }) => {
      const live = transfers.liveOf(params.id);
      if (!live?.stop) {
        await transfers.row(params.id);
        throw new Refusal(
          409,
          'transfer-not-moving',
          'Nothing was stopped',
          'It does not move.',
          '`barrow transfer list` shows what does.',
        );
      }
      live.stop('stopped by a person');
      return transfers.story(params.id);
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/transfers/{id}/claim',
    role: 'operator',
    summary: 'Say that a refused request came from a device: it may fetch from that address from now on',
    params: idParam,
    body: z.strictObject({ device: z.string() }),
    answer: z.object({ device: z.string(), address: z.string() }),
    run: async ({ params, body }) => {
      const row = await transfers.row(params.id);
      const { row: device } = await devices.get(body.device);
      if (row.state !== 'refused')
        throw new Refusal(
          409,
          'transfer-not-refused',
          'Nothing was changed',
          `It was not refused: it is ${row.state}.`,
          'Only the address of a refused request can be claimed.',
        );
      const address = row.peer.replace(/:\d+$/, '');
      const other = await context.db.findOne(DeviceEntity, { address });
      if (other && other.id !== device.id)
        throw new Refusal(
          409,
          'address-taken',
          'Nothing was changed',
          `${address} is the address of ${other.name}.`,
          'Stage the image for that device, or correct its record.',
        );
      if (!device.fetchesFrom.includes(address)) {
        const fetchesFrom = [...device.fetchesFrom, address];
        await context.db.write(async (em) => em.nativeUpdate(DeviceEntity, { id: device.id }, { fetchesFrom }));
        context.live.changed('devices');
        offers.also(device, address);
      }
      return { device: device.name, address };
    },
  });

  const siteViews = async () => {
    const here = await map.here();
    return (await sites.list((s) => deliveries.waitingFor(s))).map((s) => ({ ...s, here: here?.site === s.name ? here : null }));
  };
  addOperation(app, {
    method: 'get',
    path: '/api/v1/sites',
    role: 'viewer',
    summary: 'The sites: how fast their links are, at what address they see the stores, what waits for them',
    answer: z.object({ items: z.array(siteSchema) }),
    run: async () => ({ items: await siteViews() }),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/sites/{id}',
    role: 'admin',
    summary: 'Set a site: how fast its link is, at what address it sees the stores, and whether it has one of its own',
    params: idParam,
    body: siteInput,
    answer: siteSchema,
    audit: async ({ params }) => ({ subject: params.id, before: { ...(await siteViews()).find((s) => s.name === params.id), here: null } }),
    run: async ({ params, body }) => {
      const { here, ...rest } = body;
      const device = here == null ? null : (await devices.get(here)).row;
      if (device && device.site !== params.id)
        throw new Refusal(
          422,
          'device-elsewhere',
          'The site was not changed',
          `${device.name} stands at ${device.site}, not at ${params.id}.`,
          `Say it of that site: \`barrow site set ${device.site} --here ${device.name}\`.`,
        );
      await sites.set(params.id, rest);
      if (here !== undefined) await map.stand(device?.id ?? null);
      return (await siteViews()).find((s) => s.name === params.id)!;
    },
  });
}
