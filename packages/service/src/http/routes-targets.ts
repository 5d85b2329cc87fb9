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
  targetComparisonSchema,
  targetPreviewSchema,
  targetSchema,
  targetSetInput,
  VersionUnreadable,
  type Standing,
  type Target,
  type TargetComparison,
  type TargetPreview,
  type TargetSet,
  type VersionScheme,
} from '@barrow/core';
import { readTargetSet, TargetSetError, writeTargetSet } from '@barrow/families';
import { rfc3339 } from '../context.js';
import { ImageEntity, PinEntity, TargetEntity, type TargetRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import type { KnownDevice } from '../devices/devices.js';
import { notFound, Refusal } from '../errors.js';
import type { Parts } from '../parts.js';
import type { Env, Who } from './auth.js';
import { addOperation, idParam } from './operation.js';

function byKey<K>(all: readonly KnownDevice[], key: (device: KnownDevice) => K): Map<K, KnownDevice[]> {
  const groups = new Map<K, KnownDevice[]>();
  for (const one of all) {
    const group = groups.get(key(one));
    if (group) group.push(one);
    else groups.set(key(one), [one]);
  }
  return groups;
}
/** How many they are, and the first of them by name. */
const someNames = (those: readonly KnownDevice[]): { devices: number; names: string[] } => ({
  devices: those.length,
  names: those.slice(0, 5).map((d) => d.row.name),
});
/** What devices run, most first. */
const runsOf = (those: readonly KnownDevice[]): TargetComparison['rules'][number]['runs'] =>
  [...byKey(those, (d) => d.row.firmware)]
    .map(([version, group]) => ({ version, ...someNames(group) }))
    .sort((x, y) => y.devices - x.devices);

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
  const titleOf = (family: string): string => context.families.get(family)?.title ?? family;
  /** What would follow from a rule for the devices that it would be for. */
  const previewOf = async (row: TargetRow, meant: readonly KnownDevice[]): Promise<TargetPreview> => {
    const unpinned = meant.filter((d) => !d.target?.pin);
    const of = (standing: Standing): KnownDevice[] => unpinned.filter((d) => d.standing.standing === standing);
    const behind = of('behind');
    const isFar = (d: KnownDevice): boolean => (d.standing.path?.steps.filter((s) => s.on === null).length ?? 0) > 1;
    return {
      version: row.version,
      scope: describeScope(row, row.device === null ? null : (meant[0]?.row.name ?? row.device)),
      devices: meant.length,
      there: of('at-target').length,
      oneImage: behind.filter((d) => !isFar(d)).length,
      moreImages: behind.filter(isFar).length,
      newer: of('ahead').length,
      pinned: meant.length - unpinned.length,
      notReached: [...byKey([...of('blocked'), ...of('unknown')], (d) => d.standing.reason ?? d.standing.standing)]
        .map(([why, those]) => ({ why, ...someNames(those) }))
        .sort((x, y) => y.devices - x.devices)
        .slice(0, 10),
      remarks: await remarksOn(row),
    };
  };
  /** The rules of the file of a set. @throws Refusal with every fault of it */
  const setFrom = async (
    text: string,
    who: Who,
  ): Promise<{ name: string; note: string | null; made: { scope: object; row: TargetRow }[] }> => {
    const refuse = (detail: string, next: string): never => {
      throw new Refusal(422, 'target-set-refused', 'The set was not taken', detail, next);
    };
    let set: TargetSet;
    try {
      set = readTargetSet(text);
    } catch (error) {
      if (!(error instanceof TargetSetError)) throw error;
      return refuse(error.message, 'Mend the file at these lines; a set is `set: NAME` and `versions:` with a version for each family.');
    }
    const made: { scope: object; row: TargetRow }[] = [];
    const faults: string[] = [];
    const scopes = new Set<string>();
    for (const target of set.targets)
      try {
        const one = await ruleFrom(target, who);
        const scope = JSON.stringify(one.scope);
        if (scopes.has(scope)) faults.push(`${target.family}: two versions for the same devices (${describeScope(one.row)})`);
        scopes.add(scope);
        made.push(one);
      } catch (error) {
        if (!(error instanceof Refusal)) throw error;
        faults.push(`${target.family} ${target.version}: ${error.detail} ${error.next}`);
      }
    if (faults.length > 0) return refuse(faults.join('\n'), 'Mend these; nothing was set.');
    return { name: set.name, note: set.note, made };
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
    summary: 'Set a target: the version for a family, or for one model, site or device of it; replaces the rule for the same set',
    body: targetInput,
    answer: targetSchema,
    audit: async ({ body }) => {
      const same = (await db.find(TargetEntity, { family: body.family })).find(
        (r) =>
          r.device === null &&
          body.device === null &&
          (['model', 'hardwareRevision', 'site', 'tag'] as const).every((k) => r[k] === body[k]),
      );
      return {
        subject: [body.family, body.model, body.hardwareRevision, body.site, body.tag, body.device]
          .filter((one) => one !== null)
          .join(', '),
        before: { family: body.family, acceptUnreleased: false, ...(same ? { version: same.version } : {}) },
      };
    },
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
    deed: 'nothing',
    body: targetInput,
    answer: targetPreviewSchema,
    run: async ({ body, who }) => {
      const { row } = await ruleFrom(body, who);
      return previewOf(row, await devices.whatIf(row));
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/targets/compare',
    role: 'viewer',
    summary: 'The fleet against a set of versions, as if its rules were the only ones; nothing is set',
    deed: 'nothing',
    body: targetSetInput,
    answer: targetComparisonSchema,
    run: async ({ body, who }) => {
      const { name, note, made } = await setFrom(body.text, who);
      const rows = made.map((m) => m.row);
      const under = await devices.whatIfOnly(rows);
      const all = await devices.all();
      const said = new Set(rows.flatMap((r) => [r.family, ...r.fromFamilies]));
      const without = byKey(
        all.filter(({ row }) => row.family !== null && !said.has(row.family)),
        ({ row }) => row.family!,
      );
      const now = new Map(all.map((d) => [d.row.id, d.target]));
      const rules = await Promise.all(
        rows.map(async (row) => {
          const meant = under.get(row.id) ?? [];
          const scheme = context.families.get(row.family)!.versions;
          const isTarget = (d: KnownDevice): boolean => {
            const target = now.get(d.row.id);
            return target?.family === row.family && sameVersion(scheme, target.version, row.version);
          };
          return {
            ...(await previewOf(row, meant)),
            family: row.family,
            title: titleOf(row.family),
            asTarget: meant.filter(isTarget).length,
            runs: runsOf(meant.filter((d) => d.standing.standing !== 'at-target')),
          };
        }),
      );
      return {
        set: name,
        note,
        rules,
        without: [...without].map(([family, those]) => ({ family, title: titleOf(family), devices: those.length })),
        devices: rules.reduce((sum, r) => sum + r.devices, 0),
        there: rules.reduce((sum, r) => sum + r.there, 0),
      };
    },
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/targets/set',
    role: 'operator',
    summary: 'Set all targets of a set of versions at once, or none of them; rules for other sets of devices stay',
    body: targetSetInput,
    answer: z.object({ set: z.string(), items: z.array(targetSchema) }),
    run: async ({ body, who }) => {
      const { name, made } = await setFrom(body.text, who);
      await db.write(async (em) => {
        for (const { scope } of made) await em.nativeDelete(TargetEntity, scope);
        await em.insertMany(
          TargetEntity,
          made.map((m) => m.row),
        );
      });
      context.live.changed('targets');
      return { set: name, items: await Promise.all(made.map(({ row }) => targetView(row))) };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/targets/set',
    role: 'viewer',
    summary: 'The targets as they are, as the file of a set of versions (YAML)',
    query: z.object({ name: z.string().min(1).max(120).default('as it is') }),
    answer: z.object({ text: z.string() }),
    run: async ({ query }) => {
      const rows = await db.find(TargetEntity, {}, { orderBy: { family: 'asc', setAt: 'asc' } });
      const names = new Map((await devices.all()).map((d) => [d.row.id, d.row.name]));
      return { text: writeTargetSet(query.name, rows, (id) => names.get(id) ?? id) };
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
