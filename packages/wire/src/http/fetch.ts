import { request as plainRequest, type ClientRequest, type IncomingMessage } from 'node:http';
import { request as secureRequest } from 'node:https';
import type { PeerCertificate, TLSSocket } from 'node:tls';
import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { ownTimeout } from '../own-time.js';
import { answerDigest, readChallenges } from './digest.js';

/** A password added for digest is never sent in the clear. */
export type HttpAccess =
  | { readonly how: 'basic' | 'digest'; readonly user: string; readonly password: string }
  | { readonly how: 'token'; readonly token: string };

export interface HttpTarget {
  readonly host: string;
  readonly port: number;
  readonly secure: boolean;
  readonly access: HttpAccess | null;
  readonly timeoutMs: number;
  /** The most of a body that is read; the rest is left. */
  readonly mostBytes?: number;
  readonly signal?: AbortSignal;
}

export interface HttpAnswer {
  readonly status: number;
  readonly headers: Readonly<Record<string, string>>;
  /** Values of the Set-Cookie headers. */
  readonly cookies: readonly string[];
  readonly body: string;
  /** The body went on after `mostBytes`. */
  readonly cut: boolean;
  readonly certificate: HttpCertificate | null;
}

export interface HttpCertificate {
  readonly subject: string;
  readonly issuer: string;
  readonly validTo: string;
  /** Upper-case hexadecimal SHA-256, with colons. */
  readonly fingerprint: string;
}

export type HttpMethod = 'GET' | 'HEAD' | 'POST' | 'PUT' | 'DELETE';

const mostBytes = 256 * 1024;

/**
 * One request to a device, with at most one answer to its challenge. A certificate that nobody signed is accepted and told:
 * devices rarely have another.
 * @throws WireError `refused`, `unreachable`, `timeout`, `login-refused`, `malformed`.
 */
export async function askHttp(
  target: HttpTarget,
  path: string,
  use: { method?: HttpMethod; body?: string; type?: string; headers?: Readonly<Record<string, string>> } = {},
): Promise<HttpAnswer> {
  const method = use.method ?? 'GET';
  const headers: Record<string, string> = {
    ...(use.body === undefined ? {} : { 'content-type': use.type ?? 'text/plain' }),
    ...use.headers,
  };
  const { access } = target;
  if (access?.how === 'token') headers['authorization'] = `Bearer ${access.token}`;
  const first = await once(target, method, path, headers, use.body);
  if (first.status !== 401 || access === null || access.how === 'token') {
    if (first.status === 401 && access !== null) throw refused(target, path);
    return first;
  }
  const authorization = answerTo(first.headers['www-authenticate'] ?? '', target, access, method, path);
  const second = await once(target, method, path, { ...headers, authorization }, use.body);
  if (second.status === 401) throw refused(target, path);
  return second;
}

/** The Authorization header that answers a challenge. @throws WireError when it asks for a login that we may not send. */
function answerTo(header: string, target: HttpTarget, access: Exclude<HttpAccess, { how: 'token' }>, method: string, path: string): string {
  const challenges = readChallenges(header);
  const digest = challenges.find((c) => c.scheme === 'digest');
  const authorization =
    digest && access.how === 'digest'
      ? answerDigest(digest, { method, uri: path, user: access.user, password: access.password })
      : access.how === 'basic' && challenges.some((c) => c.scheme === 'basic')
        ? `Basic ${Buffer.from(`${access.user}:${access.password}`).toString('base64')}`
        : null;
  if (authorization === null)
    throw new WireError('login-refused', `${where(target, path)} asks for ${challenges.map((c) => c.scheme).join(', ') || 'a login'} only`);
  return authorization;
}

/**
 * The Authorization header for a request that cannot be sent twice, such as an upload: a HEAD request draws the challenge, or a
 * GET where HEAD is not supported.
 * null: none is asked for, or none is known.
 */
export async function authorize(target: HttpTarget, method: string, path: string): Promise<string | null> {
  const { access } = target;
  if (access === null) return null;
  if (access.how === 'token') return `Bearer ${access.token}`;
  let drawn = await once(target, 'HEAD', path, {}, undefined);
  // RFC 9110 §9.1: GET and HEAD are required, and devices answer HEAD as unknown (501, 405, 400) all the same.
  if (drawn.status >= 400 && drawn.status !== 401) drawn = await once(target, 'GET', path, {}, undefined);
  if (drawn.status !== 401) return null;
  return answerTo(drawn.headers['www-authenticate'] ?? '', target, access, method, path);
}

/** A request of which the caller sends the body and hears the answer, over a connection of its own. */
export const requestTo = (target: HttpTarget, method: string, path: string, headers: Record<string, string>): ClientRequest =>
  (needHost(target.host), target.secure ? secureRequest : plainRequest)({
    host: target.host,
    port: target.port,
    method,
    path,
    headers: { ...headers, connection: 'close' },
    agent: false as const,
    signal: target.signal,
    ...(target.secure ? { rejectUnauthorized: false } : {}),
  });

const where = (target: HttpTarget, path: string): string =>
  `${target.secure ? 'https' : 'http'}://${target.host.includes(':') ? `[${target.host}]` : target.host}:${target.port}${path}`;
const refused = (target: HttpTarget, path: string): WireError => new WireError('login-refused', `${where(target, path)} refused the login`);

function once(
  target: HttpTarget,
  method: string,
  path: string,
  headers: Record<string, string>,
  body: string | undefined,
): Promise<HttpAnswer> {
  needHost(target.host);
  const at = where(target, path);
  return new Promise((resolve, reject) => {
    let settled = false;
    const end = (done: () => void): void => {
      if (settled) return;
      settled = true;
      timer.cancel();
      request.destroy();
      done();
    };
    const fail = (error: WireError): void => end(() => reject(error));
    // The whole exchange has this long, not each of its packets: a device that drips octets ends too.
    const timer = ownTimeout(() => fail(new WireError('timeout', `${at} did not answer within ${target.timeoutMs} ms`)), target.timeoutMs);
    const options = {
      host: target.host,
      port: target.port,
      method,
      path,
      headers: { ...headers, connection: 'close', ...(body === undefined ? {} : { 'content-length': String(Buffer.byteLength(body)) }) },
      agent: false as const,
      maxHeaderSize: 32 * 1024,
      signal: target.signal,
    };
    const hear = (response: IncomingMessage): void => {
      const certificate = target.secure ? certificateOf((response.socket as TLSSocket).getPeerCertificate()) : null;
      const most = target.mostBytes ?? mostBytes;
      const parts: Buffer[] = [];
      let size = 0;
      const done = (cut: boolean): void =>
        end(() =>
          resolve({
            status: response.statusCode ?? 0,
            headers: Object.fromEntries(
              Object.entries(response.headers).map(([name, value]) => [name, Array.isArray(value) ? value.join(', ') : (value ?? '')]),
            ),
            cookies: response.headers['set-cookie'] ?? [],
            body: Buffer.concat(parts).subarray(0, most).toString('utf8'),
            cut,
            certificate,
          }),
        );
      response.on('data', (data: Buffer) => {
        parts.push(data);
        size += data.length;
        if (size > most) done(true);
      });
      response.on('end', () => done(false));
      response.on('error', () => done(true));
    };
    const request = target.secure ? secureRequest({ ...options, rejectUnauthorized: false }, hear) : plainRequest(options, hear);
    request.on('error', (error: NodeJS.ErrnoException) => {
      if (target.signal?.aborted) return fail(new WireError('cancelled', 'stopped'));
      if (error.code === 'ECONNREFUSED') return fail(new WireError('refused', `${at} refused the connection`));
      if (error.code?.startsWith('HPE_')) return fail(new WireError('malformed', `${at} does not speak HTTP: ${error.code}`));
      return fail(new WireError(error.code === 'ECONNRESET' ? 'lost' : 'unreachable', `${at}: ${error.code ?? error.message}`));
    });
    request.end(body);
  });
}

function certificateOf(certificate: PeerCertificate | undefined): HttpCertificate | null {
  if (!certificate?.fingerprint256) return null;
  const name = (parts: object | undefined): string =>
    Object.entries(parts ?? {})
      .map(([key, value]) => `${key}=${String(value)}`)
      .join(', ');
  return {
    subject: name(certificate.subject),
    issuer: name(certificate.issuer),
    validTo: certificate.valid_to,
    fingerprint: certificate.fingerprint256,
  };
}

/** The text of the first `<title>`, without mark-up. */
export function titleOf(body: string): string | null {
  const from = body.slice(0, 65_536);
  const begin = from.search(/<title[\s>]/i);
  if (begin < 0) return null;
  const open = from.indexOf('>', begin);
  const close = from.toLowerCase().indexOf('</title', open);
  if (open < 0 || close < 0) return null;
  const text = from
    .slice(open + 1, close)
    .replace(/\s+/g, ' ')
    .trim();
  return text === '' ? null : text;
}
