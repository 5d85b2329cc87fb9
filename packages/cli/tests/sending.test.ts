import { once } from 'node:events';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { buffer } from 'node:stream/consumers';
import { Worker } from 'node:worker_threads';
import { BarrowClient, ProblemError, UnreachableError } from '@barrow/client';
import { afterEach, describe, expect, it } from 'vitest';
import { stall } from '../../../tests/support/stall.js';
import { fetchSending } from '../src/sending.js';

describe('an upload of the command line', () => {
  let stop: (() => void) | null = null;
  afterEach(() => stop?.());
  const serve = async (handle: (request: IncomingMessage, response: ServerResponse) => void): Promise<BarrowClient> => {
    const server = createServer(handle);
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    stop = () => server.closeAllConnections();
    const { port } = server.address() as AddressInfo;
    return new BarrowClient({ url: `http://127.0.0.1:${port}`, token: 'word', fetch: fetchSending });
  };
  async function* pieces(count: number): AsyncGenerator<Buffer> {
    for (let i = 0; i < count; i++) yield Buffer.alloc(1 << 18, i);
  }
  const upload = { id: 'u', file: 'f', bytes: 3 << 18, key: 'k', received: 3 << 18, receivedSha256: null };

  it('brings every octet in its order, with the login, and reads the answer', async () => {
    let came: Buffer | null = null;
    let asked = '';
    const client = await serve((request, response) => {
      asked = `${request.method} ${request.url} ${request.headers.authorization}`;
      void buffer(request).then((body) => {
        came = body;
        response.setHeader('content-type', 'application/json').end(JSON.stringify(upload));
      });
    });
    expect(await client.sendUpload('u', 0, pieces(3) as never)).toEqual(upload);
    expect(asked).toBe('PUT /api/v1/uploads/u?offset=0 Bearer word');
    expect(came!.equals(Buffer.concat([0, 1, 2].map((i) => Buffer.alloc(1 << 18, i))))).toBe(true);
  });

  it('reads a refusal that comes before everything was sent', async () => {
    const client = await serve((_request, response) => {
      const problem = { type: 'x', title: 'No room', status: 413, detail: 'full', code: 'store-full', next: 'make some' };
      response.writeHead(413, { 'content-type': 'application/problem+json' }).end(JSON.stringify(problem));
    });
    const error = await client.sendUpload('u', 0, pieces(4000) as never).catch((e: unknown) => e);
    expect(error).toBeInstanceOf(ProblemError);
    expect((error as ProblemError).problem.code).toBe('store-full');
  });

  it('reads a refusal of who breaks off while it still writes', async () => {
    const refusing = `
      const problem = JSON.stringify({ type: 'x', title: 'Busy', status: 409, detail: 'somebody else', code: 'upload-busy', next: 'wait' });
      const server = require('node:http').createServer((request, response) => {
        response.writeHead(409, { 'content-type': 'application/problem+json', 'content-length': problem.length }).end(problem);
        setTimeout(() => request.socket.resetAndDestroy(), 30);
      });
      server.listen(0, '127.0.0.1', () => require('node:worker_threads').parentPort.postMessage(server.address().port));`;
    const worker = new Worker(refusing, { eval: true });
    stop = () => void worker.terminate();
    const [port] = (await once(worker, 'message')) as [number];
    const client = new BarrowClient({ url: `http://127.0.0.1:${port}`, token: 'word', fetch: fetchSending });
    async function* slowly(): AsyncGenerator<Buffer> {
      yield Buffer.alloc(10);
      for (const until = performance.now() + 15; performance.now() < until;) await new Promise((done) => setImmediate(done));
      // The answer is there; that the other side broke off, nobody can hear meanwhile.
      stall(60);
      yield* pieces(2);
    }
    const error = await client.sendUpload('u', 0, slowly() as never).catch((e: unknown) => e);
    expect(error instanceof ProblemError ? error.problem.code : (error as UnreachableError).why).toMatch(
      /upload-busy|ECONNRESET|EPIPE|hang up/,
    );
  });

  it('says that the service is gone when it is cut off', async () => {
    const client = await serve((request) => void request.once('data', () => request.socket.destroy()));
    const error = await client.sendUpload('u', 0, pieces(4000) as never).catch((e: unknown) => e);
    expect(error).toBeInstanceOf(UnreachableError);
    expect((error as UnreachableError).why).toMatch(/ECONNRESET|EPIPE|hang up/);
  });
});
