import { createHash } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { WireError } from '../errors.js';
import { authorize, requestTo, type HttpTarget } from './fetch.js';

export interface ContentDigest {
  readonly sha256: string;
  readonly bytes: number;
  /** `told`: the other side said it (RFC 9530, or its own `sha256sum`); `read`: all of it was read. */
  readonly how: 'told' | 'read';
}

/**
 * The SHA-256 of what stands at a path; null when nothing does. A server that tells digests (RFC 9530 Repr-Digest) is believed,
 * which spares a slow link the whole file; else all of it is read.
 * @throws WireError `refused`, `timeout` (nothing moved for the target's limit), `login-refused`, `lost`, `malformed`
 */
export async function contentDigest(target: HttpTarget, path: string): Promise<ContentDigest | null> {
  const head = await ask(target, 'HEAD', path, { 'want-repr-digest': 'sha-256=10' });
  head.resume();
  if (head.statusCode === 404 || head.statusCode === 410) return null;
  if (head.statusCode === 200) {
    // RFC 9530 §3: a dictionary of byte sequences, each between colons in base64.
    const [, encoded] = /(?:^|,)\s*sha-256=:([A-Za-z0-9+/]{43}=):/.exec(String(head.headers['repr-digest'] ?? '')) ?? [];
    const length = head.headers['content-length'];
    if (encoded !== undefined && length !== undefined)
      return { sha256: Buffer.from(encoded, 'base64').toString('hex'), bytes: Number(length), how: 'told' };
  }
  const response = await ask(target, 'GET', path, {});
  if (response.statusCode !== 200) {
    response.resume();
    return null;
  }
  const hash = createHash('sha256');
  let bytes = 0;
  try {
    for await (const part of response as AsyncIterable<Buffer>) {
      hash.update(part);
      bytes += part.length;
    }
  } catch (error) {
    throw asWireError(error, target);
  }
  const announced = response.headers['content-length'];
  if (announced !== undefined && Number(announced) !== bytes)
    throw new WireError('lost', `${at(target)}: ${bytes} of ${announced} octets came back`);
  return { sha256: hash.digest('hex'), bytes, how: 'read' };
}

async function ask(target: HttpTarget, method: string, path: string, headers: Record<string, string>): Promise<IncomingMessage> {
  const authorization = await authorize(target, method, path);
  return new Promise((resolve, reject) => {
    const request = requestTo(target, method, path, { ...headers, ...(authorization === null ? {} : { authorization }) });
    request.setTimeout(target.timeoutMs);
    request.once('response', (response) => {
      if (response.statusCode !== 401) return resolve(response);
      response.resume();
      reject(new WireError('login-refused', `${at(target)}${path} refused the login`));
    });
    request.on('timeout', () => request.destroy(new WireError('timeout', `${at(target)} did not answer`)));
    request.on('error', (error) => reject(asWireError(error, target)));
    request.end();
  });
}

const at = (target: HttpTarget): string => `${target.host}:${target.port}`;

function asWireError(error: unknown, target: HttpTarget): WireError {
  if (error instanceof WireError) return error;
  if (target.signal?.aborted) return new WireError('cancelled', 'stopped');
  const { code, message } = error as NodeJS.ErrnoException;
  return new WireError(code === 'ECONNREFUSED' ? 'refused' : 'lost', `${at(target)}: ${code ?? message}`);
}
