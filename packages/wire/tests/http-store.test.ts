import { createHash, randomBytes } from 'node:crypto';
import { appendFileSync, mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createServer, request } from 'node:http';
import { connect, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { challenge, contentDigest, FileServer, opens, type FileEnd, type Guard, type HttpAccess } from '@barrow/wire';
import { certificate } from '../../standins/dist/net/certificate.js';
import { command } from '../../../tests/support/command.js';
import { has } from '../../../tests/support/service.js';

const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const curl = (...args: string[]) => command('curl', ['-s', '-S', ...args], tmpdir());

describe('a server of files', () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-http-'));
  const content = randomBytes(3_000_001);
  const path = join(dir, 'image');
  const ends: { end: FileEnd; sent: number }[] = [];
  const refused: string[] = [];
  const guards: Record<string, Guard> = {
    basic: { how: 'basic', user: 'store', password: 'pass:word' },
    digest: { how: 'digest', user: 'store', password: 'pass:word' },
  };
  const server = new FileServer<string>({
    hosts: ['127.0.0.1'],
    port: 0,
    tls: null,
    answer: ({ path: asked }) => {
      const guard = guards[asked.slice(1)] ?? null;
      return asked === '/image' || guard
        ? { kind: 'send', path, bytes: content.length, etag: sha(content), tag: asked, link: null, guard }
        : { kind: 'refuse', status: 403, message: 'nothing is staged for this address' };
    },
    onBegin: () => undefined,
    onProgress: () => undefined,
    onEnd: (_tag, end, sent) => ends.push({ end, sent }),
    onRefused: (_peer, _request, why) => refused.push(why),
    mostFromOne: 8,
  });
  let at = '';
  let port = 0;
  const out = join(dir, 'out');
  const got = () => sha(readFileSync(out));

  beforeAll(async () => {
    writeFileSync(path, content);
    ({ port } = await server.start());
    at = `http://127.0.0.1:${port}`;
  });
  afterAll(async () => {
    await server.stop();
    rmSync(dir, { recursive: true });
  });

  it.skipIf(!has('curl'))('gives curl the whole, with its length, a strong tag, and nothing twice', async () => {
    const { code, out: headers } = await curl('-D', '-', '-o', out, `${at}/image`);
    expect(code).toBe(0);
    expect(got()).toBe(sha(content));
    expect(headers).toContain(`content-length: ${content.length}`);
    expect(headers).toContain(`etag: "${sha(content)}"`);
    expect((await curl('-o', '/dev/null', '-w', '%{http_code}', '-H', `if-none-match: "${sha(content)}"`, `${at}/image`)).out).toBe('304');
    for (const [match, code] of [
      ['"x"', '412'],
      [`"x", "${sha(content)}"`, '200'],
      ['*', '200'],
    ] as const)
      expect((await curl('-o', '/dev/null', '-w', '%{http_code}', '-H', `if-match: ${match}`, `${at}/image`)).out).toBe(code);
    expect((await curl('-I', `${at}/image`)).out).toContain('accept-ranges: bytes');
  });

  it.skipIf(!has('curl'))('lets curl resume where it was cut, and begins anew for another content', async () => {
    writeFileSync(out, content.subarray(0, 1_234_567));
    expect((await curl('-C', '-', '-o', out, `${at}/image`)).code).toBe(0);
    expect(got()).toBe(sha(content));
    // curl is content with the last octet; the server hears of that a little later.
    await expect.poll(() => ends.at(-1)).toEqual({ end: { kind: 'done' }, sent: content.length - 1_234_567 });
    // RFC 9110 §13.1.5: another tag means another content, and the whole is sent.
    const [same, other] = await Promise.all([
      curl('-o', '/dev/null', '-w', '%{http_code}', '-H', 'range: bytes=10-19', '-H', `if-range: "${sha(content)}"`, `${at}/image`),
      curl('-o', '/dev/null', '-w', '%{http_code}', '-H', 'range: bytes=10-19', '-H', 'if-range: "older"', `${at}/image`),
    ]);
    expect([same.out, other.out]).toEqual(['206', '200']);
  });

  it.skipIf(!has('curl')).each([
    ['0-0', '206', 1],
    ['-5', '206', 5],
    ['2999999-', '206', 2],
    ['3000001-', '416', 0],
    ['9-1', '200', 3_000_001],
    ['pages=1-2', '200', 3_000_001],
    ['0-1,4-5', '200', 3_000_001],
  ])('answers the range %s with %s', async (range, status, octets) => {
    const header = range.startsWith('pages') ? `range: ${range}` : `range: bytes=${range}`;
    const { out: told } = await curl('-o', out, '-w', '%{http_code}', '-H', header, `${at}/image`);
    const wanted = range === '9-1' ? ['200', '416'] : [status];
    expect(wanted).toContain(told);
    if (told === status) expect(statSync(out).size).toBe(octets === 0 ? statSync(out).size : octets);
  });

  it.skipIf(!has('curl')).each(['basic', 'digest'] as const)('opens for a %s login, and for no other', async (how) => {
    const good = await curl(`--${how}`, '-u', 'store:pass:word', '-o', out, '-w', '%{http_code}', `${at}/${how}`);
    expect(good.out).toBe('200');
    expect(got()).toBe(sha(content));
    const bad = await curl(`--${how}`, '-u', 'store:password', '-o', '/dev/null', '-w', '%{http_code}', `${at}/${how}`);
    expect(bad.out).toBe('401');
    expect((await curl('-o', '/dev/null', '-w', '%{http_code}', `${at}/${how}`)).out).toBe('401');
  });

  it('takes no nonce of anybody else, none that is old, and no basic login where digest is demanded', () => {
    const guard = guards['digest']!;
    const basic = `Basic ${Buffer.from('store:pass:word').toString('base64')}`;
    expect(opens(guard, basic, 'GET', '/digest')).toBe(false);
    const [header] = challenge(guard, 1_000_000);
    const nonce = /nonce="([^"]+)"/.exec(header!)![1]!;
    const h = (text: string) => createHash('sha256').update(text).digest('hex');
    const answer = (n: string) => {
      const response = h([h('store:Barrow store:pass:word'), n, '00000001', 'c', 'auth', h('GET:/digest')].join(':'));
      return `Digest username="store", realm="Barrow store", nonce="${n}", uri="/digest", algorithm=SHA-256, qop=auth, nc=00000001, cnonce="c", response="${response}"`;
    };
    expect(opens(guard, answer(nonce), 'GET', '/digest', 1_000_001)).toBe(true);
    expect(opens(guard, answer(nonce), 'GET', '/other', 1_000_001)).toBe(false);
    expect(opens(guard, answer(nonce), 'GET', '/digest', 1_000_000 + 3_600_000)).toBe(false);
    expect(opens(guard, answer(`${nonce.split('.')[0]}.${'0'.repeat(32)}`), 'GET', '/digest', 1_000_001)).toBe(false);
  });

  it.each(['/../image', '/%2e%2e/%2e%2e/etc/passwd', '/image%00.txt', '//etc/passwd', '/%ff%fe', `/${'x'.repeat(10_000)}`])(
    'gives nothing for %s',
    async (asked) => {
      const status = await new Promise<number>((resolve, reject) => {
        request({ host: '127.0.0.1', port, path: asked, agent: false }, (response) => {
          response.resume();
          resolve(response.statusCode ?? 0);
        })
          .on('error', reject)
          .end();
      });
      expect([400, 403]).toContain(status);
    },
  );

  it.skipIf(!has('curl'))('speaks TLS with the certificate that it is given', async () => {
    const secure = new FileServer<string>({
      hosts: ['127.0.0.1'],
      port: 0,
      tls: certificate,
      answer: () => ({ kind: 'send', path, bytes: content.length, etag: sha(content), tag: 'f', link: null, guard: null }),
      onBegin: () => undefined,
      onProgress: () => undefined,
      onEnd: () => undefined,
      onRefused: () => undefined,
    });
    const { port: tls } = await secure.start();
    expect((await curl('-k', '-o', out, `https://127.0.0.1:${tls}/f`)).code).toBe(0);
    expect(got()).toBe(sha(content));
    expect((await curl('-o', '/dev/null', `http://127.0.0.1:${tls}/f`)).code).not.toBe(0);
    await secure.stop();
  });

  it.skipIf(!has('curl'))('takes no files', async () => {
    const { out: told } = await curl('-o', '/dev/null', '-w', '%{http_code}', '-T', path, `${at}/image`);
    expect(told).toBe('405');
    expect(sha(readFileSync(path))).toBe(sha(content));
  });

  it('is read back whole to take its digest, with whatever login it asks for', async () => {
    const target = (access: HttpAccess | null) => ({ host: '127.0.0.1', port, secure: false, access, timeoutMs: 5000 });
    const login = { user: 'store', password: 'pass:word' };
    const whole = { sha256: sha(content), bytes: content.length, how: 'read' };
    expect(await contentDigest(target(null), '/image')).toEqual(whole);
    expect(await contentDigest(target({ how: 'basic', ...login }), '/basic')).toEqual(whole);
    expect(await contentDigest(target({ how: 'digest', ...login }), '/digest')).toEqual(whole);
    await expect(contentDigest(target({ how: 'digest', ...login, password: 'no' }), '/digest')).rejects.toMatchObject({
      fault: 'login-refused',
    });
    expect(await contentDigest(target(null), '/nothing')).toBeNull();
    await expect(contentDigest({ ...target(null), port: 1 }, '/image')).rejects.toMatchObject({ fault: 'refused' });
  });

  it('need not be read back where the server tells its digest (RFC 9530)', async () => {
    const asked: string[] = [];
    const server = createServer((request, response) => {
      asked.push(`${request.method} ${request.headers['want-repr-digest'] ?? '-'}`);
      const digest = createHash('sha256').update(content).digest('base64');
      response.writeHead(200, { 'content-length': content.length, 'repr-digest': `unixsum=:AAA=:, sha-256=:${digest}:` }).end();
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const target = { host: '127.0.0.1', port: (server.address() as AddressInfo).port, secure: false, access: null, timeoutMs: 5000 };
    expect(await contentDigest(target, '/image')).toEqual({ sha256: sha(content), bytes: content.length, how: 'told' });
    expect(asked).toEqual(['HEAD sha-256=10']);
    server.close();
  });

  it('notices who goes away in the middle, and how far it had come', async () => {
    await expect.poll(() => server.active).toBe(0); // What earlier tests fetched has ended here too.
    const before = ends.length;
    const socket = connect(port, '127.0.0.1');
    socket.write('GET /image HTTP/1.1\r\nhost: x\r\n\r\n');
    await new Promise<void>((resolve) => socket.once('data', () => resolve()));
    socket.destroy();
    await expect.poll(() => ends.length).toBe(before + 1);
    expect(ends.at(-1)!.end).toMatchObject({ kind: 'broken' });
    expect(ends.at(-1)!.sent).toBeLessThan(content.length);
    await expect.poll(() => server.active).toBe(0);
  });

  it('lets one address open a few connections only, and others go on', async () => {
    const sockets = Array.from({ length: 40 }, () =>
      connect({ port, host: '127.0.0.1', localAddress: '127.0.0.3' }).on('error', () => undefined),
    );
    const closed = await Promise.all(
      sockets.map((s) =>
        Promise.race([
          new Promise<boolean>((resolve) => s.once('close', () => resolve(true))),
          new Promise<boolean>((resolve) => s.once('connect', () => setTimeout(() => resolve(false), 300))),
        ]),
      ),
    );
    expect(closed.filter(Boolean).length).toBeGreaterThanOrEqual(32);
    if (has('curl')) {
      expect((await curl('-o', out, `${at}/image`)).code).toBe(0);
      expect(got()).toBe(sha(content));
    }
    for (const socket of sockets) socket.destroy();
    appendFileSync(out, '');
  });
});

describe('a flood of connections that ask for nothing', () => {
  it.skipIf(!has('curl'))('leaves room for those to whom something is offered', async () => {
    const dir = mkdtempSync(join(tmpdir(), 'barrow-flood-'));
    const path = join(dir, 'image');
    writeFileSync(path, 'the image');
    const device = '127.0.0.77';
    const server = new FileServer<null>({
      hosts: ['127.0.0.1'],
      port: 0,
      tls: null,
      answer: () => ({ kind: 'send', path, bytes: 9, etag: 'x', tag: null, link: null, guard: null }),
      onBegin: () => undefined,
      onProgress: () => undefined,
      onEnd: () => undefined,
      onRefused: () => undefined,
      isExpected: (address) => address === device,
    });
    const { port } = await server.start();
    // Each address opens fewer than one may; together they open more than strangers may.
    const sockets = Array.from({ length: 1200 }, (_, i) => connect({ host: '127.0.0.1', port, localAddress: `127.0.1.${1 + (i % 60)}` }));
    const closed = new Promise<void>((resolve) => {
      let count = 0;
      for (const socket of sockets) socket.on('error', () => undefined).on('close', () => ++count === 900 && resolve());
    });
    await closed;
    const { code, out } = await curl('--interface', device, `http://127.0.0.1:${port}/image`);
    expect([code, out]).toEqual([0, 'the image']);
    expect(sockets.filter((s) => !s.destroyed).length).toBeLessThanOrEqual(300);
    for (const socket of sockets) socket.destroy();
    await server.stop();
    rmSync(dir, { recursive: true });
  });
});
