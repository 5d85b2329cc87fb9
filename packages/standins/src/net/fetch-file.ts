import { get as plainGet, type IncomingMessage } from 'node:http';
import { get as secureGet } from 'node:https';

/** `closes-connection`: closes it in the middle. `restarts-transfer`: does so over and over. */
export type FetchQuirk = 'closes-connection' | 'restarts-transfer';

/** A device's own HTTP client: fetches from its own address, and goes on where a broken connection has left it. */
export async function fetchFile(
  url: string,
  from: string,
  most: number,
  login: { user: string; password: string } | null,
  quirk: FetchQuirk | null = null,
): Promise<Buffer> {
  if (quirk !== 'restarts-transfer') return fetchOnce(url, from, most, login, quirk);
  for (let tries = 0; tries < 4; tries++) await fetchOnce(url, from, most, login, quirk).catch(() => undefined);
  throw new Error('gave up after four tries');
}

async function fetchOnce(
  url: string,
  from: string,
  most: number,
  login: { user: string; password: string } | null,
  quirk: FetchQuirk | null,
): Promise<Buffer> {
  const parts: Buffer[] = [];
  let got = 0;
  let total = Infinity;
  let etag: string | null = null;
  for (let tries = 0; got < total; tries++) {
    if (tries > 4) throw new Error(`gave up after ${got} octets`);
    await new Promise<void>((resolve, reject) => {
      const headers: Record<string, string> = { 'user-agent': 'strip-fetch/1' };
      if (got > 0 && etag) Object.assign(headers, { range: `bytes=${got}-`, 'if-range': etag });
      if (login) headers['authorization'] = `Basic ${Buffer.from(`${login.user}:${login.password}`).toString('base64')}`;
      const hear = (response: IncomingMessage): void => {
        if (response.statusCode !== 200 && response.statusCode !== 206) {
          response.resume();
          return reject(Object.assign(new Error(`told ${response.statusCode}`), { final: true }));
        }
        if (response.statusCode === 200) {
          parts.length = 0;
          got = 0;
          total = Number(response.headers['content-length'] ?? Infinity);
        }
        etag = response.headers.etag ?? null;
        if (total > most) {
          response.destroy();
          return reject(Object.assign(new Error(`${total} octets do not fit`), { final: true }));
        }
        response.on('data', (d: Buffer) => {
          parts.push(d);
          got += d.length;
          if (quirk !== null && got > total * 0.4) {
            reject(Object.assign(new Error('closed'), { final: true }));
            response.destroy();
          }
        });
        response.on('end', resolve);
        response.on('error', () => resolve());
        response.on('aborted', () => resolve());
      };
      const options = { localAddress: from, agent: false as const, headers, timeout: 5000 };
      const request = url.startsWith('https:')
        ? secureGet(url, { ...options, rejectUnauthorized: false }, hear)
        : plainGet(url, options, hear);
      request.on('timeout', () => request.destroy(new Error('no answer')));
      request.on('error', (error: NodeJS.ErrnoException) => reject(new Error(`no answer, ${error.code ?? error.message}`)));
    }).catch((error: Error & { final?: boolean }) => {
      if (error.final || tries >= 2) throw error;
    });
  }
  return Buffer.concat(parts);
}
