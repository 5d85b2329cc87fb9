import { z, type OpenAPIHono } from '@hono/zod-openapi';
import { describeRange, familySummarySchema } from '@barrow/core';
import { isUpgradable, remarksOfSense, whatWorks } from '@barrow/families';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** The gear that Barrow knows: families that ship, and files that were added. */
export function familyRoutes(app: OpenAPIHono<Env>, { context, familyFiles, proven }: Parts): void {
  const { db } = context;
  addOperation(app, {
    method: 'get',
    path: '/api/v1/families',
    role: 'viewer',
    summary: 'The families that Barrow knows, and which of them it can upgrade',
    answer: z.object({ items: z.array(familySummarySchema) }),
    run: async () => {
      const counted = await db.select<{ family: string; n: number }>(
        'select family, count(*) as n from device where family is not null group by family',
      );
      const counts = new Map(counted.map(({ family, n }) => [family, n]));
      return {
        items: [...context.families.values()].map((f) => ({
          family: f.family,
          title: f.title,
          maker: f.maker,
          kind: f.kind,
          models: f.models,
          upgradable: isUpgradable(f),
          recognisedBy: [...new Set(f.recognise.flatMap((r) => Object.keys(r)))],
          procedures: Object.keys(f.procedures),
          storage: f.storage?.note ?? null,
          travel:
            f.travel === undefined
              ? null
              : f.travel.how === 'pushed'
                ? 'Barrow carries it to the device'
                : f.travel.how === 'through-parent'
                  ? 'through the storage of its parent'
                  : `the device pulls by ${f.travel.protocol.toUpperCase()}`,
          ways: f.ways.map(({ name, component, from, stretches, pointOfNoReturn }) => ({
            name,
            component,
            from: from ? describeRange(from) : null,
            steps: Object.values(stretches).flatMap((steps) => steps.map((s) => s.step)),
            pointOfNoReturn,
          })),
          devices: counts.get(f.family) ?? 0,
          added: familyFiles.isAdded(f.family),
          works: [...whatWorks(f)],
          unproven: isUpgradable(f) ? proven.lacking(f.family) : [],
        })),
      };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/families/{id}/file',
    role: 'viewer',
    summary: 'The file of a family, as it was written (YAML)',
    params: idParam,
    answer: z.object({ family: z.string(), text: z.string() }),
    run: async ({ params }) => ({ family: params.id, text: familyFiles.text(params.id) }),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/families',
    role: 'admin',
    summary: 'Add a family file; what runs keeps the one that its plan was made with',
    body: z.strictObject({ text: z.string().min(1).max(1_000_000), replace: z.boolean().default(false) }),
    mostBody: 1_100_000,
    answer: z.object({ family: z.string(), title: z.string(), what: z.string(), works: z.array(z.string()), remarks: z.array(z.string()) }),
    run: async ({ body }) => {
      const { family, what } = await familyFiles.add(body.text, body.replace);
      return {
        family: family.family,
        title: family.title,
        what,
        works: whatWorks(family),
        remarks: remarksOfSense(family).map((r) => `${r.path.join('.')}: ${r.message}`),
      };
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/families/{id}',
    role: 'admin',
    summary: 'Remove a family that was added, and of which nothing is here',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => {
      await familyFiles.remove(params.id);
      return { removed: params.id };
    },
  });
}
