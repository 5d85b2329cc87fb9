import { createReadStream } from 'node:fs';
import type { IncomingMessage } from 'node:http';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { randomBytes } from 'node:crypto';
import { WireError } from '../errors.js';
import { ownNow } from '../own-time.js';
import type { SharedLink } from '../pacer.js';
import { authorize, requestTo, type HttpTarget } from './fetch.js';
import { throttle } from './file-server.js';

/** A file that is pushed somewhere. */
export interface PushedFile {
  readonly path: string;
  readonly bytes: number;
  /** The name under which it arrives. */
  readonly name: string;
}

export interface HttpUpload {
  readonly method: 'POST' | 'PUT';
  readonly path: string;
  /** `form`: multipart/form-data (RFC 7578) in the field named; `body`: the octets alone. */
  readonly as:
    | {
        readonly how: 'form';
        readonly field: string;
        /** Other fields of the form; they go before the file. */
        readonly fields?: Readonly<Record<string, string>>;
      }
    | { readonly how: 'body' };
  readonly headers?: Readonly<Record<string, string>>;
  readonly file: PushedFile;
  readonly link?: SharedLink | null;
  readonly onSent?: (octets: number) => void;
}

export interface UploadAnswer {
  readonly status: number;
  /** The path on the same device that a redirect names (RFC 9110 §15.4); null when there is none. */
  readonly location: string | null;
  readonly body: string;
}

const mostAnswer = 64 * 1024;

function sameOrigin(from: string, { statusCode = 0, headers: { location } }: IncomingMessage): string | null {
  if (statusCode < 300 || statusCode > 399 || location === undefined || !URL.canParse(location, from)) return null;
  const to = new URL(location, from);
  return to.origin === new URL(from).origin ? `${to.pathname}${to.search}` : null;
}

/**
 * Uploads a file as a stream, with its length told beforehand. The challenge of a login is asked for without the file first.
 * @throws WireError `refused`, `unreachable`, `timeout` (nothing moved for the target's limit), `login-refused`, `lost`.
 */
export async function uploadHttp(target: HttpTarget, upload: HttpUpload): Promise<UploadAnswer> {
  const authorization = await authorize(target, upload.method, upload.path);
  const { file, as } = upload;
  const boundary = `barrow-${randomBytes(12).toString('hex')}`;
  const [before, after] =
    as.how === 'form'
      ? [
          Buffer.from(
            Object.entries(as.fields ?? {})
              .map(([name, value]) => `--${boundary}\r\nContent-Disposition: form-data; name="${name}"\r\n\r\n${value}\r\n`)
              .join('') +
              `--${boundary}\r\nContent-Disposition: form-data; name="${as.field}"; filename="${file.name.replace(/["\r\n]/g, '_')}"\r\n` +
              'Content-Type: application/octet-stream\r\n\r\n',
          ),
          Buffer.from(`\r\n--${boundary}--\r\n`),
        ]
      : [Buffer.alloc(0), Buffer.alloc(0)];
  const headers: Record<string, string> = {
    'content-type': as.how === 'form' ? `multipart/form-data; boundary=${boundary}` : 'application/octet-stream',
    'content-length': String(before.length + file.bytes + after.length),
    ...upload.headers,
    ...(authorization ? { authorization } : {}),
  };
  const where = `${target.secure ? 'https' : 'http'}://${target.host.includes(':') ? `[${target.host}]` : target.host}:${target.port}${upload.path}`;
  const request = requestTo(target, upload.method, upload.path, headers);
  let moved = ownNow();
  let silent = false;
  const watch = setInterval(
    () => {
      if (ownNow() - moved < target.timeoutMs) return;
      silent = true;
      request.destroy();
    },
    Math.min(1000, target.timeoutMs),
  );
  const answered = new Promise<UploadAnswer>((resolve, reject) => {
    request.once('error', reject);
    request.once('response', (response: IncomingMessage) => {
      let body = '';
      response.on('data', (d: Buffer) => {
        if (body.length < mostAnswer) body += d.toString('utf8');
      });
      response.on('end', () => resolve({ status: response.statusCode ?? 0, location: sameOrigin(where, response), body }));
      response.on('error', reject);
    });
  });
  // A device may answer, and close, before it has everything: its answer is worth more than the broken pipe.
  answered.catch(() => undefined);
  let sent = 0;
  const counted = new Transform({
    transform(chunk: Buffer, _encoding, done) {
      sent += chunk.length;
      moved = ownNow();
      upload.onSent?.(sent);
      // What has come meanwhile is read first: written to a device that has answered and closed, its answer would be lost.
      setImmediate(done, null, chunk);
    },
  });
  const content = createReadStream(file.path, { highWaterMark: 64 * 1024 });
  try {
    if (before.length > 0) request.write(before);
    const sending = (async () => {
      if (upload.link) await pipeline(content, throttle(upload.link), counted, request, { end: false });
      else await pipeline(content, counted, request, { end: false });
      request.end(after);
    })();
    sending.catch(() => undefined);
    const first = await Promise.race([answered, sending.then(() => null)]);
    const answer = first ?? (await answered);
    if (answer.status === 401) throw new WireError('login-refused', `${where} refused the login`);
    return answer;
  } catch (error) {
    if (error instanceof WireError) throw error;
    if (target.signal?.aborted) throw new WireError('cancelled', 'stopped');
    if (silent)
      throw new WireError('timeout', `${where}: nothing moved for ${target.timeoutMs} ms, ${sent} of ${file.bytes} octets were sent`);
    const early = await Promise.race([answered.catch(() => null), new Promise<null>((resolve) => setTimeout(() => resolve(null), 200))]);
    if (early) return early;
    const { code, message } = error as NodeJS.ErrnoException;
    throw new WireError(code === 'ECONNREFUSED' ? 'refused' : 'lost', `${where}: ${code ?? message} after ${sent} of ${file.bytes} octets`);
  } finally {
    clearInterval(watch);
    content.destroy();
    request.destroy();
  }
}
