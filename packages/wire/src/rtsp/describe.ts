import { connect } from 'node:net';
import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { answerDigest, readChallenges } from '../http/digest.js';
import { ownTimeout } from '../own-time.js';

export interface RtspTarget {
  readonly host: string;
  readonly port: number;
  /** `rtsp://host:port/path`, as it stands in the request. */
  readonly uri: string;
  readonly login: { readonly user: string; readonly password: string } | null;
  readonly timeoutMs: number;
  readonly signal?: AbortSignal | undefined;
}

export interface RtspDescription {
  readonly status: number;
  readonly reason: string;
  /** The kinds of media that its session description names (RFC 8866 §5.14): `video`, `audio`. */
  readonly media: readonly string[];
}

const longestAnswer = 64 * 1024;

/**
 * Asks what a stream is: DESCRIBE of RTSP 1.0 (RFC 2326 §10.2), which servers of 2.0 (RFC 7826) refuse by a status of their own.
 * A login is answered by digest (RFC 7616) or basic (RFC 7617).
 * @throws WireError `timeout`, `refused`, `unreachable`, `lost`, `malformed`, `login-refused`, `cancelled`
 */
export async function describeRtsp(target: RtspTarget): Promise<RtspDescription> {
  needHost(target.host);
  const first = await ask(target, null, 1);
  if (first.status !== 401) return described(first);
  const { login, uri } = target;
  const refused = (): WireError =>
    new WireError('login-refused', `${target.host}:${target.port} refused ${login ? `user ${login.user}` : 'a request without login'}`);
  if (!login) throw refused();
  const challenges = readChallenges(first.headers.get('www-authenticate') ?? '');
  const digest = challenges.find((c) => c.scheme === 'digest');
  const authorization =
    (digest && answerDigest(digest, { method: 'DESCRIBE', uri, ...login })) ??
    (challenges.some((c) => c.scheme === 'basic') ? `Basic ${Buffer.from(`${login.user}:${login.password}`).toString('base64')}` : null);
  if (authorization === null) throw refused();
  const second = await ask(target, authorization, 2);
  if (second.status === 401) throw refused();
  return described(second);
}

interface Answer {
  readonly status: number;
  readonly reason: string;
  readonly headers: ReadonlyMap<string, string>;
  readonly body: string;
}

const described = ({ status, reason, body }: Answer): RtspDescription => ({
  status,
  reason,
  media: [...body.matchAll(/^m=([a-z]+) /gm)].map((m) => m[1]!),
});

/** One request on a connection of its own. */
function ask({ host, port, uri, timeoutMs, signal }: RtspTarget, authorization: string | null, sequence: number): Promise<Answer> {
  const at = `${host}:${port}`;
  const request = [
    `DESCRIBE ${uri} RTSP/1.0`,
    `CSeq: ${sequence}`,
    'Accept: application/sdp',
    ...(authorization === null ? [] : [`Authorization: ${authorization}`]),
    '',
    '',
  ].join('\r\n');
  return new Promise((resolve, reject) => {
    const socket = connect({ host, port });
    let text = '';
    const end = (how: () => void): void => {
      timer.cancel();
      signal?.removeEventListener('abort', stopped);
      socket.destroy();
      how();
    };
    const fail = (fault: WireError['fault'], detail: string): void => end(() => reject(new WireError(fault, detail)));
    const stopped = (): void => fail('cancelled', 'stopped');
    const timer = ownTimeout(() => fail('timeout', `${at} did not answer DESCRIBE in ${Math.round(timeoutMs / 100) / 10} s`), timeoutMs);
    signal?.addEventListener('abort', stopped);
    socket.setEncoding('latin1');
    socket.on('connect', () => socket.write(request));
    socket.on('error', (error: NodeJS.ErrnoException) =>
      error.code === 'ECONNREFUSED'
        ? fail('refused', `${at} refuses the connection`)
        : fail('unreachable', `${at}: ${error.code ?? 'no way'}`),
    );
    socket.on('data', (more: string) => {
      text += more;
      const answer = readAnswer(text);
      if (answer === 'no answer' || text.length > longestAnswer) return fail('malformed', `${at} answered what is no RTSP`);
      if (answer !== null) end(() => resolve(answer));
    });
    socket.on('close', () => fail('lost', `${at} closed the connection before it had answered`));
  });
}

/** RFC 2326 §7.1 and §4.4; null while more is to come. */
function readAnswer(text: string): Answer | 'no answer' | null {
  if (!'RTSP/'.startsWith(text.slice(0, 5))) return 'no answer';
  const ends = text.indexOf('\r\n\r\n');
  if (ends < 0) return null;
  const [line = '', ...fields] = text.slice(0, ends).split('\r\n');
  const [, status, reason = ''] = /^RTSP\/\d\.\d (\d{3}) ?(.*)$/.exec(line) ?? [];
  if (status === undefined) return 'no answer';
  const headers = new Map(
    fields.flatMap((field): [string, string][] => {
      const colon = field.indexOf(':');
      return colon > 0 ? [[field.slice(0, colon).trim().toLowerCase(), field.slice(colon + 1).trim()]] : [];
    }),
  );
  const length = Number(headers.get('content-length') ?? 0);
  if (!Number.isInteger(length) || length < 0) return 'no answer';
  const body = text.slice(ends + 4, ends + 4 + length);
  return body.length < length ? null : { status: Number(status), reason, headers, body: Buffer.from(body, 'latin1').toString('utf8') };
}
