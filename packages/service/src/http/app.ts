import { OpenAPIHono } from '@hono/zod-openapi';
import { serveStatic } from '@hono/node-server/serve-static';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { compress } from 'hono/compress';
import { secureHeaders } from 'hono/secure-headers';
import type { ContentfulStatusCode } from 'hono/utils/http-status';
import { cause, CauseError, describeIssue, type Problem } from '@barrow/core';
import { isNoRoom } from '../data/database.js';
import { Refusal } from '../errors.js';
import type { Parts } from '../parts.js';
import { authenticate, type Env } from './auth.js';
import { docsPage } from './docs.js';
import { liveEvents } from './events.js';
import { deviceRoutes } from './routes-devices.js';
import { discoveryRoutes } from './routes-discovery.js';
import { imageRoutes } from './routes-images.js';
import { familyRoutes } from './routes-families.js';
import { teachingRoutes } from './routes-teaching.js';
import { deedRoutes } from './routes-deeds.js';
import { noticeRoutes } from './routes-notices.js';
import { rolloutRoutes } from './routes-rollouts.js';
import { advisoryRoutes } from './routes-advisories.js';
import { setupRoutes } from './routes-setup.js';
import { backupRoutes } from './routes-backups.js';
import { stagingRoutes } from './routes-staging.js';
import { transferRoutes } from './routes-transfers.js';
import { targetRoutes } from './routes-targets.js';

function asProblem(error: Refusal): Problem {
  return {
    type: `about:blank#${error.code}`,
    title: error.title,
    status: error.status,
    detail: error.detail,
    code: error.code,
    next: error.next,
  };
}

/** Whether every % of an address begins a character of UTF-8. */
function isDecodable(address: string): boolean {
  try {
    decodeURIComponent(address);
    return true;
  } catch {
    return false;
  }
}

/** The HTTP interface: the API under /api/v1, its description, live events, and the console for everything else. */
export function makeApp(parts: Parts, closing: AbortSignal): OpenAPIHono<Env> {
  const { context } = parts;
  const app = new OpenAPIHono<Env>({
    defaultHook: (result) => {
      if (result.success) return;
      const told = [...new Set(result.error.issues.map((issue) => describeIssue(issue, (result as { data?: unknown }).data)))]
        .slice(0, 3)
        .join('; ');
      throw new Refusal(400, 'request-malformed', 'The request was not understood', `${told}.`, 'See /api/docs for what is expected.');
    },
  });
  const answer = (error: Refusal): Response => {
    const problem = asProblem(error);
    return new Response(JSON.stringify(problem), { status: problem.status, headers: { 'content-type': 'application/problem+json' } });
  };
  app.onError((error) => {
    if (error instanceof Refusal) return answer(error);
    // What a device would not do is told by its named cause, as everywhere else.
    if (error instanceof CauseError) {
      const { code, what, next } = cause(error.code);
      return answer(new Refusal(409, code, what, `${error.detail}.`, next));
    }
    if (isNoRoom(error))
      return answer(
        new Refusal(
          507,
          'disk-full',
          'Nothing was changed',
          `The disk of the service is full or cannot be written: ${error.message}.`,
          'Make room on the disk that holds the data folder, then do it again. Running rollouts wait for room and lose nothing.',
        ),
      );
    const status = (error as { status?: ContentfulStatusCode }).status;
    if (status !== undefined && status < 500)
      return answer(
        new Refusal(400, 'request-malformed', 'The request was not understood', error.message, 'See /api/docs for what is expected.'),
      );
    context.log.error({ error: { message: error.message, stack: error.stack } }, 'request failed');
    return answer(
      new Refusal(
        500,
        'service-fault',
        'Barrow failed',
        'A fault of the service; it is in its log.',
        'Try again; if it repeats, report it with the log.',
      ),
    );
  });
  app.use(
    '*',
    secureHeaders({
      contentSecurityPolicy: {
        defaultSrc: ["'self'"],
        scriptSrc: ["'self'"],
        styleSrc: ["'self'", "'unsafe-inline'"],
        imgSrc: ["'self'", 'data:', 'blob:'],
        frameAncestors: ["'none'"],
        baseUri: ["'none'"],
        formAction: ["'self'"],
        objectSrc: ["'none'"],
      },
      referrerPolicy: 'no-referrer',
    }),
  );
  app.use('*', compress({ threshold: 4096, contentTypeFilter: /^(application\/(json|javascript)|text\/(css|javascript|html))/ }));
  // No name, id or value holds a NUL character, and SQL text cannot.
  app.use('/api/*', async (c, next) => {
    if (/%00/.test(c.req.url) || !isDecodable(c.req.url))
      throw new Refusal(
        400,
        'address-malformed',
        'The request was not understood',
        'Its address holds a NUL character, or a % that is followed by no character of UTF-8.',
        'Encode names in addresses as RFC 3986 says, e.g. %25 for a %.',
      );
    await next();
    c.header('cache-control', 'no-store');
  });
  app.use('/api/v1/*', authenticate(context, parts.tokens));
  app.get('/api/v1/events', (c) =>
    liveEvents(c, context.live, parts.journal, { closing, removed: parts.tokens.removal(c.get('who').token) }),
  );
  setupRoutes(app, parts);
  discoveryRoutes(app, parts);
  deviceRoutes(app, parts);
  targetRoutes(app, parts);
  imageRoutes(app, parts);
  stagingRoutes(app, parts);
  transferRoutes(app, parts);
  backupRoutes(app, parts);
  advisoryRoutes(app, parts);
  rolloutRoutes(app, parts);
  familyRoutes(app, parts);
  teachingRoutes(app, parts);
  noticeRoutes(app, parts);
  deedRoutes(app, parts);

  app.openAPIRegistry.registerComponent('securitySchemes', 'token', { type: 'http', scheme: 'bearer' });
  const info = { openapi: '3.1.0', info: { title: 'Barrow', version: parts.version } };
  let described: unknown = null;
  const describe = (): unknown => (described ??= app.getOpenAPI31Document(info));
  app.get('/api/openapi.json', (c) => c.json(describe() as object));
  app.get('/api/docs', (c) => c.html(docsPage(describe() as never)));
  app.all('/api/*', (c) => {
    throw new Refusal(
      404,
      'no-such-path',
      'There is nothing here',
      `${c.req.method} ${c.req.path} is not part of the interface.`,
      'See /api/docs.',
    );
  });

  const folder = context.options.consoleFolder;
  if (folder) {
    app.use('/assets/*', async (c, next) => {
      await next();
      if (c.res.ok) c.header('cache-control', 'public, max-age=31536000, immutable');
    });
    app.use('*', serveStatic({ root: folder }));
    const page = readFileSync(join(folder, 'index.html'), 'utf8');
    app.get('*', (c) => (c.req.path.startsWith('/assets/') ? c.notFound() : c.html(page)));
  }
  return app;
}
