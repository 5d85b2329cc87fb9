import { randomBytes } from 'node:crypto';
import { createSocket } from 'node:dgram';
import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { ownTimeout } from '../own-time.js';

export interface SipTarget {
  readonly host: string;
  readonly port: number;
  readonly timeoutMs: number;
  readonly signal?: AbortSignal | undefined;
}

/** A request outside of a dialog. */
export interface SipRequest {
  readonly method: 'OPTIONS' | 'MESSAGE' | 'NOTIFY';
  /** What a NOTIFY tells of (RFC 6665 §8.2.1). */
  readonly event?: string | undefined;
  readonly body?: string | undefined;
  readonly type?: string | undefined;
}

export interface SipReply {
  readonly status: number;
  /** The status line and headers, as they came, one line each. */
  readonly head: string;
  readonly body: string;
}

/** RFC 3261 §17.1.1.1: an estimate of the round trip, after which a request is sent again; then after twice as long, up to T2. */
const [t1, t2] = [500, 4000];
const longestReply = 16 * 1024;

/**
 * Sends one request over UDP and waits for its final response (RFC 3261 §17.1.2, MESSAGE of RFC 3428).
 * @throws WireError `timeout`, `unreachable`, `cancelled`
 */
export function askSip(target: SipTarget, request: SipRequest): Promise<SipReply> {
  const { host, port, timeoutMs, signal } = target;
  needHost(host);
  const at = host.includes(':') ? `[${host}]` : host;
  const id = randomBytes(8).toString('hex');
  const body = Buffer.from(request.body ?? '');
  const head = [
    `${request.method} sip:${at} SIP/2.0`,
    `Via: SIP/2.0/UDP barrow.invalid;branch=z9hG4bK${id};rport`,
    'Max-Forwards: 70',
    `From: <sip:barrow@barrow.invalid>;tag=${id}`,
    `To: <sip:${at}>`,
    `Call-ID: ${id}@barrow.invalid`,
    `CSeq: 1 ${request.method}`,
    ...(request.method === 'MESSAGE' ? [] : ['Contact: <sip:barrow@barrow.invalid>']),
    ...(request.event === undefined ? [] : [`Event: ${request.event}`, 'Subscription-State: active']),
    ...(body.length > 0 ? [`Content-Type: ${request.type ?? 'text/plain'}`] : []),
    `Content-Length: ${body.length}`,
    '',
    '',
  ];
  const packet = Buffer.concat([Buffer.from(head.join('\r\n')), body]);
  return new Promise((resolve, reject) => {
    const socket = createSocket(host.includes(':') ? 'udp6' : 'udp4');
    let again: NodeJS.Timeout | null = null;
    const end = (outcome: () => void): void => {
      limit.cancel();
      if (again) clearTimeout(again);
      signal?.removeEventListener('abort', abort);
      socket.removeAllListeners();
      socket.on('error', () => undefined);
      socket.close();
      outcome();
    };
    const fail = (fault: WireError['fault'], detail: string): void => end(() => reject(new WireError(fault, detail)));
    const abort = (): void => fail('cancelled', 'stopped');
    const limit = ownTimeout(() => fail('timeout', `${host} did not answer ${request.method} over SIP`), timeoutMs);
    const send = (wait: number): void => {
      socket.send(packet);
      again = setTimeout(() => send(Math.min(wait * 2, t2)), wait);
    };
    socket.on('error', (error) => fail('unreachable', error.message));
    socket.on('message', (datagram) => {
      const reply = readReply(datagram, id);
      // A provisional response (1xx) says that it is at it.
      if (reply && reply.status >= 200) end(() => resolve(reply));
    });
    signal?.addEventListener('abort', abort, { once: true });
    if (signal?.aborted) return abort();
    socket.connect(port, host, () => send(t1));
  });
}

/** A response to the request of this id; null for anything else. */
function readReply(datagram: Buffer, id: string): SipReply | null {
  const text = datagram.subarray(0, longestReply).toString('utf8');
  const blank = /\r?\n\r?\n/.exec(text);
  const head = (blank ? text.slice(0, blank.index) : text).replaceAll('\r\n', '\n');
  const status = /^SIP\/2\.0 ([1-6]\d\d) /.exec(head);
  if (!status || !new RegExp(`^(call-id|i)\\s*:\\s*${id}@barrow\\.invalid\\s*$`, 'im').test(head)) return null;
  return { status: Number(status[1]), head, body: blank ? text.slice(blank.index + blank[0].length) : '' };
}
