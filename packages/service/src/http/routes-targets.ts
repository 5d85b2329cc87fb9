import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  describeScope,
  meantName,
  pinInput,
  pinSchema,
  readVersion,
  sameVersion,
  standingSchema,
  targetInput,
  targetPreviewSchema,
  targetSchema,
  VersionUnreadable,
  type Standing,
  type Target,
  type VersionScheme,
} from '@barrow/core';
import { rfc3339 } from '../context.js';
import { ImageEntity, PinEntity, TargetEntity, type TargetRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import type { KnownDevice } from '../devices/devices.js';
import { notFound, Refusal } from '../errors.js';
import type { Parts } from '../parts.js';
import type { Env, Who } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** The versions that sets of devices should run. */
export function targetRoutes(app: OpenAPIHono<Env>, { context, devices, standing }: Parts): void {
  const { db } = context;
  /** A target that no image reaches may be meant for an image that is still to come; or it is a slip of the pen. */
  const remarksOn = async ({ family, version }: TargetRow): Promise<string[]> => {
    const scheme = context.families.get(family)?.versions;
    const versions = (await db.find(ImageEntity, { family, component: 'system' }, { fields: ['sha256', 'version'] })).map((i) => i.version);
    if (!scheme || versions.some((v) => sameVersion(scheme, v, version))) return [];
    const known = [...new Set(versions)];
    const meant = meantName(version, known);
    const has =
      known.length === 0
        ? 'the store has none of this family'
        : `the store has ${known.slice(0, 8).join(', ')}${known.length > 8 ? ' and more' : ''}`;
    return [`no image has version ${version}: ${meant === null ? '' : `is ${meant} meant? `}${has}`];
  };
  const targetView = async (row: TargetRow): Promise<Target> => ({
    remarks: await remarksOn(row),
    id: row.id,
    family: row.family,
    version: row.version,
    fromFamilies: row.fromFamilies,
    model: row.model,
    hardwareRevision: row.hardwareRevision,
    site: row.site,
    tag: row.tag,
    device: row.device,
    acceptUnreleased: row.acceptUnreleased,
    scope: describeScope(
      row,
      row.device === null ? null : ((await devices.all()).find((d) => d.row.id === row.device)?.row.name ?? row.device),
    ),
    setBy: row.setBy,
    setAt: rfc3339(row.setAt),
    devices: (await devices.all()).filter((d) => d.target?.rule?.id === row.id && d.target.pin === null).length,
  });
  /** A beta must not be taken for a release: who means it says so. @throws Refusal */
  const refuseUnreleased = async (name: string, scheme: VersionScheme, version: string, accepted: boolean): Promise<void> => {
    if (accepted) return;
    const ofVersion = (await db.find(ImageEntity, { family: name, component: 'system' })).filter((i) =>
      sameVersion(scheme, i.version, version),
    );
    const early = ofVersion.find((i) => i.channel === 'beta' || i.channel === 'candidate');
    if (early && ofVersion.every((i) => i.channel === 'beta' || i.channel === 'candidate'))
      throw new Refusal(
        409,
        'target-unreleased',
        'The target was not set',
        `${version} is here only as a ${early.channel} (${early.file}).`,
        'Say that you mean it: --accept-unreleased.',
      );
  };
  /** A rule as it was asked for, and the set that it is for. @throws Refusal when that cannot be meant */
  const ruleFrom = async (body: z.output<typeof targetInput>, who: Who): Promise<{ scope: object; row: TargetRow }> => {
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
    for (const other of body.fromFamilies)
      if (!context.families.has(other)) throw notFound('family', other, `The families are ${[...context.families.keys()].join(', ')}.`);
    await refuseUnreleased(body.family, family.versions, version, body.acceptUnreleased);
    if (body.model !== null && !family.models.some((m) => m.model === body.model))
      throw notFound('model', body.model, `${family.title} are ${family.models.map((m) => m.model).join(', ')}.`);
    await devices.knownFilter({ site: body.site });
    const device = body.device === null ? null : (await devices.get(body.device)).row;
    if (device && device.family !== body.family && !body.fromFamilies.includes(device.family ?? ''))
      throw new Refusal(
        422,
        'device-of-another-family',
        'The target was not set',
        `${device.name} is of family ${device.family ?? 'not known'}.`,
        'Name the family of the device.',
      );
    const { model, hardwareRevision, site, tag, fromFamilies, acceptUnreleased } = body;
    if (
      hardwareRevision !== null &&
      !family.models.some((m) => (model === null || m.model === model) && m.revisions.includes(hardwareRevision))
    )
      throw notFound(
        'hardware revision',
        hardwareRevision,
        `${family.title} have ${[...new Set(family.models.flatMap((m) => m.revisions))].join(', ')}.`,
      );
    const scope = { family: body.family, model, hardwareRevision, site, tag, device: device?.id ?? null };
    const row: TargetRow = { ...scope, id: newId('g'), version, fromFamilies, acceptUnreleased, setAt: Date.now(), setBy: who.name };
    return { scope, row };
  };
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
      const { scope, row } = await ruleFrom(body, who);
      await db.write(async (em) => {
        await em.nativeDelete(TargetEntity, scope);
        await em.insert(TargetEntity, row);
      });
      context.live.changed('targets');
      return targetView(row);
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/targets/preview',
    role: 'viewer',
    summary: 'What would follow from a target; nothing is set',
    body: targetInput,
    answer: targetPreviewSchema,
    run: async ({ body, who }) => {
      const { row } = await ruleFrom(body, who);
      const meant = await devices.whatIf(row);
      const unpinned = meant.filter((d) => !d.target?.pin);
      const of = (standing: Standing): KnownDevice[] => unpinned.filter((d) => d.standing.standing === standing);
      const behind = of('behind');
      const isFar = (d: KnownDevice): boolean => (d.standing.path?.steps.filter((s) => s.on === null).length ?? 0) > 1;
      const byReason = new Map<string, string[]>();
      for (const d of [...of('blocked'), ...of('unknown')]) {
        const why = d.standing.reason ?? d.standing.standing;
        const names = byReason.get(why);
        if (names) names.push(d.row.name);
        else byReason.set(why, [d.row.name]);
      }
      return {
        version: row.version,
        scope: describeScope(row, row.device === null ? null : (meant[0]?.row.name ?? row.device)),
        devices: meant.length,
        there: of('at-target').length,
        oneImage: behind.filter((d) => !isFar(d)).length,
        moreImages: behind.filter(isFar).length,
        newer: of('ahead').length,
        pinned: meant.length - unpinned.length,
        notReached: [...byReason]
          .map(([why, names]) => ({ why, devices: names.length, names: names.slice(0, 5) }))
          .sort((x, y) => y.devices - x.devices)
          .slice(0, 10),
        remarks: await remarksOn(row),
      };
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

  addOperation(app, {
    method: 'get',
    path: '/api/v1/pins',
    role: 'viewer',
    summary: 'Devices that are kept at their version, with the reason and the day after which it is asked again',
    answer: z.object({ items: z.array(pinSchema) }),
    run: async () => ({ items: await standing.pins() }),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/pins',
    role: 'operator',
    summary: 'Keep a device at the version that it runs',
    body: pinInput,
    answer: pinSchema,
    run: async ({ body, who }) => {
      const { row } = await devices.get(body.device);
      if (row.firmware === null)
        throw new Refusal(
          422,
          'firmware-unknown',
          'The device was not pinned',
          `What ${row.name} runs has not been read.`,
          'Discover it first, so that there is a version to keep it at.',
        );
      if (body.askAgain < new Date().toISOString().slice(0, 10))
        throw new Refusal(422, 'date-past', 'The device was not pinned', `${body.askAgain} is past.`, 'Give a day that is still to come.');
      const pin = {
        device: row.id,
        version: row.firmware,
        reason: body.reason,
        askAgain: body.askAgain,
        setAt: Date.now(),
        setBy: who.name,
      };
      await db.write(async (em) => {
        await em.nativeDelete(PinEntity, { device: row.id });
        await em.insert(PinEntity, pin);
      });
      context.live.changed('targets');
      return standing.pinView(pin, row.name);
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/pins/{id}',
    role: 'operator',
    summary: 'Let a pinned device go',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => {
      const { row } = await devices.get(params.id);
      if (!(await db.findOne(PinEntity, { device: row.id }))) throw notFound('pin', params.id, '`barrow target list` shows the pins.');
      await db.write(async (em) => em.nativeDelete(PinEntity, { device: row.id }));
      context.live.changed('targets');
      return { removed: row.name };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/standing',
    role: 'viewer',
    summary: 'The fleet by family and version against its targets, and what the image store lacks',
    query: z.object({ site: z.string().optional(), family: z.string().optional() }),
    answer: standingSchema,
    run: ({ query }) => standing.summary(query),
  });
}
