import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  kinds,
  deviceChange,
  deviceColumns,
  deviceCountsSchema,
  deviceNameSchema,
  distances,
  standingGroupSchema,
  type DeviceColumn,
  deviceDetailSchema,
  deviceEntry,
  deviceOnly,
  deviceSchema,
  approvalResult,
  historySchema,
  hostToApprove,
  importInput,
  importResult,
  pageOf,
  standings,
  toldWords,
  waitingHostSchema,
  swapInput,
  swappedSchema,
} from '@barrow/core';
import { rfc3339 } from '../context.js';
import type { DeviceBook } from '../devices/book.js';
import type { KnownDevice } from '../devices/devices.js';
import { inOrder } from '../devices/order.js';
import { CredentialEntity, DeviceEntity, HistoryEntity, ObservationEntity, type DeviceRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import { once } from '../touch/touch.js';
import type { Parts } from '../parts.js';
import { need, type Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** What is told of a device, and what it showed, besides its record. */
function alsoOf({ told, shows }: DeviceRow, book: DeviceBook) {
  const nameOf = (id: string): string => book.byId.get(id)?.name ?? book.all(id)[0]?.name ?? id;
  return { told: told ?? {}, radioNames: (told?.radio ?? []).map(nameOf), also: toldWords(told ?? {}, shows ?? {}, nameOf) };
}

const listQuery = z.object({
  /** These, with commas between them, and all that are handled through them. */
  ids: z
    .string()
    .max(20_000)
    .transform((text) => text.split(','))
    .optional(),
  text: z.string().max(200).optional(),
  site: z.string().optional(),
  kind: z.enum(kinds).optional(),
  family: z.string().optional(),
  standing: z.enum(standings).optional(),
  maker: z.string().optional(),
  model: z.string().optional(),
  firmware: z.string().optional(),
  network: z.string().optional(),
  tag: z.string().optional(),
  parent: z.string().optional(),
  only: z.enum(deviceOnly).optional(),
  mayRun: z.string().optional(),
  runs: z.string().optional(),
  passes: z.string().optional(),
  distance: z.enum(distances).optional(),
  group: z.string().max(2000).optional(),
  plannable: z.stringbool().optional(),
  /** A column, with a minus before it the other way round; by site and name when absent. */
  sort: z
    .string()
    .refine(
      (text) => deviceColumns.includes(text.replace(/^-/, '') as DeviceColumn),
      `one of ${deviceColumns.join(', ')}, or one with a minus before it`,
    )
    .optional(),
  /** How many of those that fit come before; instead of a cursor. */
  offset: z.coerce.number().int().min(0).optional(),
  limit: z.coerce.number().int().min(1).max(10_000).default(200),
  cursor: z.string().optional(),
});

/** Where a page ended, so that the next begins after it even when that device is gone meanwhile. */
const cursorOf = ({ row }: KnownDevice): string => Buffer.from(JSON.stringify([row.site, row.name, row.id])).toString('base64url');

function startAfter(all: readonly KnownDevice[], cursor: string): number {
  const read = z.tuple([z.string(), z.string(), z.string()]).safeParse(jsonOrNull(Buffer.from(cursor, 'base64url').toString('utf8')));
  if (!read.success)
    throw new Refusal(
      400,
      'request-malformed',
      'The request was not understood',
      'The cursor is none that a page gave.',
      'Begin at the first page.',
    );
  const [site, name, id] = read.data;
  const at = all.findIndex((d) => d.row.id === id);
  if (at >= 0) return at + 1;
  const after = all.findIndex((d) => inOrder({ site, name }, d.row) < 0);
  return after < 0 ? all.length : after;
}

function jsonOrNull(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}

/** What somebody who writes a family file for a device would begin with, from what it answered. */
function whatAFamilyNeeds(observations: readonly { probe: string; parsed: Record<string, unknown> }[]): string[] {
  const told = (probe: string, key: string): string | null => {
    const found = observations.find((o) => o.probe.startsWith(probe) && typeof o.parsed[key] === 'string');
    return (found?.parsed[key] as string | undefined) ?? null;
  };
  const rules: [string, string | null][] = [
    ['recognise by snmp.objectId', told('SNMP', 'objectId')],
    ['recognise by snmp.description', told('SNMP', 'description')],
    ['recognise by ssh.identification', told('SSH', 'identification')],
    ['recognise by http.server', told('HTTP', 'server')],
    ['recognise by http.title', told('HTTP', 'title')],
    ['recognise by sip.userAgent', told('SIP', 'userAgent')],
    ['recognise by sip.server', told('SIP', 'server')],
  ];
  const lines = rules.flatMap(([what, value]) => (value === null ? [] : [`${what}: it answers "${value}"`]));
  const firmware = told('SNMP', 'firmware');
  return [
    ...lines,
    firmware === null
      ? 'a pattern or a procedure `record` that finds its version: no standard answer tells it'
      : `versions: a pattern that reads "${firmware}"`,
    'its models and hardware revisions',
    'to upgrade it besides: how an image travels, where the point of no return is, and the procedures that do it',
  ];
}

/** Devices: what is known of them, and what people enter. */
export function deviceRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, devices, map, byHand, lists, swapping } = parts;
  const { db } = context;

  addOperation(app, {
    method: 'get',
    path: '/api/v1/devices',
    role: 'viewer',
    summary: 'Devices, filtered and paged',
    query: listQuery,
    answer: pageOf(deviceSchema).extend({ total: z.number().int() }),
    run: async ({ query }) => {
      await devices.knownFilter(query);
      const all = await devices.list(query);
      const start = query.cursor ? startAfter(all, query.cursor) : (query.offset ?? 0);
      const page = all.slice(start, start + query.limit);
      return {
        items: page.map((d) => devices.view(d)),
        next: start + page.length < all.length ? cursorOf(page[page.length - 1]!) : null,
        total: all.length,
      };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/device-counts',
    role: 'viewer',
    summary: 'How many devices there are, where and how they stand, and how many fit',
    query: listQuery,
    answer: deviceCountsSchema,
    run: async ({ query }) => devices.counts(query),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/device-names',
    role: 'viewer',
    summary: 'The devices that fit, by name only, to choose them',
    query: listQuery.extend({ limit: z.coerce.number().int().min(1).max(100_000).default(100_000) }),
    answer: z.object({ items: z.array(deviceNameSchema) }),
    run: async ({ query }) => {
      const { offset = 0, limit } = query;
      const found = (await devices.list(query)).slice(offset, offset + limit);
      return { items: found.map(({ row: { id, name, network } }) => ({ id, name, network })) };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/standing/groups',
    role: 'viewer',
    summary: 'The devices that fit, counted by how they stand: family, target, version, and how far away',
    query: listQuery,
    answer: z.object({ items: z.array(standingGroupSchema) }),
    run: async ({ query }) => ({ items: await devices.groups(query) }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/devices',
    role: 'operator',
    summary: 'Enter a device by hand',
    body: deviceEntry,
    answer: deviceSchema,
    status: 201,
    run: async ({ body, who }) => devices.view(await devices.get(await byHand.enter(body, who.name))),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/devices/import',
    mostBody: 16 << 20,
    role: 'operator',
    summary: 'Take a list of devices in; a dry run says row by row what would change',
    body: importInput,
    answer: importResult,
    run: async ({ body, who }) => lists.import(body.form, body.text, body.dryRun, who.name),
  });
  for (const form of ['csv', 'json'] as const)
    app.get(`/api/v1/devices/export.${form}`, async (c) => {
      need(c.get('who'), 'viewer');
      const query = listQuery.safeParse(c.req.query());
      if (!query.success)
        throw new Refusal(400, 'request-malformed', 'The request was not understood', query.error.issues[0]!.message, 'See /api/docs.');
      const text = await lists.export(
        form,
        (await devices.list(query.data)).map((d) => devices.view(d)),
      );
      return c.body(text, 200, {
        'content-type': form === 'csv' ? 'text/csv; charset=utf-8; header=present' : 'application/json',
        'content-disposition': `attachment; filename="devices.${form}"`,
      });
    });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/devices/{id}',
    role: 'viewer',
    summary: 'One device, by id, name, address, serial or MAC, with what it answered, what hangs on it, and what goes dark with it',
    params: idParam,
    answer: deviceDetailSchema,
    run: async ({ params }) => {
      const found = await devices.get(params.id);
      const { row } = found;
      const [observations, around, credentials] = await Promise.all([
        db.find(ObservationEntity, { device: row.id }, { orderBy: { lastAt: 'desc', id: 'asc' }, limit: 40 }),
        map.around(row.id),
        db.find(CredentialEntity),
      ]);
      const nameOf = new Map(credentials.map((c) => [c.id, c.name]));
      const family = row.family === null ? undefined : context.families.get(row.family);
      return {
        ...devices.view(found),
        ...around,
        hostKey: row.hostKey,
        shownHostKey: row.shownHostKey,
        approved: row.approved && { ...row.approved, at: rfc3339(row.approved.at) },
        addresses: row.addresses,
        members: row.members,
        believedBy: row.believedBy,
        byHand: row.byHand,
        feedByHand: row.feedByHand,
        uplinkByHand: row.uplinkByHand,
        ...alsoOf(row, await devices.names()),
        credentials: Object.fromEntries(Object.entries(row.credentials).map(([k, id]) => [k, nameOf.get(id) ?? id])),
        canLocate: family?.procedures.locate !== undefined && row.address !== '',
        familyWouldNeed: family ? [] : whatAFamilyNeeds(observations),
        observations: observations.map(({ probe, address, at, lastAt, times, raw, parsed }) => ({
          probe,
          address,
          at: rfc3339(at),
          lastAt: rfc3339(lastAt),
          times,
          raw,
          parsed,
        })),
      };
    },
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/devices/{id}',
    role: 'operator',
    summary: 'Set a device: what a person knows of it; null gives a field back to the probes',
    params: idParam,
    body: deviceChange,
    answer: deviceSchema,
    audit: async ({ params }) => {
      const { name, site, kind, family, tags, note, firmware, hardwareRevision, variant, retired } = (await devices.get(params.id)).row;
      return {
        subject: name,
        before: { name, site, kind, family, tags, note, firmware, hardwareRevision, variant, retired: retired !== null },
      };
    },
    run: async ({ params, body, who }) => {
      const { row } = await devices.get(params.id);
      await byHand.change(row, body, who.name);
      return devices.view(await devices.get(row.id));
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/devices/{id}',
    role: 'operator',
    summary: 'Forget a device and what was observed of it; its backups stay',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => {
      const found = await devices.get(params.id);
      const rollout = parts.runner.rolloutOf(found.row.id);
      if (rollout !== null)
        throw new Refusal(
          409,
          'device-in-rollout',
          'The device stays',
          `Rollout ${rollout} is upgrading it.`,
          'Wait until the rollout has ended.',
        );
      await byHand.remove(found.row);
      return { removed: found.row.name };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/devices/{id}/history',
    role: 'viewer',
    summary: 'What changed in the record of a device, when, and by which probe it was seen; newest first',
    params: idParam,
    answer: z.object({ items: z.array(historySchema) }),
    run: async ({ params }) => {
      const { row } = await devices.get(params.id);
      const rows = await db.find(HistoryEntity, { device: row.id }, { orderBy: { id: 'desc' }, limit: 500 });
      const nameOf = new Map((await devices.all()).map((d) => [d.row.id, d.row.name]));
      const shown = (field: string, value: string | null): string | null =>
        field === 'parent' && value !== null ? (nameOf.get(value) ?? value) : value;
      return {
        items: rows.map(({ at, field, before, after, probe }) => ({
          at: rfc3339(at),
          field,
          before: shown(field, before),
          after: shown(field, after),
          probe,
        })),
      };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/devices/{id}/swap',
    role: 'admin',
    summary: 'Have a spare take the place of a device: its settings, its address, its name; `look` tells what would be and changes nothing',
    params: idParam,
    body: swapInput,
    answer: swappedSchema,
    run: async ({ params, body, who }) => {
      const [device, spare] = await Promise.all([devices.get(params.id), devices.get(body.spare)]);
      const done = await swapping.swap(device.row, spare.row, body.backup, body.look, who.name);
      const { difference, refused, before, backup } = done;
      return {
        ...{ device: device.row.id, deviceName: device.row.name, spare: spare.row.id, spareName: spare.row.name },
        ...{ ...difference, lines: [...difference.lines], refused: [...refused], before, done: done.done },
        ...{ backup: backup.id, firmware: backup.firmware, address: device.row.address, spareSerial: spare.row.serial },
      };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/devices/{id}/locate',
    role: 'operator',
    summary: 'Blink its light or screen, where its family can',
    params: idParam,
    body: z.strictObject({ seconds: z.number().int().min(1).max(600).default(30) }),
    answer: z.object({ device: z.string(), seconds: z.number().int() }),
    run: async ({ params, body }) => {
      const { row } = await devices.get(params.id);
      const family = row.family === null ? undefined : context.families.get(row.family);
      if (!family?.procedures.locate)
        throw new Refusal(
          422,
          'locate-unknown',
          'Nothing blinks',
          family ? `The family ${family.family} does not say how one of its devices is made to blink.` : `No family fits ${row.name}.`,
          'A family file with a procedure `locate` would teach it.',
        );
      await once(context, row, family, 'locate', { given: { seconds: String(body.seconds) } });
      return { device: row.name, seconds: body.seconds };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/approvals',
    role: 'viewer',
    summary: 'Hosts that get no password until a person has approved them, as they show themselves',
    answer: z.object({ items: z.array(waitingHostSchema) }),
    run: async () => ({ items: await parts.approvals.waiting() }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/approvals',
    mostBody: 16 << 20,
    role: 'operator',
    summary: 'Approve hosts as they were shown; one that shows itself otherwise by now is left, and told',
    body: z.strictObject({ hosts: z.array(hostToApprove).min(1).max(10_000) }),
    answer: approvalResult,
    run: async ({ body, who }) => parts.approvals.approve(body.hosts, who.name),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/devices/{id}/host-key',
    role: 'operator',
    summary: 'Accept the SSH host key that the device showed instead of the pinned one',
    params: idParam,
    body: z.strictObject({ accept: z.string().min(1) }),
    answer: deviceSchema,
    run: async ({ params, body, who }) => {
      const { row } = await devices.get(params.id);
      if (row.shownHostKey === null)
        throw new Refusal(
          409,
          'host-key-same',
          'There is nothing to accept',
          `${row.name} shows the key that is pinned.`,
          'Discover again if you expect another one.',
        );
      // The key is named, so that nobody accepts one that they have not seen.
      if (body.accept !== row.shownHostKey)
        throw new Refusal(
          409,
          'host-key-other',
          'The key was not accepted',
          `${row.name} showed ${row.shownHostKey}, not ${body.accept}.`,
          'Compare the key with the one on the device, and name the one that it showed.',
        );
      await db.write(async (em) => {
        await em.nativeUpdate(DeviceEntity, { id: row.id }, {
          hostKey: row.shownHostKey,
          // Who accepts the key of an approved host means that host.
          approved: row.approved && { ...row.approved, hostKey: row.shownHostKey, at: Date.now(), by: who.name },
          shownHostKey: null,
          flags: row.flags.filter((f) => f.flag !== 'host-key'),
        } as never);
        await em.insert(HistoryEntity, {
          device: row.id,
          at: Date.now(),
          field: 'SSH host key',
          before: row.hostKey,
          after: row.shownHostKey,
          probe: `accepted by ${who.name}`,
        } as never);
      });
      context.live.changed('devices', [row.id]);
      return devices.view(await devices.get(row.id));
    },
  });
}
