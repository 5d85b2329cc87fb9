import { createReadStream } from 'node:fs';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createSecureServer } from 'node:https';
import type { AddressInfo, Socket } from 'node:net';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { setTimeout as pause } from 'node:timers/promises';
import parseRange from 'range-parser';
import { WireError } from '../errors.js';
import { Pacer, type SharedLink } from '../pacer.js';
import type { TftpPeer } from '../tftp/server.js';
import { challenge, opens, type Guard } from './guard.js';

/** A request for a file. */
export interface FileRequest {
  readonly method: 'GET' | 'HEAD';
  /** Decoded, without the query. */
  readonly path: string;
  readonly agent: string | null;
  readonly range: string | null;
}

export type FileAnswer<Tag> =
  | {
      readonly kind: 'send';
      readonly path: string;
      readonly bytes: number;
      /** A strong validator (RFC 9110 §8.8.3), without quotes. */
      readonly etag: string;
      readonly tag: Tag;
      readonly link: SharedLink | null;
      readonly guard: Guard | null;
    }
  | { readonly kind: 'refuse'; readonly status: 403 | 404 | 405 | 503; readonly message: string };

export type FileEnd =
  | { readonly kind: 'done' }
  /** `closed`: from the other end. */
  | { readonly kind: 'broken'; readonly message: string; readonly closed: boolean };

/** Which octets of the file are sent. */
export interface FilePart {
  readonly from: number;
  readonly octets: number;
}

export interface FileServerOptions<Tag> {
  readonly hosts: readonly string[];
  /** 0 chooses a free port, the same at every address. */
  readonly port: number;
  readonly tls: { readonly cert: string; readonly key: string } | null;
  readonly answer: (request: FileRequest, peer: TftpPeer) => FileAnswer<Tag>;
  /** A request had no login that opens the file; with digest, the first of each device has none. */
  readonly onChallenged?: (tag: Tag, peer: TftpPeer) => void;
  readonly onBegin: (tag: Tag, part: FilePart, stop: (why: string) => void) => void;
  readonly onProgress: (tag: Tag, sent: number) => void;
  readonly onEnd: (tag: Tag, end: FileEnd, sent: number) => void;
  readonly onRefused: (peer: TftpPeer, request: FileRequest | null, why: string) => void;
  readonly mostFromOne?: number;
  /** Whether something is offered to an address: it finds room whatever others have taken. */
  readonly isExpected?: (address: string) => boolean;
}

const progressEveryMs = 200;
/** Connections that those together may hold to whom nothing is offered; the rest is for devices. */
const mostStrangers = 300;
const mostPeers = 20_000;

/**
 * Serves files by HTTP (RFC 9110): GET and HEAD, one range at a time with If-Range, strong ETags, Basic or Digest where
 * a file demands it. Which file a request gets is the caller's decision; it reads no path of its own.
 */
export class FileServer<Tag> {
  readonly #servers: Server[] = [];
  readonly #open = new Map<string, number>();
  #active = 0;
  /** Connections from addresses to which nothing is offered. */
  #strangers = 0;

  constructor(private readonly options: FileServerOptions<Tag>) {}

  get active(): number {
    return this.#active;
  }

  /** @throws WireError when a port is taken or not allowed. */
  async start(): Promise<{ port: number }> {
    let { port } = this.options;
    for (const host of this.options.hosts) {
      const hear = (request: IncomingMessage, response: ServerResponse): void => void this.#serve(request, response);
      const limits = { maxHeaderSize: 16 * 1024, headersTimeout: 20_000, requestTimeout: 30_000, keepAliveTimeout: 10_000 };
      const { tls } = this.options;
      const server = tls ? createSecureServer({ ...limits, ...tls }, hear) : createServer(limits, hear);
      server.on('connection', (socket: Socket) => this.#count(socket));
      server.on('clientError', (_error, socket) => socket.destroy());
      try {
        await new Promise<void>((resolve, reject) => {
          server.once('error', (error: NodeJS.ErrnoException) =>
            reject(new WireError('refused', `cannot listen for HTTP on ${host}:${port}: ${error.code ?? error.message}`)),
          );
          server.listen(port, host, resolve);
        });
      } catch (error) {
        await this.stop();
        throw error;
      }
      port = (server.address() as AddressInfo).port;
      this.#servers.push(server);
    }
    return { port };
  }

  async stop(): Promise<void> {
    await Promise.all(
      this.#servers.splice(0).map(
        (server) =>
          new Promise<void>((resolve) => {
            server.close(() => resolve());
            server.closeAllConnections();
          }),
      ),
    );
  }

  /** A device opens a few connections, a flood opens them all. */
  #count(socket: Socket): void {
    const address = socket.remoteAddress ?? '';
    const open = (this.#open.get(address) ?? 0) + 1;
    this.#open.set(address, open);
    const expected = this.options.isExpected?.(address) ?? false;
    if (!expected) this.#strangers++;
    socket.once('close', () => {
      if (!expected) this.#strangers--;
      const left = this.#open.get(address)! - 1;
      if (left === 0) this.#open.delete(address);
      else this.#open.set(address, left);
    });
    if (open > (this.options.mostFromOne ?? 32) || (!expected && this.#strangers > mostStrangers) || this.#open.size > mostPeers)
      socket.destroy();
  }

  async #serve(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const peer = { address: (request.socket.remoteAddress ?? '').replace(/^::ffff:/, ''), port: request.socket.remotePort ?? 0 };
    const refuse = (status: number, why: string, asked: FileRequest | null, headers: Record<string, string | string[]> = {}): void => {
      response.writeHead(status, { 'content-type': 'text/plain; charset=utf-8', ...headers }).end(`${why}\n`);
      if (status !== 401) this.options.onRefused(peer, asked, why);
    };
    const path = decode(request.url ?? '/');
    if (path === null) return refuse(400, 'the address cannot be read', null);
    const asked: FileRequest = {
      method: request.method === 'HEAD' ? 'HEAD' : 'GET',
      path,
      agent: request.headers['user-agent'] ?? null,
      range: request.headers.range ?? null,
    };
    if (request.method !== 'GET' && request.method !== 'HEAD')
      return refuse(405, 'this store takes no files', asked, { allow: 'GET, HEAD' });
    const answer = this.options.answer(asked, peer);
    if (answer.kind === 'refuse') return refuse(answer.status, answer.message, asked);
    const { guard } = answer;
    if (guard && !opens(guard, request.headers.authorization, request.method, request.url ?? '/')) {
      this.options.onChallenged?.(answer.tag, peer);
      return refuse(401, 'a login is needed', asked, { 'www-authenticate': challenge(guard) });
    }
    await this.#send(request, response, answer);
  }

  async #send(request: IncomingMessage, response: ServerResponse, answer: Extract<FileAnswer<Tag>, { kind: 'send' }>): Promise<void> {
    const { bytes, tag } = answer;
    const etag = `"${answer.etag}"`;
    const headers: Record<string, string | number> = {
      'content-type': 'application/octet-stream',
      'accept-ranges': 'bytes',
      'cache-control': 'private, no-transform',
      etag,
    };
    // RFC 9110 §13.1.1: a client that continues another content is refused.
    const wanted = request.headers['if-match'];
    if (wanted !== undefined && wanted.trim() !== '*' && !wanted.split(/\s*,\s*/).includes(etag)) {
      response.writeHead(412, { ...headers, 'content-length': 0 }).end();
      return;
    }
    // RFC 9110 §13.1.2: who has it already need not fetch it again.
    if (request.headers['if-none-match']?.split(/\s*,\s*/).includes(etag)) {
      response.writeHead(304, headers).end();
      return;
    }
    let part: FilePart = { from: 0, octets: bytes };
    let status = 200;
    const asked = request.headers.range;
    const condition = request.headers['if-range'];
    // RFC 9110 §13.1.5: with If-Range the range counts only for the very same content.
    if (asked && bytes > 0 && (condition === undefined || condition === etag)) {
      const ranges = parseRange(bytes, asked);
      if (ranges === -1) {
        response.writeHead(416, { ...headers, 'content-range': `bytes */${bytes}` }).end();
        return;
      }
      // RFC 9110 §14.2: a server may answer several ranges with the whole.
      if (ranges !== -2 && ranges.type === 'bytes' && ranges.length === 1) {
        const [{ start, end }] = ranges as unknown as [{ start: number; end: number }];
        part = { from: start, octets: end - start + 1 };
        status = 206;
        headers['content-range'] = `bytes ${start}-${end}/${bytes}`;
      }
    }
    response.writeHead(status, { ...headers, 'content-length': part.octets });
    if (request.method === 'HEAD' || part.octets === 0) {
      response.end();
      return;
    }
    let why: string | null = null;
    this.#active++;
    this.options.onBegin(tag, part, (reason) => {
      why = reason;
      response.destroy();
    });
    const socket = request.socket;
    const writtenBefore = socket.bytesWritten;
    // What the kernel has taken, less the few octets of the header: near enough to be shown, exact at the end.
    const sent = (): number => Math.max(0, Math.min(part.octets, socket.bytesWritten - writtenBefore - socket.writableLength));
    const timer = setInterval(() => this.options.onProgress(tag, sent()), progressEveryMs);
    try {
      const file = createReadStream(answer.path, { start: part.from, end: part.from + part.octets - 1, highWaterMark: 256 * 1024 });
      if (answer.link) await pipeline(file, throttle(answer.link), response);
      else await pipeline(file, response);
      this.options.onEnd(tag, { kind: 'done' }, part.octets);
    } catch (error) {
      const code = (error as NodeJS.ErrnoException).code ?? (error as Error).message;
      const closed = why === null && ['ERR_STREAM_PREMATURE_CLOSE', 'ECONNRESET', 'EPIPE'].includes(code);
      const message = why ?? (closed ? 'the device closed the connection' : code);
      this.options.onEnd(tag, { kind: 'broken', message, closed }, sent());
    } finally {
      clearInterval(timer);
      this.#active--;
    }
  }
}

/** Lets octets through no faster than the link that they share. */
export function throttle(link: SharedLink): Transform {
  const pacer = new Pacer(link);
  const piece = 8 * 1024;
  return new Transform({
    async transform(chunk: Buffer, _encoding, done) {
      for (let at = 0; at < chunk.length; at += piece) {
        const part = chunk.subarray(at, at + piece);
        for (let wait = pacer.take(part.length); wait > 0; wait = pacer.take(part.length)) await pause(wait);
        this.push(part);
      }
      done();
    },
  });
}

function decode(url: string): string | null {
  try {
    const path = decodeURIComponent(url.replace(/[?#].*$/s, ''));
    return path.includes('\0') ? null : path;
  } catch {
    return null;
  }
}
