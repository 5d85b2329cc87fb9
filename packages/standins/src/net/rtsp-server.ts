import { createHash, randomBytes } from 'node:crypto';
import { createServer, type Socket } from 'node:net';

export interface StreamOptions {
  readonly address: string;
  readonly port: number;
  readonly user: string;
  readonly password: string;
  /** Whether there is a picture. */
  readonly shows: () => boolean;
}

const md5 = (text: string): string => createHash('md5').update(text).digest('hex');
/** RFC 8866: one session with a picture. */
const description = ['v=0', 'o=- 1 1 IN IP4 0.0.0.0', 's=pier', 't=0 0', 'm=video 0 RTP/AVP 96', 'a=rtpmap:96 H264/90000', ''].join('\r\n');

/** Answers OPTIONS and DESCRIBE of RTSP 1.0 (RFC 2326 §10), the latter to whoever logs in by digest (RFC 7616). */
export async function startStream(options: StreamOptions): Promise<{ close(): Promise<void> }> {
  const nonce = randomBytes(12).toString('hex');
  const open = new Set<Socket>();
  const answer = (request: string): string => {
    const [, method = '', uri = ''] = /^(\w+) (\S+) RTSP\/1\.0/.exec(request) ?? [];
    const sequence = /^CSeq: *(\d+)/im.exec(request)?.[1] ?? '0';
    const say = (status: string, fields: string[] = [], body = ''): string =>
      [`RTSP/1.0 ${status}`, `CSeq: ${sequence}`, ...fields, ...(body ? [`Content-Length: ${body.length}`] : []), '', body].join('\r\n');
    if (method === 'OPTIONS') return say('200 OK', ['Public: OPTIONS, DESCRIBE']);
    if (method !== 'DESCRIBE') return say('501 Not Implemented');
    const given = new Map(
      [...(/^Authorization: *Digest (.*)$/im.exec(request)?.[1] ?? '').matchAll(/(\w+)="?([^",]+)"?/g)].map((m) => [m[1]!, m[2]!]),
    );
    const ha1 = md5(`${options.user}:pier:${options.password}`);
    const right =
      given.get('nonce') === nonce &&
      given.get('response') ===
        md5([ha1, nonce, given.get('nc') ?? '', given.get('cnonce') ?? '', 'auth', md5(`DESCRIBE:${uri}`)].join(':'));
    if (!right) return say('401 Unauthorized', [`WWW-Authenticate: Digest realm="pier", nonce="${nonce}", qop="auth", algorithm=MD5`]);
    if (!options.shows() || !uri.endsWith('/pier')) return say('404 Not Found');
    return say('200 OK', ['Content-Type: application/sdp'], description);
  };
  const server = createServer((socket) => {
    open.add(socket);
    let text = '';
    socket.on('close', () => open.delete(socket));
    socket.on('error', () => undefined);
    socket.on('data', (more) => {
      text += more.toString('latin1');
      if (text.length > 8192) return socket.destroy();
      for (let ends = text.indexOf('\r\n\r\n'); ends >= 0; ends = text.indexOf('\r\n\r\n')) {
        socket.write(answer(text.slice(0, ends)));
        text = text.slice(ends + 4);
      }
      return undefined;
    });
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(options.port, options.address, resolve);
  });
  return {
    close: () =>
      new Promise((resolve) => {
        server.close(() => resolve());
        for (const socket of open) socket.destroy();
      }),
  };
}
