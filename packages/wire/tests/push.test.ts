import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { sharedLink, SshPlace, uploadHttp } from '@barrow/wire';
import { startSshd } from '../../../tests/support/daemons.js';
import { has } from '../../../tests/support/service.js';

const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const content = randomBytes(1_500_003);

describe.skipIf(!has('sshd') || !has('ssh-keygen') || process.getuid?.() !== 0)("Debian's sshd", () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-push-'));
  const path = join(dir, 'image');
  const file = { path, bytes: content.length, name: 'image.bin' };
  let sshd: Awaited<ReturnType<typeof startSshd>>;
  let place: SshPlace;

  beforeAll(async () => {
    writeFileSync(path, content);
    sshd = await startSshd({ address: '127.46.8.1', port: 2822 });
    place = await SshPlace.open({
      host: '127.46.8.1',
      port: 2822,
      username: sshd.user,
      privateKey: sshd.privateKey,
      hostKey: sshd.fingerprint,
      readyTimeoutMs: 10_000,
    });
  });
  afterAll(async () => {
    place?.close();
    await sshd?.stop();
    rmSync(dir, { recursive: true });
  });

  it('takes a file by SFTP, beside its name first, and tells its digest', async () => {
    const to = join(dir, 'taken.bin');
    const seen: number[] = [];
    await place.put(file, to, { onSent: (octets) => seen.push(octets) });
    expect(sha(readFileSync(to))).toBe(sha(content));
    expect(seen.at(-1)).toBe(content.length);
    expect(await place.digest(to)).toEqual({ sha256: sha(content), bytes: content.length, how: 'told' });
    expect(await place.digest(join(dir, 'none'))).toBeNull();
  });

  it('goes on from what of an earlier try is there', async () => {
    const to = join(dir, 'resumed.bin');
    writeFileSync(`${to}.part`, content.subarray(0, 1_000_000));
    const seen: number[] = [];
    await place.put(file, to, { onSent: (octets) => seen.push(octets) });
    expect(seen[0]).toBeGreaterThan(1_000_000);
    expect(sha(readFileSync(to))).toBe(sha(content));
  });

  it('takes a file as scp sends it, and says in its own words what it will not take', async () => {
    const to = join(dir, 'copied.bin');
    await place.copy(file, to);
    expect(sha(readFileSync(to))).toBe(sha(content));
    await expect(place.copy(file, '/nonexistent/x')).rejects.toMatchObject({ fault: 'refused' });
    await expect(place.put(file, '/nonexistent/x')).rejects.toMatchObject({ fault: 'refused' });
  });
});

describe('an upload over HTTP', () => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-upload-'));
  const path = join(dir, 'image');
  writeFileSync(path, content);
  const file = { path, bytes: content.length, name: 'image.bin' };
  const undo: (() => void)[] = [];
  afterEach(() => undo.splice(0).forEach((u) => u()));
  afterAll(() => rmSync(dir, { recursive: true }));

  const serveWith = async (handle: (request: IncomingMessage) => Promise<{ status: number; body: string } | 'hang' | 'cut'>) => {
    const server = createServer((request, response) => {
      void handle(request).then((answer) => {
        if (answer === 'hang') return;
        if (answer === 'cut') request.socket.destroy();
        else response.writeHead(answer.status).end(answer.body);
      });
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    undo.push(() => {
      server.closeAllConnections();
      server.close();
    });
    return { host: '127.0.0.1', port: (server.address() as AddressInfo).port, secure: false, access: null, timeoutMs: 1500 };
  };
  const bodyOf = async (request: IncomingMessage): Promise<Buffer> => {
    const parts: Buffer[] = [];
    for await (const part of request) parts.push(part as Buffer);
    return Buffer.concat(parts);
  };

  it('as a form is one that a form reader understands, with its length told', async () => {
    let told = 0;
    let body: Buffer = Buffer.alloc(0);
    let type = '';
    const target = await serveWith(async (request) => {
      told = Number(request.headers['content-length']);
      type = request.headers['content-type']!;
      body = await bodyOf(request);
      return { status: 200, body: 'taken' };
    });
    const answer = await uploadHttp(target, { method: 'POST', path: '/f', as: { how: 'form', field: 'fw' }, file });
    expect(answer).toEqual({ status: 200, location: null, body: 'taken' });
    expect(body.length).toBe(told);
    // The platform's own reader of forms is the referee.
    const form = await new Response(new Uint8Array(body), { headers: { 'content-type': type } }).formData();
    const part = form.get('fw') as File;
    expect(part.name).toBe('image.bin');
    expect(sha(Buffer.from(await part.arrayBuffer()))).toBe(sha(content));
  });

  it('tells what the device said before it had everything', async () => {
    const target = await serveWith(async () => ({ status: 507, body: 'no: room for 4096 octets only' }));
    const answer = await uploadHttp(target, { method: 'PUT', path: '/f', as: { how: 'body' }, file, link: sharedLink('berth', 400_000) });
    expect(answer).toEqual({ status: 507, location: null, body: 'no: room for 4096 octets only' });
  });

  it('ends when nothing moves any more, and when the connection is cut', async () => {
    const hang = await serveWith(async (request) => {
      request.pause();
      return 'hang';
    });
    await expect(uploadHttp(hang, { method: 'PUT', path: '/f', as: { how: 'body' }, file })).rejects.toMatchObject({ fault: 'timeout' });
    const cut = await serveWith(async () => 'cut');
    await expect(uploadHttp(cut, { method: 'PUT', path: '/f', as: { how: 'body' }, file })).rejects.toMatchObject({ fault: 'lost' });
    await expect(uploadHttp({ ...cut, port: 1 }, { method: 'PUT', path: '/f', as: { how: 'body' }, file })).rejects.toMatchObject({
      fault: 'refused',
    });
  });
});
