import { fork } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { ThreadedTftp } from '@barrow/wire';
import { median, type Measured } from './measure.js';

const mebibyte = 1 << 20;

/** How fast a few transfers are while one address asks for ten thousand files a second, against how fast they are in peace. */
export async function benchFlood(fileBytes: number): Promise<Measured> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-bench-'));
  const path = join(dir, 'file');
  writeFileSync(path, Buffer.alloc(fileBytes, 7));
  let refused = 0;
  const server = new ThreadedTftp<string>({
    hosts: ['127.0.0.1'],
    port: 0,
    answer: ({ filename }) =>
      filename === 'file' ? { kind: 'send', path, bytes: fileBytes, tag: 'file' } : { kind: 'refuse', code: 2, message: 'no' },
    onBegin: () => undefined,
    onProgress: () => undefined,
    onEnd: () => undefined,
    onRefused: (_peer, _request, _why, _at, untold) => (refused += 1 + untold),
    onLost: () => undefined,
  });
  const { port } = await server.start();
  const children = ['./many-peer.js', './flood-peer.js'].map((file) => fork(fileURLToPath(new URL(file, import.meta.url))));
  const [peer, flood] = children as [ReturnType<typeof fork>, ReturnType<typeof fork>];
  await Promise.all(children.map((c) => new Promise<void>((resolve) => c.once('message', () => resolve()))));
  const fetch = (): Promise<number> =>
    new Promise((resolve) => {
      peer.once('message', (m: { ms: number[] }) => resolve(median(m.ms.map((t) => fileBytes / t / 1000))));
      peer.send({ port, count: 4, blockSize: 1428, windowSize: 16 });
    });
  await fetch();
  const inPeace = median([await fetch(), await fetch(), await fetch()]);
  flood.send({ port, file: 'file' });
  await fetch();
  const flooded = median([await fetch(), await fetch(), await fetch()]);
  for (const child of children) child.kill();
  await server.stop();
  rmSync(dir, { recursive: true });
  return {
    what: 'TFTP under a flood of requests',
    value: flooded / inPeace,
    unit: 'of the rate in peace',
    aim: 'at least 0.5',
    met: flooded / inPeace >= 0.5,
    detail: `four transfers: ${inPeace.toFixed(1)} MB/s each in peace, ${flooded.toFixed(1)} MB/s under 10,000 requests a second of one address, ${refused} of them refused`,
  };
}

/** Many transfers at once from the store's thread: nobody starves, and no memory is held for the files. */
export async function benchMany(count: number, fileBytes: number): Promise<Measured[]> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-bench-'));
  const path = join(dir, 'file');
  writeFileSync(path, Buffer.alloc(fileBytes, 7));
  let resent = 0;
  const server = new ThreadedTftp<string>({
    hosts: ['127.0.0.1'],
    port: 0,
    answer: () => ({ kind: 'send', path, bytes: fileBytes, tag: 'file' }),
    onBegin: () => undefined,
    onProgress: () => undefined,
    onEnd: (_tag, _end, progress) => (resent += progress.resent),
    onRefused: () => undefined,
    onLost: () => undefined,
  });
  const { port } = await server.start();
  const child = fork(fileURLToPath(new URL('./many-peer.js', import.meta.url)));
  await new Promise<void>((resolve) => child.once('message', () => resolve()));
  global.gc?.();
  const before = process.memoryUsage.rss();
  let most = before;
  const watch = setInterval(() => (most = Math.max(most, process.memoryUsage.rss())), 20);
  const ms = await new Promise<number[]>((resolve) => {
    child.once('message', (m: { ms: number[] }) => resolve(m.ms));
    child.send({ port, count, blockSize: 1428, windowSize: 16 });
  });
  clearInterval(watch);
  child.kill();
  await server.stop();
  rmSync(dir, { recursive: true });
  const rates = ms.map((t) => fileBytes / t / 1000);
  const middle = median(rates);
  const slowest = Math.min(...rates);
  const added = (most - before) / mebibyte;
  const detail = `${count} at once, ${(fileBytes / 1e6).toFixed(1)} MB each: median ${middle.toFixed(2)} MB/s, slowest ${slowest.toFixed(2)} MB/s, together ${((count * fileBytes) / Math.max(...ms) / 1000).toFixed(0)} MB/s, ${resent} blocks sent again`;
  return [
    {
      what: `TFTP, ${count} transfers at once, the slowest`,
      value: slowest / middle,
      unit: 'of the median rate',
      aim: 'at least 0.5',
      met: slowest / middle >= 0.5,
      detail,
    },
    {
      what: `TFTP, ${count} transfers at once, memory`,
      value: added,
      unit: 'MiB added',
      aim: 'at most 64',
      met: added <= 64,
      detail: `${(before / mebibyte).toFixed(0)} MiB before, ${(most / mebibyte).toFixed(0)} MiB at most, the thread of the store among it`,
    },
  ];
}
