import { fork } from 'node:child_process';
import { openAsBlob } from 'node:fs';
import { basename } from 'node:path';
import { fileURLToPath } from 'node:url';
import { community, login, snmpPort, sshPort } from '@barrow/standins';
import { percentile, type Measured } from './measure.js';
import { serveForBench } from './serve.js';

const kinds = ['switch', 'router', 'access-point', 'camera', 'phone'] as const;

/** So many devices as a list that can be taken in. */
const deviceList = (count: number): string =>
  JSON.stringify(
    Array.from({ length: count }, (_, i) => ({
      name: `site${i % 40}-${kinds[i % kinds.length]}-${i}`,
      site: `site-${i % 40}`,
      kind: kinds[i % kinds.length],
      address: `127.160.${i >> 8}.${i & 255}`,
      serial: `SN${100_000 + i}`,
      maker: 'Tarnbrook',
      model: `TB-${2400 + (i % 30)}`,
      firmware: `4.${i % 9}.${i % 5}`,
      tags: i % 7 === 0 ? ['lab'] : [],
    })),
  );

const asks = [
  { text: 'camera-99', limit: 200 },
  { site: 'site-7', limit: 200 },
  { kind: 'phone', tag: 'lab', limit: 200 },
  { model: 'TB-2411', firmware: '4.3.1', limit: 200 },
  { limit: 200 },
];

/** Times one request; the answer is read whole, and not checked against its shape: that is the asker's work, not the server's. */
async function timed(work: () => Promise<Response>): Promise<number> {
  const from = performance.now();
  await (await work()).arrayBuffer();
  return performance.now() - from;
}

/** A service that knows ten thousand devices: filtered pages of them, and notes that are written meanwhile. */
export async function benchDeviceList(count = 10_000, requests = 400): Promise<Measured[]> {
  const { client, end } = await serveForBench();
  try {
    const began = performance.now();
    const taken = await client.importDevices('json', deviceList(count), false);
    const importMs = performance.now() - began;
    if (taken.written !== count) throw new Error(`only ${taken.written} devices were taken in`);
    await client.devicePage({ limit: 1 });
    const list = (i: number): Promise<number> => timed(() => client.raw('GET', '/devices', { query: asks[i % asks.length]! }));
    const times: number[] = [];
    for (let i = 0; i < requests; i++) times.push(await list(i));
    const p99 = percentile(times, 0.99);

    const { items } = await client.devicePage({ limit: 200 });
    const write = (id: string, note: string): Promise<number> =>
      timed(() => client.raw('PUT', `/devices/${id}`, { body: JSON.stringify({ note }), headers: { 'content-type': 'application/json' } }));
    const notes: number[] = [];
    for (const { id } of items) notes.push(await write(id, 'looked at'));
    // Once more, while somebody else reads lists: neither is to wait for more than the other's turn.
    const beside: number[] = [];
    let isWriting = true;
    const reading = (async () => {
      for (let i = 0; isWriting; i++) beside.push(await list(i));
    })();
    for (const { id } of items) await write(id, 'looked at again');
    isWriting = false;
    await reading;
    const [note, waited] = [percentile(notes, 0.99), percentile(beside, 0.99)];
    return [
      {
        what: `list of ${count} devices, filtered and paged`,
        value: p99,
        unit: 'ms',
        aim: 'under 50 at the 99th percentile',
        met: p99 < 50,
        detail: `${requests} requests of up to 200 rows, median ${percentile(times, 0.5).toFixed(1)} ms; taken in by one import in ${(importMs / 1000).toFixed(1)} s`,
      },
      {
        what: `a note written at ${count} devices`,
        value: note,
        unit: 'ms',
        aim: 'at most 50 at the 99th percentile',
        met: note <= 50,
        detail: `${notes.length} notes, median ${percentile(notes, 0.5).toFixed(1)} ms, slowest ${Math.max(...notes).toFixed(1)} ms`,
      },
      {
        what: 'lists while somebody writes notes without a pause',
        value: waited,
        unit: 'ms',
        aim: 'under 100 at the 99th percentile',
        met: waited < 100,
        detail: `${beside.length} requests, median ${percentile(beside, 0.5).toFixed(1)} ms, slowest ${Math.max(...beside).toFixed(1)} ms`,
      },
    ];
  } finally {
    await end();
  }
}

/** Lists of ten thousand devices while five hundred of them are upgraded, so that nothing that was kept stays right for long. */
export async function benchListInRollout(count = 10_000, busy = 500, longestMs = 120_000): Promise<Measured[]> {
  const network = 161;
  const fleet = fork(fileURLToPath(new URL('./fleet-peer.js', import.meta.url)), [String(network), String(busy)]);
  const { images } = await new Promise<{ images: string[] }>((resolve) => fleet.once('message', (m) => resolve(m as { images: string[] })));
  const { client, end } = await serveForBench(['--device-time-scale', '100']);
  try {
    await client.importDevices('json', deviceList(count - busy), false);
    await client.addCredential({ name: 'snmp', kind: 'snmp-v2c', secret: community });
    await client.addCredential({ name: 'ssh', kind: 'ssh-password', user: login.user, secret: login.password });
    const ranges = Array.from({ length: Math.ceil(busy / 250) }, (_, i) => `127.${network}.${100 + i}.1-250`);
    await client.addNetwork({
      name: 'more',
      site: 'quay-house',
      ranges,
      credentials: ['snmp', 'ssh'],
      snmpPort,
      sshPort,
      probes: ['snmp', 'ssh'],
      packetsPerSecond: 5000,
      trustNow: true,
    });
    let found = await client.discover([]);
    while (found.state === 'running') {
      await new Promise((resolve) => setTimeout(resolve, 200));
      found = await client.discovery(found.id);
    }
    for (const file of images) await client.addImage({ file: basename(file), body: await openAsBlob(file) });
    await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
    const plan = await client.plan({ atOnce: 20, soakSeconds: 0, failureLimit: busy });
    await client.say(plan.id, 'start');
    const times: number[] = [];
    let view = await client.rollout(plan.id);
    const began = performance.now();
    while (view.phase !== 'ended' && view.phase !== 'held' && performance.now() - began < longestMs) {
      for (let i = 0; i < 20; i++) times.push(await timed(() => client.raw('GET', '/devices', { query: asks[i % asks.length]! })));
      view = await client.rollout(plan.id);
    }
    const done = view.runs.filter((r) => r.phase === 'ended').length;
    const p99 = percentile(times, 0.99);
    return [
      {
        what: `list of ${count} devices while a rollout of ${view.runs.length} runs`,
        value: p99,
        unit: 'ms',
        aim: 'under 100 at the 99th percentile',
        met: p99 < 100,
        detail: `${times.length} requests in ${((performance.now() - began) / 1000).toFixed(0)} s, ${done} devices done meanwhile; median ${percentile(times, 0.5).toFixed(1)} ms, slowest ${Math.max(...times).toFixed(1)} ms`,
      },
    ];
  } finally {
    await end();
    fleet.kill();
  }
}
