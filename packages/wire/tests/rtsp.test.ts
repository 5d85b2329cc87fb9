import { createHash } from 'node:crypto';
import { createServer, type AddressInfo, type Server, type Socket } from 'node:net';
import { afterEach, describe, expect, it } from 'vitest';
import { describeRtsp, WireError } from '@barrow/wire';

const sdp = 'v=0\r\ns=x\r\nm=audio 0 RTP/AVP 0\r\nm=video 0 RTP/AVP 96\r\n';
const md5 = (text: string): string => createHash('md5').update(text).digest('hex');

describe('what a stream is, by DESCRIBE (RFC 2326)', () => {
  let server: Server | null = null;
  const open = new Set<Socket>();
  const heard: string[] = [];
  afterEach(async () => {
    for (const socket of open) socket.destroy();
    heard.length = 0;
    await new Promise((done) => (server ? server.close(done) : done(null)));
    server = null;
  });
  /** A server that answers each request as it is told; nothing: never. */
  async function serve(answer: (request: string, socket: Socket) => string | null): Promise<number> {
    server = createServer((socket) => {
      open.add(socket);
      socket.on('error', () => undefined);
      socket.on('data', (data) => {
        heard.push(data.toString('latin1'));
        const said = answer(data.toString('latin1'), socket);
        if (said !== null) socket.write(said);
      });
    });
    await new Promise<void>((done) => server!.listen(0, '127.0.0.1', done));
    return (server.address() as AddressInfo).port;
  }
  const ask = (port: number, more: Partial<Parameters<typeof describeRtsp>[0]> = {}) =>
    describeRtsp({ host: '127.0.0.1', port, uri: `rtsp://127.0.0.1:${port}/a`, login: null, timeoutMs: 5000, ...more });
  const ok = `RTSP/1.0 200 OK\r\nCSeq: 1\r\nContent-Type: application/sdp\r\nContent-Length: ${sdp.length}\r\n\r\n${sdp}`;
  const fault = (work: Promise<unknown>): Promise<unknown> =>
    work.then(
      () => null,
      (e: WireError) => e.fault,
    );

  it('is read where nobody asks for a login', async () => {
    const port = await serve(() => ok);
    expect(await ask(port)).toEqual({ status: 200, reason: 'OK', media: ['audio', 'video'] });
    expect(heard[0]).toBe(`DESCRIBE rtsp://127.0.0.1:${port}/a RTSP/1.0\r\nCSeq: 1\r\nAccept: application/sdp\r\n\r\n`);
  });

  it('is read piece by piece, and by whatever the end of a header looks like in a body', async () => {
    const port = await serve((_, socket) => {
      const whole = Buffer.from(ok);
      socket.write(whole.subarray(0, 3));
      socket.write(whole.subarray(3, 70), () => setImmediate(() => socket.write(whole.subarray(70))));
      return null;
    });
    expect((await ask(port)).media).toEqual(['audio', 'video']);
  });

  it('answers a digest (RFC 7616), once, with what the server gave', async () => {
    const port = await serve((request) =>
      request.includes('Authorization')
        ? ok
        : 'RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\nWWW-Authenticate: Digest realm="r", nonce="n1"\r\n\r\n',
    );
    expect((await ask(port, { login: { user: 'u', password: 'p' } })).status).toBe(200);
    expect(heard).toHaveLength(2);
    const response = md5(`${md5('u:r:p')}:n1:${md5(`DESCRIBE:rtsp://127.0.0.1:${port}/a`)}`);
    expect(heard[1]).toContain(`response="${response}"`);
    expect(heard[1]).not.toContain('"p"');
  });

  it('answers basic (RFC 7617) where nothing better is offered, and prefers the digest', async () => {
    const basic = 'RTSP/1.0 401 Unauthorized\r\nWWW-Authenticate: Basic realm="r"\r\n\r\n';
    const port = await serve((request) => (request.includes('Authorization: Basic dTpw') ? ok : basic));
    expect((await ask(port, { login: { user: 'u', password: 'p' } })).status).toBe(200);
  });

  it('says whom it refused, and asks nobody twice', async () => {
    const port = await serve(() => 'RTSP/1.0 401 Unauthorized\r\nWWW-Authenticate: Digest realm="r", nonce="n"\r\n\r\n');
    await expect(ask(port, { login: { user: 'u', password: 'p' } })).rejects.toMatchObject({
      fault: 'login-refused',
      detail: expect.stringContaining('user u'),
    });
    expect(heard).toHaveLength(2);
    await expect(ask(port)).rejects.toMatchObject({ fault: 'login-refused', detail: expect.stringContaining('without login') });
    expect(heard).toHaveLength(3);
  });

  it('tells another status as it is', async () => {
    const port = await serve(() => 'RTSP/1.0 404 Stream Not Found\r\nCSeq: 1\r\n\r\n');
    expect(await ask(port)).toEqual({ status: 404, reason: 'Stream Not Found', media: [] });
  });

  it('names what is no answer, what is none, and who is not there', async () => {
    expect(await fault(ask(await serve(() => 'HTTP/1.1 200 OK\r\n\r\n')))).toBe('malformed');
    await new Promise((done) => server!.close(done) && open.forEach((s) => s.destroy()));
    expect(await fault(ask(await serve(() => 'RTSP/1.0 200 OK\r\nContent-Length: -4\r\n\r\n')))).toBe('malformed');
    await new Promise((done) => server!.close(done) && open.forEach((s) => s.destroy()));
    expect(await fault(ask(await serve(() => `RTSP/1.0 200 OK\r\nX: ${'a'.repeat(70_000)}`)))).toBe('malformed');
    await new Promise((done) => server!.close(done) && open.forEach((s) => s.destroy()));
    const port = await serve((_, socket) => (socket.end('RTSP/1.0 200 OK\r\nContent-Length: 9\r\n\r\nabc'), null));
    expect(await fault(ask(port))).toBe('lost');
    await new Promise((done) => server!.close(done) && open.forEach((s) => s.destroy()));
    server = null;
    expect(await fault(ask(port))).toBe('refused');
  });

  it('waits no longer than it was told, and stops at once when it is told to', async () => {
    const port = await serve(() => null);
    expect(await fault(ask(port, { timeoutMs: 60 }))).toBe('timeout');
    const abort = new AbortController();
    const asked = fault(ask(port, { signal: abort.signal }));
    abort.abort();
    expect(await asked).toBe('cancelled');
  });
});
