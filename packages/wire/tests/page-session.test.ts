import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { writeFileSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { text } from 'node:stream/consumers';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { PageSession, uploadHttp, type HttpTarget } from '@barrow/wire';

/** What each path answers; `body` of a request is kept. */
const answers: Record<string, { status: number; headers?: Record<string, string | string[]> }> = {
  '/in': { status: 302, headers: { location: '/home', 'set-cookie': ['sid=1; Path=/', 'gone=1; Max-Age=0', 'deep=1; Path=/deep'] } },
  '/home': { status: 200 },
  '/out': { status: 303, headers: { location: '/home', 'set-cookie': 'sid=; Expires=Thu, 01 Jan 1970 00:00:00 GMT; Path=/' } },
  '/again': { status: 307, headers: { location: '/home' } },
  '/away': { status: 302, headers: { location: 'http://127.0.0.2:9/home' } },
  '/loop': { status: 302, headers: { location: '/loop' } },
  '/secure': { status: 200, headers: { 'set-cookie': 'other=1; Secure; Path=/' } },
};

describe('pages of a device', () => {
  const asked: { line: string; cookie: string; body: string; type: string; by: string }[] = [];
  let server: Server;
  let target: HttpTarget;
  let pages: PageSession;
  beforeAll(async () => {
    server = createServer((request, response) => {
      const { cookie = '', 'content-type': type = '', 'x-asked-by': by = '' } = request.headers;
      void text(request).then((body) => {
        asked.push({ line: `${request.method} ${request.url}`, cookie, body, type, by: String(by) });
        const { status, headers = {} } = answers[request.url!] ?? { status: 404 };
        response.writeHead(status, headers).end('page');
      });
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    target = { host: '127.0.0.1', port: (server.address() as AddressInfo).port, secure: false, access: null, timeoutMs: 5000 };
  });
  beforeEach(() => {
    asked.length = 0;
    pages = new PageSession();
  });
  afterAll(() => new Promise((resolve) => server.close(resolve)));

  it('keep cookies, drop those that end, and follow a redirect with GET', async () => {
    const answer = await pages.ask(target, '/in', {
      method: 'POST',
      body: 'a=1',
      type: 'application/x-www-form-urlencoded',
      headers: { 'X-Asked-By': 'us' },
    });
    expect(answer).toMatchObject({ status: 200, body: 'page' });
    expect(asked).toMatchObject([
      { line: 'POST /in', body: 'a=1', cookie: '' },
      { line: 'GET /home', body: '', cookie: 'sid=1', type: '', by: 'us' },
    ]);
    await pages.ask(target, '/out');
    await pages.ask(target, '/home');
    expect(asked.at(-1)!.cookie).toBe('');
  });

  it('send the same again where the redirect says so (RFC 9110 §15.4.8)', async () => {
    await pages.ask(target, '/again', { method: 'POST', body: 'a=1' });
    expect(asked.map((a) => [a.line, a.body])).toEqual([
      ['POST /again', 'a=1'],
      ['POST /home', 'a=1'],
    ]);
  });

  it('never follow to another host, and never for ever', async () => {
    expect((await pages.ask(target, '/away')).status).toBe(302);
    expect(asked).toHaveLength(1);
    expect((await pages.ask(target, '/loop')).status).toBe(302);
    expect(asked).toHaveLength(7);
  });

  it('send a secure cookie over TLS only', async () => {
    const secure = { ...target, secure: true };
    pages.keep(secure, '/', ['only=1; Secure; Path=/']);
    expect([pages.cookies(target, '/home'), pages.cookies(secure, '/home')]).toEqual(['', 'only=1']);
    // Nor may a plain page set one.
    await pages.ask(target, '/secure');
    expect(pages.cookies(secure, '/home')).toBe('only=1');
  });

  it('take a file with other fields of its form, and headers', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'barrow-page-'));
    writeFileSync(join(folder, 'a.bin'), 'content');
    const as = { how: 'form', field: 'image', fields: { token: '5f2e', kind: 'system' } } as const;
    const file = { path: join(folder, 'a.bin'), bytes: 7, name: 'a.bin' };
    const answer = await uploadHttp(target, { method: 'POST', path: '/out', as, file, headers: { 'X-Asked-By': 'us' } });
    rmSync(folder, { recursive: true });
    expect(answer).toMatchObject({ status: 303, location: '/home' });
    const [{ body, type, by }] = asked as [(typeof asked)[number]];
    const form = await new Response(body, { headers: { 'content-type': type } }).formData();
    expect([form.get('token'), form.get('kind'), await (form.get('image') as File).text(), by]).toEqual([
      '5f2e',
      'system',
      'content',
      'us',
    ]);
  });
});
