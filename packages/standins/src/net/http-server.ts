import { createHash, randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { createServer as createTlsServer } from 'node:https';

export interface PageAnswer {
  readonly status?: number;
  readonly type?: string;
  readonly body: string;
}

export interface HttpServerOptions {
  readonly address: string;
  readonly port: number;
  /** The Server header, RFC 9110 §10.2.4. */
  readonly server: string;
  readonly tls?: { readonly key: string; readonly cert: string };
  /** What guards the pages; a page that `open` names needs nothing. */
  readonly guard?: { readonly how: 'basic' | 'digest' | 'token'; readonly realm: string; readonly user: string; readonly password: string };
  readonly open?: (path: string) => boolean;
  /** `raw` holds at most `mostBody` octets, 64 KiB when that is not said. */
  readonly page: (path: string, request: IncomingMessage, body: string, raw: Buffer) => PageAnswer | Promise<PageAnswer> | null;
  readonly mostBody?: number;
  readonly onLogin?: (accepted: boolean) => boolean;
}

const md5 = (text: string): string => createHash('md5').update(text).digest('hex');

/** Starts a device's web server, open or guarded by basic (RFC 7617), digest (RFC 7616) or bearer (RFC 6750). */
export async function startHttpServer(options: HttpServerOptions): Promise<{ close(): Promise<void> }> {
  const nonce = randomBytes(12).toString('hex');
  const { guard } = options;
  const allowed = (request: IncomingMessage): boolean => {
    if (!guard) return true;
    const given = request.headers.authorization ?? '';
    if (guard.how === 'token') return given === `Bearer ${guard.password}`;
    if (guard.how === 'basic') return given === `Basic ${Buffer.from(`${guard.user}:${guard.password}`).toString('base64')}`;
    const fields = new Map([...given.matchAll(/(\w+)="?([^",]+)"?/g)].map((m) => [m[1]!, m[2]!]));
    if (!given.startsWith('Digest ') || fields.get('nonce') !== nonce || fields.get('username') !== guard.user) return false;
    // RFC 7616 §3.4: response = H(H(A1):nonce:nc:cnonce:qop:H(A2))
    const ha1 = md5(`${guard.user}:${guard.realm}:${guard.password}`);
    const ha2 = md5(`${request.method}:${fields.get('uri')}`);
    return (
      fields.get('uri') === request.url &&
      fields.get('response') ===
        md5([ha1, nonce, fields.get('nc') ?? '', fields.get('cnonce') ?? '', fields.get('qop') ?? '', ha2].join(':'))
    );
  };
  const challenge = (): string =>
    guard!.how === 'digest'
      ? `Digest realm="${guard!.realm}", nonce="${nonce}", qop="auth", algorithm=MD5`
      : `${guard!.how === 'basic' ? 'Basic' : 'Bearer'} realm="${guard!.realm}"`;
  const handle = (request: IncomingMessage, response: ServerResponse): void => {
    const parts: Buffer[] = [];
    let size = 0;
    request.on('data', (data: Buffer) => {
      if (size < (options.mostBody ?? 65_536)) parts.push(data);
      size += data.length;
    });
    request.on('error', () => undefined);
    request.on('end', () => {
      response.setHeader('server', options.server);
      const path = (request.url ?? '/').split('?')[0]!;
      if (guard && !options.open?.(path)) {
        const right = allowed(request);
        const accepted = request.headers.authorization === undefined ? right : (options.onLogin?.(right) ?? right);
        if (!accepted) return response.writeHead(401, { 'www-authenticate': challenge() }).end();
      }
      const raw = Buffer.concat(parts);
      const give = (answer: PageAnswer | null): void => {
        if (!answer) response.writeHead(404).end();
        else response.writeHead(answer.status ?? 200, { 'content-type': answer.type ?? 'text/html; charset=utf-8' }).end(answer.body);
      };
      const found = options.page(path, request, raw.length > 65_536 ? '' : raw.toString('utf8'), raw);
      if (found instanceof Promise) found.then(give, () => response.writeHead(500).end());
      else give(found);
      return undefined;
    });
  };
  const server = options.tls ? createTlsServer(options.tls, handle) : createServer(handle);
  server.on('clientError', (_, socket) => socket.destroy());
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(options.port, options.address, resolve);
  });
  return {
    close: () =>
      new Promise((resolve) => {
        server.close(() => resolve());
        server.closeAllConnections();
      }),
  };
}
