import type { IncomingMessage, ServerResponse } from 'node:http';
import { Readable } from 'node:stream';
import type { Context as HonoContext } from 'hono';
import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  carriedSchema,
  imageDetailSchema,
  imageNoteSchema,
  imageSchema,
  takenSchema,
  takeInput,
  uploadInput,
  uploadSchema,
} from '@barrow/core';
import { Refusal } from '../errors.js';
import { noWishes } from '../images/intake.js';
import type { Parts } from '../parts.js';
import { need, type Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** The body as it comes from the socket. Giving up on it does not close the socket, so that the refusal can still be read. */
async function withBody<T>(c: HonoContext<Env>, use: (body: Readable) => Promise<T>): Promise<T> {
  const { incoming, outgoing } = c.env as unknown as { incoming: IncomingMessage; outgoing: ServerResponse };
  try {
    return await use(Readable.from(incoming.iterator({ destroyOnReturn: false }), { objectMode: true, highWaterMark: 4 }));
  } catch (error) {
    // What still comes is thrown away, and nobody begins another request behind it.
    outgoing.setHeader('connection', 'close');
    throw error;
  } finally {
    incoming.resume();
  }
}

const streamed = { content: { 'application/octet-stream': { schema: { type: 'string', format: 'binary' } as never } } };

/** Images: taken in, listed, noted, carried. */
export function imageRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { images, intake, imageViews, carrying, runner } = parts;
  const taken = async (result: Awaited<ReturnType<typeof intake.take>>) => {
    const views = await imageViews.list(result.images.map((i) => i.row));
    return { images: views.map((view, i) => ({ ...view, isNew: result.images[i]!.isNew })), remarks: [...result.remarks] };
  };

  addOperation(app, {
    method: 'get',
    path: '/api/v1/images',
    role: 'viewer',
    summary: 'The images in the store',
    answer: z.object({ items: z.array(imageSchema) }),
    run: async () => ({ items: await imageViews.list(await images.list()) }),
  });
  // Bodies of any size stream past the JSON operations; they are described by hand.
  app.openAPIRegistry.registerPath({
    method: 'post',
    path: '/api/v1/images',
    summary: 'Add one image file: the body is the file',
    description:
      'Needs the role operator. 201: it is new; 200: the store had this very content. Archives and several files come by uploads.',
    request: {
      query: z.object({
        file: z.string(),
        family: z.string().optional(),
        model: z.string().optional(),
        hardwareRevision: z.string().optional(),
        version: z.string().optional(),
        sha256: z.string().optional(),
      }),
      body: streamed,
    },
    responses: { 201: { description: 'Added', content: { 'application/json': { schema: imageSchema } } } },
  });
  app.post('/api/v1/images', async (c) => {
    need(c.get('who'), 'operator');
    const asked = (name: string): string | null => c.req.query(name) ?? null;
    const wishes = {
      ...noWishes,
      family: asked('family'),
      model: asked('model'),
      hardwareRevision: asked('hardwareRevision'),
      version: asked('version'),
      digest: asked('sha256'),
    };
    const result = await withBody(c, (body) => intake.receive(body, asked('file') ?? '', wishes, c.get('who').name));
    const { images: made } = await taken(result);
    const { isNew, ...view } = made[0]!;
    return c.json(view, isNew ? 201 : 200);
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/uploads',
    role: 'operator',
    summary: 'Begin an upload, or find the one that was begun of the same file',
    // The audit log has what is taken in, not each piece on its way.
    deed: 'nothing',
    body: uploadInput,
    answer: uploadSchema,
    run: ({ body, who }) => intake.uploads.begin(body.file, body.bytes, body.key, who.name),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/uploads/{id}',
    role: 'operator',
    summary: 'How much of an upload has come',
    params: idParam,
    answer: uploadSchema,
    run: ({ params }) => intake.uploads.view(params.id),
  });
  app.openAPIRegistry.registerPath({
    method: 'put',
    path: '/api/v1/uploads/{id}',
    summary: 'Send the file from an offset on: the body is what follows',
    description: 'Needs the role operator. The offset must be what was received.',
    request: { params: idParam, query: z.object({ offset: z.string() }), body: streamed },
    responses: { 200: { description: 'Received', content: { 'application/json': { schema: uploadSchema } } } },
  });
  app.put('/api/v1/uploads/:id', async (c) => {
    need(c.get('who'), 'operator');
    c.set('deed', 'nothing');
    const offset = Number(c.req.query('offset') ?? '0');
    if (!Number.isSafeInteger(offset) || offset < 0)
      throw new Refusal(400, 'request-malformed', 'The request was not understood', 'offset is no number of octets.', 'See /api/docs.');
    return c.json(await withBody(c, (body) => intake.uploads.append(c.req.param('id'), offset, body)));
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/uploads/{id}',
    role: 'operator',
    summary: 'Forget an upload and what came of it',
    deed: 'nothing',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => {
      await intake.uploads.view(params.id);
      await intake.uploads.drop(params.id);
      return { removed: params.id };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/images/take',
    role: 'operator',
    summary: 'Take uploaded files in: images, notes, checksum files, archives; all or nothing',
    body: takeInput,
    answer: takenSchema,
    audit: async ({ body }) => {
      const files = await Promise.all(body.uploads.map(async (id) => (await intake.uploads.view(id)).file));
      return { subject: files.join(', ') };
    },
    run: async ({ body, who }) => taken(await intake.take(body.uploads, body, who.name)),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/images/verify',
    deed: 'nothing',
    role: 'operator',
    summary: 'Read the whole store again and name what has rotted',
    answer: z.object({ items: z.array(z.object({ sha256: z.string(), file: z.string(), sound: z.boolean(), detail: z.string() })) }),
    run: async () => ({ items: await images.verify() }),
  });
  app.openAPIRegistry.registerPath({
    method: 'get',
    path: '/api/v1/images/carry',
    summary: 'Images with their notes, families and targets as one archive; all images, or those named by repeated `image`',
    description: 'Needs the role viewer.',
    request: { query: z.object({ image: z.string().optional() }) },
    responses: {
      200: { description: 'A tar archive', content: { 'application/x-tar': { schema: { type: 'string', format: 'binary' } as never } } },
    },
  });
  app.get('/api/v1/images/carry', async (c) => {
    const named = c.req.queries('image') ?? [];
    const meant = named.length > 0 ? await Promise.all(named.map((n) => images.get(n))) : await images.list();
    if (meant.length === 0)
      throw new Refusal(
        422,
        'nothing-to-do',
        'There is nothing to carry',
        'The store is empty.',
        'Add images with `barrow image add FILE`.',
      );
    const stream = await carrying.export([...new Map(meant.map((i) => [i.sha256, i])).values()]);
    return c.body(Readable.toWeb(stream) as ReadableStream, 200, { 'content-type': 'application/x-tar' });
  });
  app.openAPIRegistry.registerPath({
    method: 'post',
    path: '/api/v1/images/carry',
    summary: 'Take in an archive that was carried here: the body is the archive',
    description: 'Needs the role admin, since families say how devices are handled. Checked as a whole before anything is taken.',
    request: { query: z.object({ dryRun: z.string().optional() }), body: streamed },
    responses: { 200: { description: 'What was taken', content: { 'application/json': { schema: carriedSchema } } } },
  });
  app.post('/api/v1/images/carry', async (c) => {
    need(c.get('who'), 'admin');
    const dryRun = c.req.query('dryRun') === 'true';
    return c.json(await withBody(c, (body) => carrying.import(body, dryRun, c.get('who').name)));
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/images/{id}',
    role: 'viewer',
    summary: 'One image, by digest or file name, with its note, what it mends and what it breaks',
    params: idParam,
    answer: imageDetailSchema,
    run: async ({ params }) => imageViews.detail(await images.get(params.id)),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/images/{id}/note',
    role: 'operator',
    summary: 'Put another note to an image',
    params: idParam,
    body: imageNoteSchema,
    answer: imageDetailSchema,
    run: async ({ params, body }) => imageViews.detail(await images.setNote(params.id, body)),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/images/{id}/read',
    role: 'operator',
    summary: 'Keep that one has read the notes of an image',
    params: idParam,
    answer: imageDetailSchema,
    run: async ({ params, who }) => imageViews.detail(await images.read(params.id, who.name)),
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/images/{id}',
    role: 'operator',
    summary: 'Remove an image that nothing needs',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => ({
      removed: (await images.remove(params.id, (sha256) => runner.neededBy(sha256) ?? parts.deliveries.underWay(sha256))).file,
    }),
  });
}
