import { createHash } from 'node:crypto';
import { createServer } from 'node:http';
import { createServer as createTcp, type AddressInfo } from 'node:net';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Delivery, Device, Place, Transfer } from '@barrow/core';
import type { BarrowClient } from '@barrow/client';
import { writeScenarioLibrary, type Fixture } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { startSshd } from './support/daemons.js';
import { barrow, has, serve, type Ran } from './support/service.js';
import { delivered, discover, isEnded, rolloutUntil, setScene, transferred, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

describe('staging', () => {
  let scene: Scene;
  let client: BarrowClient;
  const digests = new Map<string, string>();
  const fixture = (name: string): Fixture => scene.fleet.fixtures.find((f) => f.facts.name === name)!;
  const put = async (image: string, devices: string[], place: Place, makeRoom = false): Promise<Delivery[]> => {
    const made = await client.deliver({ image, devices, place, makeRoom });
    return delivered(
      client,
      made.map((d) => d.id),
    );
  };
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const deviceCalled = async (name: string): Promise<Device> => (await client.devices()).find((d) => d.name === name)!;
  const transferOf = async (d: Delivery): Promise<Transfer> => transferred(client, d.transfers[0]!);
  const again = async (args: string[] = []): Promise<void> => {
    scene.served = await serve(scene.data, { scale: scene.scale, args });
    ({ client } = scene.served);
  };

  beforeAll(async () => {
    const phones = ['quay-phone-1', 'quay-phone-2', 'quay-ap-1', 'quay-ap-2', 'quay-ap-3', 'quay-ap-4', 'quay-cam-1', 'quay-cam-2'];
    const others = ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'quay-rt-1', 'quay-core-1', 'quay-core-2', 'quay-wlc-1'];
    scene = await setScene({ network: 78, scale: 100, only: [...phones, ...others, 'quay-con-1', 'quay-pdu-1'] });
    ({ client } = scene.served);
    await addWholeNetworks(client, 78, ['quay-house']);
    await discover(client);
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    for (const batch of await batchesOf([...scene.images.filter((i) => !/\/(damaged|other)\//.test(i)), ...library.add], false))
      await takeBatch(client, batch, {});
    for (const image of await client.images()) digests.set(image.file, image.sha256);
    await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
  });
  afterAll(() => scene?.end());

  describe('brings an image to where a device takes it, and has its digest checked there:', () => {
    it('its own spare slot, fetched by TFTP; the rollout then fetches nothing', async () => {
      const [d] = await put('tb24-4.3.0.simg', ['quay-sw-1'], 'device');
      expect(d).toMatchObject({ state: 'verified', digestThere: digests.get('tb24-4.3.0.simg'), bytes: d!.totalBytes });
      const sw = scene.fleet.device('quay-sw-1');
      expect(sw.persistent.store[1]).toMatchObject({ version: '4.3.0', sha256: digests.get('tb24-4.3.0.simg'), fault: null });
      // Staged and not armed: nothing but a rollout chooses it.
      expect(sw.counters).toMatchObject({ pulls: 1, writesDone: 1, activations: 0, reboots: 0 });
      expect((await deviceCalled('quay-sw-1')).armed).toBeNull();
      expect(await transferOf(d!)).toMatchObject({ protocol: 'tftp', state: 'done', verified: true, cause: null, blockSize: 1428 });
      const plan = await client.plan({ devices: ['quay-sw-1'], first: 0 });
      await client.say(plan.id, 'start');
      const ended = await rolloutUntil(client, plan.id, isEnded);
      expect(ended.runs[0]).toMatchObject({ outcome: 'verified' });
      expect(sw.counters).toMatchObject({ pulls: 1, activations: 1, reboots: 1 });
    });

    it('by an upload to its page, with a digest login', async () => {
      const [d] = await put('oc400r2-2.12.0.simg', ['quay-cam-1'], 'device');
      expect(d).toMatchObject({ state: 'verified', digestThere: digests.get('oc400r2-2.12.0.simg') });
      expect(fixture('quay-cam-1').shelf.files).toMatchObject([{ name: 'oc400r2-2.12.0.simg', sha256: d!.digestThere, use: 'staged' }]);
      expect(await transferOf(d!)).toMatchObject({ protocol: 'push', state: 'done', verified: true });
    });

    it('fetched from the HTTP store, at an address that nobody guesses and with the login that its family demands', async () => {
      const [d] = await put('sp8-1.13.img', ['quay-pdu-1'], 'device');
      expect(d, JSON.stringify(d)).toMatchObject({ state: 'verified', digestThere: digests.get('sp8-1.13.img') });
      expect(fixture('quay-pdu-1').shelf.find('sp8-1.13.img')?.sha256).toBe(digests.get('sp8-1.13.img'));
      expect(await transferOf(d!)).toMatchObject({ protocol: 'http', state: 'done', verified: true, bytes: d!.totalBytes });
    });

    it('by SFTP into its folder, from which its next reset takes it: armed from then on, until it is disarmed', async () => {
      // The version that it runs already would arm nothing.
      const server = fixture('quay-con-1');
      server.facts.firmware = '4.0.1';
      server.running = server.persistent.store[0] = { ...server.running, version: '4.0.1' };
      await server.reopen();
      await discover(client);
      const [plan] = await client.planDelivery({ image: 'sc16-4.0.3.itb', devices: ['quay-con-1'], place: 'device' });
      expect(plan).toMatchObject({ holder: 'quay-con-1', fits: true, alreadyThere: false, arms: true });
      const [d] = await put('sc16-4.0.3.itb', ['quay-con-1'], 'device');
      expect(d).toMatchObject({ state: 'verified', digestThere: digests.get('sc16-4.0.3.itb') });
      expect((await deviceCalled('quay-con-1')).armed).toMatchObject({ version: '4.0.3', by: 'first admin' });
      expect((await cli('device', 'list', '--text', 'quay-con-1')).out).toContain('armed: 4.0.3');
      expect((await cli('staging', 'disarm', 'quay-con-1')).out).toContain('no longer takes 4.0.3');
      expect((await deviceCalled('quay-con-1')).armed).toBeNull();
      expect(fixture('quay-con-1').shelf.files).toEqual([]);
      expect(await cli('staging', 'disarm', 'quay-con-1')).toMatchObject({ code: 4 });
      // A restart takes nothing then. Armed again, the device really takes it, and Barrow sees that it is armed no longer.
      const restarted = async (): Promise<string | null> => {
        const { boots } = server.persistent;
        server.restart();
        await expect.poll(() => server.persistent.boots > boots && server.state === 'up', { timeout: 30_000 }).toBe(true);
        await discover(client);
        return (await deviceCalled('quay-con-1')).firmware;
      };
      expect(await restarted()).toBe('4.0.1');
      await put('sc16-4.0.3.itb', ['quay-con-1'], 'device');
      expect((await deviceCalled('quay-con-1')).armed).toMatchObject({ version: '4.0.3' });
      expect(await restarted()).toBe('4.0.3');
      expect((await deviceCalled('quay-con-1')).armed).toBeNull();
      expect(server.shelf.files).toEqual([]);
    });

    it('by SFTP, every file of a release in its order, each checked there; and not again what is there', async () => {
      const [image] = (await client.images()).filter((i) => i.version === '6.2.0' && i.files.length === 3);
      const [d] = await put(image!.sha256, ['quay-core-1'], 'device');
      expect(d).toMatchObject({ state: 'verified', bytes: d!.totalBytes });
      expect(fixture('quay-core-1').shelf.files.map((f) => [f.name, f.sha256])).toEqual(image!.files.map((f) => [f.file, f.sha256]));
      const moved = await Promise.all(d!.transfers.map((id) => transferred(client, id)));
      expect(moved.map((t) => [t.file, t.state, t.verified])).toEqual(image!.files.map((f) => [f.file, 'done', true]).reverse());
      const items = await client.planDelivery({ image: image!.sha256, devices: ['quay-core-1', 'quay-core-2'], place: 'device' });
      expect(items.map((i) => [i.holder, i.alreadyThere])).toEqual([
        ['quay-core-1', true],
        ['quay-core-2', false],
      ]);
      const [again] = await put(image!.sha256, ['quay-core-1'], 'device');
      expect(again).toMatchObject({ state: 'verified', transfers: [] });
      // One of the three that is not what it should be is found by the device's own words.
      fixture('quay-core-1').shelf.drop('tb48-6.2.0-pages.simg');
      fixture('quay-core-1').shelf.hold('tb48-6.2.0-pages.simg', 1000, 'running');
      const [bad] = await put(image!.sha256, ['quay-core-1'], 'device');
      expect(bad).toMatchObject({ state: 'failed', cause: { code: 'wrong-size-taken' } });
      expect(bad!.detail).toContain('1000 octets of tb48-6.2.0-pages.simg');
    });

    it("the parent's storage, once for all its children, making room only when that is allowed, and never of what runs", async () => {
      const { shelf } = fixture('quay-wlc-1');
      const aps = ['quay-ap-1', 'quay-ap-2', 'quay-ap-3'];
      const [full] = await put('fa310-9.6.0.simg', aps, 'parent');
      expect(full).toMatchObject({ state: 'failed', cause: { code: 'no-space' } });
      expect(full!.detail).toContain('removing fa310-9.1.0.simg would make room');
      expect(shelf.counters).toEqual({ taken: 0, removed: 0, broken: 0 });
      const planned = await cli('staging', 'put', 'fa310-9.6.0.simg', ...aps, '--at', 'parent', '--plan');
      expect(planned.out).toContain('with --make-room this is removed first: fa310-9.1.0.simg');
      const ran = await cli('staging', 'put', 'fa310-9.6.0.simg', ...aps, '--at', 'parent', '--make-room', '--wait', '--json');
      expect(ran.code, ran.err).toBe(0);
      const [d] = ran.json<Delivery[]>();
      expect(d).toMatchObject({ state: 'verified', removed: ['fa310-9.1.0.simg'], digestThere: digests.get('fa310-9.6.0.simg') });
      expect(d!.devices.map((x) => x.name)).toEqual(aps);
      expect(shelf.counters.taken).toBe(1);
      expect(shelf.files.map((f) => f.use).sort()).toEqual(['running', 'staged']);
      // There already: nothing moves a second time.
      const [second] = await put('fa310-9.6.0.simg', ['quay-ap-4'], 'parent');
      expect(second).toMatchObject({ state: 'verified', transfers: [] });
      expect(shelf.counters.taken).toBe(1);
    });
  });

  it('refuses what does not fit, what cannot be held there, and what is not known', async () => {
    const problem = (image: string, device: string, place: Place) =>
      client.deliver({ image, devices: [device], place }).then(
        () => null,
        (error: { problem: { code: string } }) => error.problem.code,
      );
    expect(await problem('tb24r-4.3.0.simg', 'quay-sw-2', 'device')).toBe('image-does-not-fit');
    expect(await problem('tb24-4.3.0.simg', 'quay-sw-2', 'parent')).toBe('place-unfit');
    expect(await problem('tb24-4.3.0.simg', 'quay-sw-2', 'site-store')).toBe('place-unfit');
    expect(await problem('d40-2.9.0.simg', 'quay-phone-1', 'device')).toBe('place-unfit');
    expect(await problem('tb24-4.2.8.simg', 'quay-sw-2', 'device')).toBe('image-withdrawn');
    expect(await problem('nothing.simg', 'quay-sw-2', 'device')).toBe('image-unknown');
    await expect(client.putOffer('fa310-9.6.0.simg', ['quay-ap-1'])).rejects.toMatchObject({ problem: { code: 'place-unfit' } });
    expect(await cli('staging', 'put', 'tb24-4.3.0.simg', 'quay-sw-2', '--at', 'cellar')).toMatchObject({ code: 2 });
    expect(await cli('staging', 'put', 'tb24-4.3.0.simg', 'quay-sw-2', '--make-room')).toMatchObject({ code: 2 });
    expect(await cli('site', 'set', 'atlantis', '--link', '64')).toMatchObject({ code: 2 });
    expect(await cli('site', 'set', 'quay-house', '--link', 'fast')).toMatchObject({ code: 2 });
    expect(await cli('transfer', 'show', 't-0')).toMatchObject({ code: 2 });
  });

  it('shares a slow link, says when all will be there, and goes on after the service was killed', async () => {
    // Two thousand octets in a real second, were it not for the demo's clock: 64 kbit/s times 100.
    await client.setSite('quay-house', { linkKilobits: 64 });
    const made = await client.deliver({ image: 'tb24-4.3.0.simg', devices: ['quay-sw-2', 'quay-sw-3', 'quay-sw-4'], place: 'device' });
    expect(made).toHaveLength(3);
    await expect.poll(async () => (await client.deliveries()).filter((d) => d.state === 'moving' && d.bytes > 0).length).toBe(2);
    const site = (await client.sites()).find((s) => s.name === 'quay-house')!;
    expect(site.waitingBytes).toBeGreaterThan(2_000_000);
    // Never sooner than the link allows, and not three times as long.
    const least = site.waitingBytes / (64 * 125 * 100);
    expect(site.secondsLeft).toBeGreaterThanOrEqual(Math.floor(least));
    const waiting = (await client.deliveries()).find((d) => d.id === made[2]!.id)!;
    expect(waiting).toMatchObject({ state: 'waiting' });
    expect(waiting.secondsLeft).toBeGreaterThan(0);
    expect((await cli('site', 'list')).out).toMatch(/quay-house +\d+ +64 kbit\/s/);
    await scene.served.kill();
    await again();
    await client.setSite('quay-house', { linkKilobits: null });
    const ended = await delivered(
      client,
      made.map((d) => d.id),
    );
    expect(ended.map((d) => [d.state, d.cause?.code])).toEqual(made.map(() => ['verified', undefined]));
    for (const name of ['quay-sw-2', 'quay-sw-3', 'quay-sw-4'])
      expect(scene.fleet.device(name).persistent.store[1]).toMatchObject({ sha256: digests.get('tb24-4.3.0.simg'), fault: null });
  });

  it('stops on a word, and begins anew on another', async () => {
    await client.setSite('quay-house', { linkKilobits: 1 });
    const [made] = await client.deliver({ image: 'oc400r2-2.12.0.simg', devices: ['quay-cam-2'], place: 'device' });
    await expect.poll(async () => (await client.deliveries()).find((d) => d.id === made!.id)!.bytes).toBeGreaterThan(0);
    expect((await client.tellDelivery(made!.id, 'stop')).state).toBe('stopped');
    await expect(client.tellDelivery(made!.id, 'stop')).rejects.toMatchObject({ problem: { code: 'delivery-ended' } });
    expect(fixture('quay-cam-2').shelf.files).toEqual([]);
    await client.setSite('quay-house', { linkKilobits: null });
    await client.tellDelivery(made!.id, 'retry');
    expect((await delivered(client, [made!.id]))[0]).toMatchObject({ state: 'verified' });
  });

  it('fills the store of a site once, checks it there, and sends devices to it', async () => {
    const held = new Map<string, Buffer>();
    const asked: string[] = [];
    const server = createServer((request, response) => {
      const parts: Buffer[] = [];
      request.on('data', (d: Buffer) => parts.push(d));
      request.on('end', () => {
        const url = request.url!;
        asked.push(`${request.method} ${url} ${request.socket.remoteAddress}`);
        if (request.method === 'PUT') {
          held.set(url, Buffer.concat(parts));
          response.writeHead(201).end();
        } else if (held.has(url)) response.writeHead(200, { 'content-length': held.get(url)!.length }).end(held.get(url));
        else response.writeHead(404).end();
      });
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const at = `http://127.0.0.1:${(server.address() as AddressInfo).port}/images`;
    try {
      const set = await cli('site', 'set', 'quay-house', '--serve', at, '--fill', at);
      expect(set.code, set.err).toBe(0);
      fixture('quay-pdu-1').shelf.drop('sp8-1.13.img');
      const [d] = await put('sp8-1.13.img', ['quay-pdu-1'], 'site-store');
      expect(d).toMatchObject({ state: 'verified', digestThere: digests.get('sp8-1.13.img'), holder: { name: 'quay-house' } });
      expect(createHash('sha256').update(held.get('/images/sp8-1.13.img')!).digest('hex')).toBe(digests.get('sp8-1.13.img'));
      const [again] = await put('sp8-1.13.img', ['quay-pdu-1'], 'site-store');
      expect(again).toMatchObject({ state: 'verified' });
      expect(asked.filter((a) => a.startsWith('PUT'))).toHaveLength(1);
      const [own] = await put('sp8-1.13.img', ['quay-pdu-1'], 'device');
      expect(own).toMatchObject({ state: 'verified', transfers: [] });
      expect(asked.at(-1)).toBe(`GET /images/sp8-1.13.img ${fixture('quay-pdu-1').facts.address}`);
      // What it holds is changed: the next filling finds out.
      held.set('/images/sp8-1.13.img', Buffer.from('rot'));
      expect((await put('sp8-1.13.img', ['quay-pdu-1'], 'site-store'))[0]).toMatchObject({ state: 'verified' });
      expect(asked.filter((a) => a.startsWith('PUT'))).toHaveLength(2);
    } finally {
      await client.setSite('quay-house', { store: null });
      server.close();
    }
  });

  it.skipIf(!has('sshd') || !has('ssh-keygen') || process.getuid?.() !== 0)(
    "fills the store of a site by SFTP on Debian's sshd, several files of one release, and pins its key",
    async () => {
      const folder = mkdtempSync(join(tmpdir(), 'barrow-site-'));
      const sshd = await startSshd({ address: '127.78.9.1', port: 2822 });
      const { user, privateKey: secret } = sshd;
      await client.addCredential({ name: 'site-key', kind: 'ssh-key', user, secret });
      const set = (fill: string) =>
        client.setSite('quay-house', { store: { serve: 'tftp://127.78.9.1:69', fill, credential: 'site-key' } });
      try {
        await set(`sftp://127.78.9.1:2822${folder}`);
        const image = (await client.images()).find((i) => i.files.length === 3)!;
        const [d] = await put(image.sha256, ['quay-core-1'], 'site-store');
        expect(d, JSON.stringify(d)).toMatchObject({ state: 'verified', place: 'site-store' });
        expect(image.files.length).toBe(3);
        expect(d!.transfers.length).toBe(3);
        for (const { file, sha256 } of image.files)
          expect(
            createHash('sha256')
              .update(readFileSync(join(folder, file)))
              .digest('hex'),
          ).toBe(sha256);
        const { store } = (await client.sites()).find((x) => x.name === 'quay-house')!;
        expect(store!.hostKey).toBe(sshd.fingerprint);
        await client.setSite('quay-house', { store: { ...store!, hostKey: `SHA256:${'A'.repeat(43)}` } });
        const [other] = await put(image.sha256, ['quay-core-2'], 'site-store');
        expect(other).toMatchObject({ state: 'failed', cause: { code: 'host-key-changed' } });
        await set(`sftp://127.78.9.1:2822${folder}/not-there`);
        expect((await put('tb24-4.3.0.simg', ['quay-sw-4'], 'site-store'))[0]).toMatchObject({ state: 'failed' });
      } finally {
        await client.setSite('quay-house', { store: null });
        await sshd.stop();
        rmSync(folder, { recursive: true });
      }
    },
  );

  it('tells what to enter into a DHCP server, and what that means for phones', async () => {
    await client.putOffer('d40-2.9.0.simg', ['quay-phone-1', 'quay-phone-2']);
    const ran = await cli('staging', 'list', '--dhcp');
    expect(ran.out).toContain('option 66 (TFTP server name): 127.0.0.1');
    expect(ran.out).toContain('option 67 (boot file name): d40-2.9.0.simg');
    expect(ran.out).toContain('option 150 (TFTP server address): 127.0.0.1');
    expect(ran.out).toContain('settings from the server');
    expect(ran.out).toContain('These options name no port');
    await client.dropOffer('d40-2.9.0.simg');
  });

  it('checks the stores from here and as devices see them', async () => {
    scene.fleet.fault('quay-sw-2', 'way-blocked');
    const ran = await cli('staging', 'check', 'quay-sw-1', 'quay-sw-2', 'quay-rt-1');
    scene.fleet.fault('quay-sw-2', 'way-blocked', false);
    expect(ran.code).toBe(1);
    expect(ran.out).toMatch(/TFTP store +127\.0\.0\.1:\d+ +✓ works/);
    expect(ran.out).toMatch(/HTTP store +127\.0\.0\.1:\d+ +✓ works/);
    expect(ran.out).toMatch(/seen by quay-sw-1 +127\.0\.0\.1 +✓ works/);
    expect(ran.out).toMatch(/seen by quay-sw-2 +127\.0\.0\.1 +✕ fails/);
    expect(ran.out).toMatch(/seen by quay-rt-1 +127\.0\.0\.1 +\? not known/);
  });

  it('tells the story of a transfer, packet by packet, and exports it', async () => {
    const [moved] = (await client.transfers(100, { device: 'quay-sw-1' })).filter((t) => t.state === 'done' && t.bytes > 0);
    const story = await client.transfer(moved!.id);
    expect(story.packets[0]).toMatchObject({ from: 'device', afterMs: 0 });
    expect(story.packets[0]!.says).toBe('asks to read "tb24-4.3.0.simg" in octet, with blksize 1428, windowsize 4, tsize 0');
    expect(story.packets[1]).toMatchObject({ from: 'barrow', says: `agrees to blksize 1428, windowsize 4, tsize ${moved!.totalBytes}` });
    expect(story.packets).toHaveLength(220);
    expect(story.packetsLeftOut).toBeGreaterThan(100);
    expect(story.packets.at(-1)!.says).toMatch(/^acknowledges block \d+$/);
    const folder = mkdtempSync(join(tmpdir(), 'barrow-pcapng-'));
    const file = join(folder, 'story.pcapng');
    const shown = await cli('transfer', 'show', moved!.id, '--pcapng', file);
    expect(shown.code, shown.err).toBe(0);
    expect(shown.out).toContain('acknowledges block');
    // draft-ietf-opsawg-pcapng §4.1: the section header block and its byte-order magic.
    const bytes = readFileSync(file);
    expect([bytes.readUInt32LE(0), bytes.readUInt32LE(8)]).toEqual([0x0a0d0d0a, 0x1a2b3c4d]);
    expect(await cli('transfer', 'show', moved!.id, '--pcapng', file)).toMatchObject({ code: 2 });
    rmSync(folder, { recursive: true });
  });

  it('lets a device fetch from another of its addresses once a person says that it was this device', async () => {
    scene.fleet.fault('quay-sw-3', 'asks-from-elsewhere');
    scene.fleet.device('quay-sw-3').persistent.store.splice(1);
    const [failed] = await put('tb24-4.3.0.simg', ['quay-sw-3'], 'device');
    expect(failed).toMatchObject({ state: 'failed', cause: { code: 'asked-from-elsewhere' } });
    const [refused] = (await client.transfers(100, { state: 'refused' })).filter((t) => t.file === 'tb24-4.3.0.simg');
    expect((await cli('transfer', 'claim', refused!.id, 'quay-sw-1')).code).toBe(0);
    const claimed = await cli('transfer', 'claim', refused!.id, 'quay-sw-3');
    expect(claimed.out).toContain('quay-sw-3 may fetch from');
    const [now] = await put('tb24-4.3.0.simg', ['quay-sw-3'], 'device');
    scene.fleet.fault('quay-sw-3', 'asks-from-elsewhere', false);
    expect(now).toMatchObject({ state: 'verified' });
  });

  it('says that its HTTP store does not listen when another program has the port, and listens as soon as it is free', async () => {
    const other = createTcp();
    await new Promise<void>((resolve) => other.listen(0, '127.0.0.1', resolve));
    const { port } = other.address() as AddressInfo;
    await scene.served.stop();
    await again(['--http-store-listen', `127.0.0.1:${port}`]);
    fixture('quay-pdu-1').shelf.drop('sp8-1.13.img');
    const [failed] = await put('sp8-1.13.img', ['quay-pdu-1'], 'device');
    expect(failed).toMatchObject({ state: 'failed', cause: { code: 'store-not-listening' } });
    expect(failed!.detail).toContain('EADDRINUSE');
    expect((await cli('staging', 'check')).code).toBe(1);
    await new Promise<void>((resolve) => other.close(() => resolve()));
    await expect.poll(async () => (await client.checkStores()).stores.every((s) => s.works), { interval: 200 }).toBe(true);
    await client.tellDelivery(failed!.id, 'retry');
    expect((await delivered(client, [failed!.id]))[0]).toMatchObject({ state: 'verified' });
  });

  it('keeps no packet, no image and no login in its log', () => {
    const log = scene.served.log();
    expect(log).not.toContain('lantern-on-the-mole');
    expect(existsSync(join(scene.data, 'images'))).toBe(true);
  });
});
