import { createSocket, type Socket } from 'node:dgram';
import { createHash, randomBytes } from 'node:crypto';
import { readFileSync, truncateSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Transfer } from '@barrow/core';
import { ProblemError } from '@barrow/client';
import { makeImage } from '@barrow/standins';
import { isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { serve } from './support/service.js';

/** A client that asks from an address of its choice, as a device or a stranger would. */
async function fetchFrom(address: string, port: number, file: string): Promise<{ bytes: Buffer } | { code: number; message: string }> {
  const socket: Socket = createSocket('udp4');
  await new Promise<void>((resolve) => socket.bind(0, address, resolve));
  const parts: Buffer[] = [];
  let again: NodeJS.Timeout | undefined;
  /** RFC 1350 §4: the first that answers is the one; what comes from another port is of a request that was asked again. */
  let tid: number | null = null;
  try {
    return await new Promise((resolve) => {
      socket.on('message', (packet, from) => {
        tid ??= from.port;
        if (from.port !== tid) return;
        if (packet.readUInt16BE(0) === 5)
          return resolve({ code: packet.readUInt16BE(2), message: packet.toString('latin1', 4, packet.length - 1) });
        // A block that comes again is acknowledged again, and not taken twice.
        if (packet.readUInt16BE(2) === ((parts.length + 1) & 0xffff)) parts.push(packet.subarray(4));
        socket.send(Buffer.from([0, 4, packet[2]!, packet[3]!]), from.port, from.address, () => {
          if (packet.length < 516) resolve({ bytes: Buffer.concat(parts) });
        });
      });
      const ask = () => socket.send(Buffer.from(`\0\u0001${file}\0octet\0`, 'latin1'), port, '127.0.0.1');
      ask();
      // A request may be lost, as anywhere; a client asks again until it is answered.
      again = setInterval(() => parts.length === 0 && ask(), 5000);
    });
  } finally {
    clearInterval(again);
    socket.close();
  }
}

describe('the stores', () => {
  let scene: Scene;
  const file = 'tb24-4.3.0.simg';
  const port = () => Number(scene.served.tftp.split(':')[1]);
  const refusals = async (): Promise<Transfer[]> => (await scene.served.client.transfers()).filter((t) => t.state === 'refused');
  beforeAll(async () => {
    scene = await setScene({ network: 58, only: ['eelgate-sw-3', 'quay-sw-3', 'dunmoor-sw-1'] });
    await prepare(scene);
    await scene.served.client.putOffer(file, ['eelgate-sw-3']);
  });
  afterAll(() => scene?.end());

  it('give a file only to the address it is staged for, whole', async () => {
    const got = await fetchFrom('127.58.2.13', port(), file);
    expect('bytes' in got && createHash('sha256').update(got.bytes).digest('hex')).toBe((await scene.served.client.image(file)).sha256);
    expect(await fetchFrom('127.58.1.13', port(), file)).toEqual({ code: 2, message: 'nothing is staged for this address' });
    expect(await fetchFrom('127.0.0.9', port(), file)).toMatchObject({ code: 2 });
  });

  it('say which names are staged to a device that asks for another', async () => {
    expect(await fetchFrom('127.58.2.13', port(), 'TB24-4.3.0.SIMG')).toEqual({
      code: 1,
      message: `not staged under this name; staged: ${file} (the same but for capital letters)`,
    });
    expect(await fetchFrom('127.58.2.13', port(), `../images/${file}`)).toMatchObject({ code: 1 });
  });

  it('keep every refusal with who asked for what', async () => {
    const all = await refusals();
    // One that was asked again, because its answer was late, stands there twice.
    const asked = new Set(all.map((t) => `${t.peer.split(':')[0]} ${t.file} of ${t.deviceName ?? 'a stranger'}`));
    // Who has something staged is known by its address; a stranger is not.
    expect([...asked].sort()).toEqual([
      `127.0.0.9 ${file} of a stranger`,
      `127.58.1.13 ${file} of a stranger`,
      `127.58.2.13 ../images/${file} of eelgate-sw-3`,
      '127.58.2.13 TB24-4.3.0.SIMG of eelgate-sw-3',
    ]);
    expect(all.every((t) => t.detail !== null && t.endedAt !== null)).toBe(true);
    const [moved] = (await scene.served.client.transfers()).filter((t) => t.state === 'done');
    expect(moved).toMatchObject({ deviceName: 'eelgate-sw-3', blockSize: 512, windowSize: 1, bytes: moved!.totalBytes });
  });

  it('write down only so many refusals of a flood, and answer others meanwhile', async () => {
    const before = (await refusals()).length;
    const flood = createSocket('udp4');
    for (let i = 0; i < 3000; i++) flood.send(Buffer.from('\0\u0001x\0octet\0', 'latin1'), port(), '127.0.0.1');
    const got = await fetchFrom('127.58.2.13', port(), file);
    expect('bytes' in got).toBe(true);
    flood.close();
    const kept = (await refusals()).length - before;
    expect(kept).toBeGreaterThan(0);
    expect(kept).toBeLessThan(500);
  });

  it('keep what a person staged across a restart, and drop it on a word', async () => {
    await scene.served.stop();
    scene.served = await serve(scene.data, { scale: scene.scale });
    expect('bytes' in (await fetchFrom('127.58.2.13', port(), file))).toBe(true);
    await scene.served.client.dropOffer(file, 'eelgate-sw-3');
    expect(await fetchFrom('127.58.2.13', port(), file)).toMatchObject({ code: 2 });
    await expect(scene.served.client.dropOffer(file)).rejects.toMatchObject({ problem: { code: 'offer-unknown' } });
  });

  it('name an image that has rotted, never stage it, and let no device begin with it', async () => {
    const { client } = scene.served;
    const image = await client.image(file);
    const path = join(scene.data, 'images', image.sha256);
    const good = readFileSync(path);
    const bad = Buffer.from(good);
    bad[bad.length - 100]! ^= 1;
    writeFileSync(path, bad);
    expect((await client.verifyImages()).filter((i) => !i.sound).map((i) => i.file)).toEqual([file]);
    await expect(client.putOffer(file, ['eelgate-sw-3'])).rejects.toMatchObject({ problem: { code: 'image-missing' } });
    const { logins } = scene.fleet.device('eelgate-sw-3').counters;
    const plan = await client.plan({ devices: ['eelgate-sw-3'], first: 0 });
    await client.say(plan.id, 'start');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.runs[0]).toMatchObject({ outcome: 'failed', cause: { code: 'image-missing' }, step: 'preflight' });
    expect(scene.fleet.device('eelgate-sw-3').counters.logins).toBe(logins);
    truncateSync(path, 10);
    expect((await client.verifyImages()).find((i) => i.file === file)?.detail).toBe('10 octets that no longer have the digest');
    // The same file, added again, mends what has rotted.
    await client.addImage({ file, body: new Uint8Array(good) });
    expect((await client.verifyImages()).every((i) => i.sound)).toBe(true);
  });

  it('stage nothing that is withdrawn, and let no device begin with it that was planned before', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-3'], first: 0 });
    const { note } = await client.image(file);
    await client.setNote(file, { ...note, withdrawn: { why: 'it burns' } });
    await expect(client.putOffer(file, ['quay-sw-3'])).rejects.toMatchObject({ problem: { code: 'image-withdrawn' } });
    await client.say(plan.id, 'start');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.runs[0]).toMatchObject({ outcome: 'not-begun', cause: { code: 'image-withdrawn' }, detail: `${file}: it burns` });
    await client.setNote(file, note);
  });

  it('refuse a second content for one version of the same hardware, and take the same content twice at once as one', async () => {
    const { client } = scene.served;
    const recipe = { maker: 'Tarnbrook', models: ['TB-2408'], hardwareRevisions: ['A2'], payloadBytes: 300_000 };
    const twin = makeImage({ ...recipe, version: '04-03-00' });
    await expect(client.addImage({ file: 'twin.simg', body: new Uint8Array(twin) })).rejects.toMatchObject({
      problem: { code: 'image-claims-taken-version', status: 409 },
    });
    const fresh = new Uint8Array(makeImage({ ...recipe, version: '4.4.0' }));
    const both = await Promise.allSettled([
      client.addImage({ file: 'a.simg', body: fresh }),
      client.addImage({ file: 'b.simg', body: fresh }),
    ]);
    expect(both.filter((r) => r.status === 'fulfilled').length).toBeGreaterThan(0);
    expect((await client.images()).filter((i) => i.version === '4.4.0').length).toBe(1);
  });

  it('refuse a digest that was published otherwise, and a name that no device could ask for', async () => {
    const { client } = scene.served;
    const body = new Uint8Array(
      makeImage({ maker: 'Tarnbrook', models: ['TB-2408'], hardwareRevisions: ['A2'], version: '4.5.0', payloadBytes: 1000 }),
    );
    await expect(client.addImage({ file: 'x.simg', body, sha256: 'a'.repeat(64) })).rejects.toMatchObject({
      problem: { code: 'image-digest-differs' },
    });
    for (const name of ['../x.simg', 'a b.simg', '', '.hidden', `${'x'.repeat(200)}.simg`]) {
      const refused = await client.addImage({ file: name, body }).catch((e: ProblemError) => e);
      expect(refused, name).toBeInstanceOf(ProblemError);
    }
    const noise = await client
      .addImage({ file: 'noise.simg', body: new Uint8Array(randomBytes(50_000)) })
      .catch((e: ProblemError) => e.problem.code);
    expect(noise).toBe('image-foreign');
    expect((await client.images()).some((i) => i.version === '4.5.0')).toBe(false);
  });

  it('do not remove what a rollout or an offer needs', async () => {
    const { client } = scene.served;
    await client.putOffer('tb24b-4.3.0.simg', ['dunmoor-sw-1']);
    await expect(client.removeImage('tb24b-4.3.0.simg')).rejects.toMatchObject({ problem: { code: 'image-needed' } });
    await client.dropOffer('tb24b-4.3.0.simg');
    // A plan that nobody started holds nothing; a rollout that runs does.
    const plan = await client.plan({ devices: ['dunmoor-sw-1'], first: 0 });
    await client.say(plan.id, 'start');
    await expect(client.removeImage('tb24b-4.3.0.simg')).rejects.toMatchObject({
      problem: { detail: expect.stringContaining(plan.name) as string },
    });
    expect((await client.removeImage('wr110-R7.04.simg')).removed).toBe('wr110-R7.04.simg');
    await rolloutUntil(client, plan.id, isEnded);
    expect((await client.removeImage('tb24b-4.3.0.simg')).removed).toBe('tb24b-4.3.0.simg');
  });
});
