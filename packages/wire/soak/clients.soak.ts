import { spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ThreadedTftp } from '@barrow/wire';
import { Relay } from '../tests/relay.js';

/** 100 MiB through a line that loses one packet of twenty, each way: every client that others wrote has it whole. */
describe('100 MiB through 5 % loss', () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-soak-'));
  const content = randomBytes(100 << 20);
  const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
  const server = new ThreadedTftp<string>({
    hosts: ['127.0.0.1'],
    port: 0,
    answer: () => ({ kind: 'send', path: join(dir, 'image'), bytes: content.length, tag: 'image' }),
    onBegin: () => undefined,
    onProgress: () => undefined,
    onEnd: (_tag, end, progress) => process.stderr.write(`    ${JSON.stringify(end)} ${JSON.stringify(progress)}\n`),
    onRefused: () => undefined,
    onLost: () => undefined,
  });
  let port = 0;
  beforeAll(async () => {
    writeFileSync(join(dir, 'image'), content);
    ({ port } = await server.start());
  });
  afterAll(async () => {
    await server.stop();
    rmSync(dir, { recursive: true });
  });

  it.each<[string, string, (at: string) => string[]]>([
    ['curl, blocks of 1428', 'curl', (at) => ['-s', '-S', '--tftp-blksize', '1428', '-o', 'got', `tftp://127.0.0.1:${at}/image`]],
    ['curl, without options', 'curl', (at) => ['-s', '-S', '--tftp-no-options', '-o', 'got', `tftp://127.0.0.1:${at}/image`]],
    [
      'atftp, blocks of 1428, window of 8',
      'atftp',
      (at) => ['--option', 'blksize 1428', '--option', 'windowsize 8', '-g', '-r', 'image', '-l', 'got', '127.0.0.1', at],
    ],
    ['atftp, without options', 'atftp', (at) => ['-g', '-r', 'image', '-l', 'got', '127.0.0.1', at]],
    ['tftp-hpa', 'tftp', (at) => ['-m', 'octet', '127.0.0.1', at, '-c', 'get', 'image', 'got']],
  ])('%s', async (name, command, args) => {
    const relay = new Relay(port, { loss: 0.05, twice: 0.01, late: 0.01, seed: 7 });
    const at = await relay.start();
    const began = performance.now();
    const said = await new Promise<string>((resolve) => {
      const child = spawn(command, args(String(at)), { cwd: dir });
      let out = '';
      child.stdout.on('data', (d) => (out += d));
      child.stderr.on('data', (d) => (out += d));
      child.on('close', (code) => resolve(`${code} ${out}`));
    });
    relay.stop();
    process.stderr.write(`    ${name}: ${((performance.now() - began) / 1000).toFixed(0)} s, ${relay.lost} packets lost; ${said}\n`);
    expect(sha(readFileSync(join(dir, 'got')))).toBe(sha(content));
    expect(relay.lost).toBeGreaterThan(1000);
    rmSync(join(dir, 'got'));
  });
});
