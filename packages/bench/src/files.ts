import { fork } from 'node:child_process';
import { createReadStream, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { FileServer } from '@barrow/wire';
import { median, type Measured } from './measure.js';

/** The HTTP store against a bare server that streams the same file, as the median of interleaved pairs. */
export async function benchFiles(fileBytes: number, pairs: number): Promise<Measured> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-bench-'));
  const path = join(dir, 'file');
  writeFileSync(path, Buffer.alloc(fileBytes, 7));
  const store = new FileServer<string>({
    hosts: ['127.0.0.1'],
    port: 0,
    tls: null,
    answer: () => ({ kind: 'send', path, bytes: fileBytes, etag: 'x', tag: 'file', link: null, guard: null }),
    onBegin: () => undefined,
    onProgress: () => undefined,
    onEnd: () => undefined,
    onRefused: () => undefined,
  });
  const { port } = await store.start();
  const bare = createServer((_request, response) => {
    response.writeHead(200, { 'content-length': fileBytes });
    createReadStream(path).pipe(response);
  });
  await new Promise<void>((resolve) => bare.listen(0, '127.0.0.1', resolve));
  const ports = { ours: port, bare: (bare.address() as AddressInfo).port };
  const child = fork(fileURLToPath(new URL('./files-peer.js', import.meta.url)));
  await new Promise<void>((resolve) => child.once('message', () => resolve()));
  const once = (at: number): Promise<number> =>
    new Promise((resolve) => {
      child.once('message', (m: { ns: number }) => resolve(m.ns));
      child.send({ port: at });
    });
  const ratios: number[] = [];
  const rates: { ours: number[]; bare: number[] } = { ours: [], bare: [] };
  for (let i = -3; i < pairs; i++) {
    const took = { ours: 0, bare: 0 };
    // Who goes first changes, so that a drift of the machine falls on both.
    for (const who of i % 2 === 0 ? (['ours', 'bare'] as const) : (['bare', 'ours'] as const)) took[who] = await once(ports[who]);
    if (i < 0) continue;
    ratios.push(took.bare / took.ours);
    rates.ours.push(fileBytes / took.ours);
    rates.bare.push(fileBytes / took.bare);
  }
  child.kill();
  bare.close();
  await store.stop();
  rmSync(dir, { recursive: true });
  return {
    what: 'HTTP store, one file',
    value: median(ratios),
    unit: 'of a bare file stream',
    aim: 'at least 0.8',
    met: median(ratios) >= 0.8,
    detail: `${(median(rates.ours) * 1000).toFixed(0)} MB/s against ${(median(rates.bare) * 1000).toFixed(0)} MB/s, ${pairs} interleaved pairs of ${(fileBytes / 1e6).toFixed(0)} MB`,
  };
}
