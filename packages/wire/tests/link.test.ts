import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, describe, expect, it } from 'vitest';
import { FileServer, Pacer, sharedLink, ThreadedTftp, uploadHttp } from '@barrow/wire';
import { command } from '../../../tests/support/command.js';

describe('a link', () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-link-'));
  const path = join(dir, 'f');
  const content = randomBytes(60_000);
  writeFileSync(path, content);
  afterAll(() => rmSync(dir, { recursive: true }));
  const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');

  it('is shared by what is fetched by TFTP and by HTTP and by what is pushed, in whatever thread', async () => {
    const link = sharedLink('berth', 60_000);
    const send = { kind: 'send' as const, path, bytes: content.length, link, tag: 'f' };
    const nothing = () => undefined;
    const tftp = new ThreadedTftp<string>({
      hosts: ['127.0.0.1'],
      port: 0,
      answer: () => send,
      onBegin: nothing,
      onProgress: nothing,
      onEnd: nothing,
      onRefused: nothing,
      onLost: nothing,
    });
    const http = new FileServer<string>({
      hosts: ['127.0.0.1'],
      port: 0,
      tls: null,
      answer: () => ({ ...send, etag: 'f', guard: null }),
      onBegin: nothing,
      onProgress: nothing,
      onEnd: nothing,
      onRefused: nothing,
    });
    const taken: Buffer[] = [];
    const device = createServer((request, response) => {
      request.on('data', (d: Buffer) => taken.push(d));
      request.on('end', () => response.end('taken'));
    });
    await new Promise<void>((resolve) => device.listen(0, '127.0.0.1', resolve));
    const [tftpAt, httpAt] = await Promise.all([tftp.start(), http.start()]);
    try {
      const began = performance.now();
      const [byTftp, byHttp, pushed] = await Promise.all([
        command('curl', ['-s', '-S', '--tftp-blksize', '1024', '-o', 'tftp', `tftp://127.0.0.1:${tftpAt.port}/f`], dir),
        command('curl', ['-s', '-S', '-o', 'http', `http://127.0.0.1:${httpAt.port}/f`], dir),
        uploadHttp(
          { host: '127.0.0.1', port: (device.address() as AddressInfo).port, secure: false, access: null, timeoutMs: 20_000 },
          { method: 'PUT', path: '/f', as: { how: 'body' }, file: { path, bytes: content.length, name: 'f' }, link },
        ),
      ]);
      const seconds = (performance.now() - began) / 1000;
      expect([byTftp.code, byHttp.code, pushed.status]).toEqual([0, 0, 200]);
      for (const got of [readFileSync(join(dir, 'tftp')), readFileSync(join(dir, 'http')), Buffer.concat(taken)])
        expect(sha(got)).toBe(sha(content));
      // 180,000 octets, of which a fifth of a second's may go at once: no link of 60,000 a second carries them sooner.
      expect(seconds).toBeGreaterThan(2.5);
    } finally {
      await Promise.all([tftp.stop(), http.stop(), new Promise((resolve) => device.close(resolve))]);
    }
  });

  it('is no faster for many than for one, and its rate can change under them', () => {
    const slow = sharedLink('berth', 1000);
    const pacers = [new Pacer(slow), new Pacer(slow)];
    let took = 0;
    while (pacers[took % 2]!.take(50) === 0) took++;
    // A fifth of a second's octets, and what ran into debt.
    expect(took).toBeGreaterThanOrEqual(4);
    expect(took).toBeLessThanOrEqual(6);
    expect(pacers[0]!.take(50)).toBeGreaterThan(0);
    sharedLink('berth', 1_000_000_000, slow);
    const waited = pacers[0]!.take(1);
    expect(waited).toBeLessThanOrEqual(50);
  });
});
