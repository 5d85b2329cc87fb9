import { createSocket } from 'node:dgram';
import { cpSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Backup } from '@barrow/core';
import type { BarrowClient } from '@barrow/client';
import { shippedFamilies } from '@barrow/families';
import { barrow, folder, serve, type Ran } from './support/service.js';
import { discover, isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

const watchword = 'herring-under-ice';

/** What a stranger hears who asks to write. */
function write(name: string, port: number): Promise<Buffer> {
  const socket = createSocket('udp4');
  return new Promise((resolve) => {
    socket.once('message', (packet) => {
      socket.close();
      resolve(packet);
    });
    socket.send(Buffer.from(`\0\u0002${name}\0octet\0`, 'latin1'), port, '127.0.0.1');
  });
}

const everythingUnder = (dir: string): string =>
  readdirSync(dir, { recursive: true, withFileTypes: true })
    .filter((f) => f.isFile())
    .map((f) => readFileSync(join(f.parentPath, f.name), 'latin1'))
    .join('\n');

describe('settings that a device sends by TFTP', () => {
  let scene: Scene;
  let client: BarrowClient;
  let port = 0;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);

  beforeAll(async () => {
    scene = await setScene({ network: 81, only: ['quay-core-1', 'quay-core-2', 'quay-sw-1', 'quay-sw-2'] });
    ({ client } = scene.served);
    await addWholeNetworks(client, 81, ['quay-house']);
    await discover(client);
    port = (await client.checkStores()).stores.find((s) => s.protocol === 'tftp')!.port;
  });
  afterAll(() => scene?.end());

  it('are taken into a backup, and differ from the next one in nothing but what changes by itself', async () => {
    const taken: Backup[] = [];
    while (taken.length < 2) {
      const ran = await cli('backup', 'take', 'quay-core-1', '--json');
      expect(ran.code, ran.err).toBe(0);
      taken.push(ran.json<Backup>());
    }
    const { text } = await client.backup(taken[0]!.id);
    expect(text.split('\n').slice(1, 5)).toEqual([
      'name quay-core-1',
      'place quay-house',
      `address ${scene.fleet.fixture('quay-core-1').facts.address}`,
      `watchword ${watchword}`,
    ]);
    expect(text.endsWith('trunk 12 lans 1-31\nend\n')).toBe(true);
    expect(taken[0]!.bytes).toBe(text.length);
    expect(await client.compareBackups(taken[0]!.id, taken[1]!.id)).toMatchObject({ same: true });
  });

  it('are seen coming in like any transfer, and what they say is kept nowhere but sealed', async () => {
    const [moved] = await client.transfers(10, { device: 'quay-core-1' });
    expect(moved).toMatchObject({ protocol: 'tftp-write', state: 'done', deviceName: 'quay-core-1', cause: null, blockSize: 1024 });
    expect(moved!.bytes).toBe(moved!.totalBytes);
    const story = await client.transfer(moved!.id);
    expect(story.packets.map((p) => p.says)).toEqual([
      expect.stringMatching(/^asks to write "keep-[0-9a-f]{16}" in octet, with blksize 1024, tsize \d+$/),
      expect.stringMatching(/^agrees to blksize 1024, tsize \d+$/),
      `block 1, ${moved!.bytes} octets`,
      'acknowledges block 1',
    ]);
    const shown = await cli('transfer', 'show', moved!.id);
    expect(shown.out).toContain('from quay-core-1');
    expect(shown.out).toContain('sent by the device, by TFTP');
    const kept = [
      everythingUnder(scene.data),
      scene.served.log(),
      Buffer.from(await client.packets(moved!.id)).toString('latin1'),
      shown.out,
    ];
    for (const text of kept) expect(text).not.toContain(watchword);
  });

  it('that do not come are explained: the way is blocked', async () => {
    await scene.fleet.fault('quay-core-2', 'way-blocked');
    const ran = await cli('backup', 'take', 'quay-core-2');
    await scene.fleet.fault('quay-core-2', 'way-blocked', false);
    expect(ran.code).toBe(4);
    expect(ran.err).toContain('neither its request nor its ping reaches the store');
    expect(ran.err).toContain('quay-core-2 said: no: sending ended, no answer');
    expect(await client.backups('quay-core-2')).toEqual([]);
    const [waited] = await client.transfers(10, { device: 'quay-core-2' });
    expect(waited).toMatchObject({ state: 'broken', cause: { code: 'way-to-store-blocked' } });
  });

  it('that come under another name are refused, and the name is told', async () => {
    await scene.fleet.fault('quay-core-2', 'asks-in-capitals');
    const ran = await cli('backup', 'take', 'quay-core-2', '--json');
    await scene.fleet.fault('quay-core-2', 'asks-in-capitals', false);
    expect(ran.code).toBe(4);
    expect(ran.err + ran.out).toContain('asked-other-name');
    expect(ran.err + ran.out).toMatch(/KEEP-[0-9A-F]{16}/);
    expect((await cli('backup', 'take', 'quay-core-2')).code).toBe(0);
  });

  it('are taken from that device only: a stranger who knows the name gets nothing in', async () => {
    expect((await write('keep-0123456789abcdef', port)).readUInt32BE(0)).toBe(0x0005_0002);
    await scene.fleet.fault('quay-core-1', 'way-blocked');
    const ran = cli('backup', 'take', 'quay-core-1');
    await expect.poll(async () => (await client.transfers(5, { state: 'awaited' })).length, { interval: 50 }).toBe(1);
    const [awaited] = await client.transfers(5, { state: 'awaited' });
    const answer = await write(awaited!.file, port);
    expect(answer.readUInt32BE(0)).toBe(0x0005_0002);
    // Who has nothing to send is not told what is awaited.
    expect(answer.toString('latin1')).not.toContain(awaited!.file);
    const { code, err } = await ran;
    await scene.fleet.fault('quay-core-1', 'way-blocked', false);
    expect(code).toBe(4);
    expect(err).toContain('127.0.0.1');
    const refused = (await client.transfers(20, { state: 'refused' })).filter((t) => t.peer.startsWith('127.0.0.1:'));
    expect(refused.map((t) => [t.protocol, t.detail])).toEqual([
      ['tftp-write', 'nothing is awaited from this address'],
      ['tftp-write', 'nothing is awaited from this address'],
    ]);
    // What the check of the stores fetches is no line in the record.
    expect(refused.filter((t) => t.protocol !== 'tftp-write')).toEqual([]);
    expect(await client.backups('quay-core-1')).toHaveLength(2);
  });

  it('are held in memory no longer than they are awaited', async () => {
    expect(await client.transfers(5, { state: 'awaited' })).toEqual([]);
    const [past] = (await client.transfers(50, { state: 'done' })).filter((t) => t.protocol === 'tftp-write');
    expect((await write(past!.file, port)).readUInt32BE(0)).toBe(0x0005_0002);
  });
});

describe('a rollout whose devices send their settings', () => {
  it('awaits them before it changes anything, and compares them after', async () => {
    const dir = folder();
    const families = join(dir.path, 'families');
    cpSync(shippedFamilies, families, { recursive: true });
    const file = join(families, 'tarnbrook-access.yaml');
    const shipped = readFileSync(file, 'utf8');
    const bySending = shipped.replace(
      / {2}configuration:\n {4}do:\n {6}- say: tell settings\n {8}keep: settings\n/,
      "  configuration:\n    do:\n      - receive: settings\n        do: [{ say: 'send settings ${storeAddress} ${storePort} ${receiveName}' }]\n",
    );
    expect(bySending).not.toBe(shipped);
    writeFileSync(file, bySending);
    const scene = await setScene({ network: 83, only: ['quay-sw-1', 'quay-sw-2'] });
    try {
      await scene.served.stop();
      scene.served = await serve(scene.data, { scale: scene.scale, args: ['--families', families] });
      await prepare(scene);
      const { client } = scene.served;
      const plan = await client.plan({ devices: ['quay-sw-1', 'quay-sw-2'], first: 0 });
      await client.say(plan.id, 'start');
      const ended = await rolloutUntil(client, plan.id, isEnded);
      expect(ended.runs.map((r) => r.outcome)).toEqual(['verified', 'verified']);
      for (const name of ['quay-sw-1', 'quay-sw-2']) {
        const sent = (await client.transfers(20, { device: name })).filter((t) => t.protocol === 'tftp-write');
        // Once before, and once for the comparison after.
        expect(sent.map((t) => t.state)).toEqual(['done', 'done']);
        const [kept] = await client.backups(name);
        expect(kept).toMatchObject({ rollout: plan.id, bytes: sent[1]!.bytes });
        expect((await client.backup(kept!.id)).text).toContain(`address ${scene.fleet.device(name).options.address}\n`);
      }
    } finally {
      await scene.end();
      dir.remove();
    }
  });
});
