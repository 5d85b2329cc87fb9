import { randomBytes } from 'node:crypto';
import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  addressShown,
  heartbeatInput,
  mailServerInput,
  noticeAddressInput,
  noticesSchema,
  receiverInput,
  receiverSchema,
  type NoticesView,
  type OccasionKind,
  type ReceiverView,
} from '@barrow/core';
import { rfc3339OrNull } from '../context.js';
import type { ReceiverRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import type { Parts } from '../parts.js';
import type { Env, Who } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** Addresses may hold tokens and passwords: only an admin, who can set them, sees them whole. */
const viewOf = (row: ReceiverRow, waiting: ReadonlyMap<string, number>, whole: boolean): ReceiverView => ({
  id: row.id,
  name: row.name,
  kind: row.kind as ReceiverView['kind'],
  to: whole ? row.to : addressShown(row.to),
  on: row.on as OccasionKind[],
  lastAt: rfc3339OrNull(row.lastAt),
  trouble: row.trouble,
  waiting: waiting.get(row.id) ?? 0,
});

/** Who is told of what happens in rollouts, and by which way. */
export function noticeRoutes(app: OpenAPIHono<Env>, { context, notices }: Parts): void {
  const all = async ({ who }: { readonly who: Who }): Promise<NoticesView> => {
    const whole = who.role === 'admin';
    const waiting = await notices.waiting();
    const { mailServer, heartbeat } = notices.settings;
    return {
      receivers: notices.receivers().map((r) => viewOf(r, waiting, whole)),
      mailServer: mailServer && {
        host: mailServer.host,
        port: mailServer.port,
        tls: mailServer.tls,
        from: mailServer.from,
        user: mailServer.user,
      },
      heartbeat: heartbeat && {
        ...heartbeat,
        url: whole ? heartbeat.url : addressShown(heartbeat.url),
        lastAt: rfc3339OrNull(notices.heartbeatSeen.lastAt),
        trouble: notices.heartbeatSeen.trouble,
      },
      address: notices.address,
    };
  };
  addOperation(app, {
    method: 'get',
    path: '/api/v1/notices',
    role: 'viewer',
    summary: 'Who is told of what happens in rollouts, and whether it reached them',
    answer: noticesSchema,
    run: all,
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/notices/receivers',
    role: 'admin',
    summary: 'Add a notification, by mail or by a signed request; the key of that is shown here and never again',
    body: receiverInput,
    answer: receiverSchema.extend({ secret: z.string().nullable() }),
    status: 201,
    run: async ({ body }) => {
      const secret = body.kind === 'mail' ? null : (body.secret ?? randomBytes(32).toString('base64url'));
      const row: ReceiverRow = {
        id: newId('n'),
        name: body.name,
        kind: body.kind,
        to: body.to,
        on: body.on,
        sealed: secret === null ? null : context.sealer.seal(secret),
        createdAt: Date.now(),
        lastAt: null,
        trouble: null,
      };
      await notices.add(row);
      return { ...viewOf(row, new Map(), true), secret: body.secret === null ? secret : null };
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/notices/receivers/{id}',
    role: 'admin',
    summary: 'Remove a notification; what waits for it is dropped',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => ({ removed: (await notices.remove(params.id)).name }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/notices/receivers/{id}/trial',
    role: 'operator',
    summary: 'Send a test notification, now, and tell whether it was accepted',
    params: idParam,
    answer: z.object({ name: z.string(), sent: z.boolean(), trouble: z.string().nullable() }),
    run: async ({ params, who }) => {
      const { name } = notices.find(params.id);
      const trouble = await notices.trial(params.id, who.name);
      return { name, sent: trouble === null, trouble };
    },
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/notices/mail-server',
    role: 'admin',
    summary: 'Set the mail server',
    body: mailServerInput,
    answer: noticesSchema,
    run: async ({ body, who }) => {
      const { secret, ...server } = body;
      await notices.set({ mailServer: { ...server, sealed: secret === null ? null : context.sealer.seal(secret) } });
      return all({ who });
    },
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/notices/heartbeat',
    role: 'admin',
    summary: 'Set the heartbeat, an address that is called while a rollout runs, so that silence tells of a Barrow that died; null: none',
    body: heartbeatInput,
    answer: noticesSchema,
    run: async ({ body: { url, everySeconds }, who }) => {
      await notices.set({ heartbeat: url === null ? null : { url, everySeconds } });
      return all({ who });
    },
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/notices/address',
    role: 'admin',
    summary: 'Set the address of the console, for the links in messages; null: that of the service',
    body: noticeAddressInput,
    answer: noticesSchema,
    run: async ({ body, who }) => {
      await notices.set({ address: body.url });
      return all({ who });
    },
  });
}
