import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { BarrowClient } from '@barrow/client';
import { percentile, type Measured } from './measure.js';

const barrow = fileURLToPath(new URL('../../cli/bin/barrow.js', import.meta.url));
const kinds = ['switch', 'router', 'access-point', 'camera', 'phone'] as const;

/** A service that knows ten thousand devices, asked for filtered pages of them. */
export async function benchDeviceList(count = 10_000, requests = 400): Promise<Measured[]> {
  const data = mkdtempSync(join(tmpdir(), 'barrow-bench-'));
  const service = spawn(
    process.execPath,
    [
      barrow,
      'serve',
      '--json',
      '--data',
      data,
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
      '--http-store-listen',
      '127.0.0.1:0',
    ],
    {
      stdio: ['ignore', 'pipe', 'inherit'],
    },
  );
  try {
    const line = await new Promise<string>((resolve) => createInterface({ input: service.stdout }).once('line', resolve));
    const { url } = JSON.parse(line) as { url: string };
    const client = new BarrowClient({ url, token: readFileSync(join(data, 'token'), 'utf8').trim() });
    const devices = Array.from({ length: count }, (_, i) => ({
      name: `site${i % 40}-${kinds[i % kinds.length]}-${i}`,
      site: `site-${i % 40}`,
      kind: kinds[i % kinds.length],
      address: `127.160.${i >> 8}.${i & 255}`,
      serial: `SN${100_000 + i}`,
      maker: 'Tarnbrook',
      model: `TB-${2400 + (i % 30)}`,
      firmware: `4.${i % 9}.${i % 5}`,
      tags: i % 7 === 0 ? ['lab'] : [],
    }));
    const began = performance.now();
    const taken = await client.importDevices('json', JSON.stringify(devices), false);
    const importMs = performance.now() - began;
    if (taken.written !== count) throw new Error(`only ${taken.written} devices were taken in`);
    await client.devicePage({ limit: 1 });
    const asks = [
      { text: 'camera-99', limit: 200 },
      { site: 'site-7', limit: 200 },
      { kind: 'phone', tag: 'lab', limit: 200 },
      { model: 'TB-2411', firmware: '4.3.1', limit: 200 },
      { limit: 200 },
    ];
    const times: number[] = [];
    for (let i = 0; i < requests; i++) {
      const from = performance.now();
      // The answer is read whole, and not checked against its shape: that is the asker's work, not the server's.
      const response = await client.raw('GET', '/devices', { query: asks[i % asks.length]! });
      await response.arrayBuffer();
      times.push(performance.now() - from);
    }
    const p99 = percentile(times, 0.99);
    return [
      {
        what: `list of ${count} devices, filtered and paged`,
        value: p99,
        unit: 'ms',
        aim: 'under 50 at the 99th percentile',
        met: p99 < 50,
        detail: `${requests} requests of up to 200 rows, median ${percentile(times, 0.5).toFixed(1)} ms; taken in by one import in ${(importMs / 1000).toFixed(1)} s`,
      },
    ];
  } finally {
    service.kill('SIGTERM');
    await new Promise((resolve) => service.once('exit', resolve));
    rmSync(data, { recursive: true, force: true });
  }
}
