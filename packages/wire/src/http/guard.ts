import { createHash, createHmac, randomBytes, timingSafeEqual } from 'node:crypto';
import { readChallenges } from './digest.js';

/** A login that a store demands, RFC 7617 or RFC 7616. */
export interface Guard {
  readonly how: 'basic' | 'digest';
  readonly user: string;
  readonly password: string;
}

const realm = 'Barrow store';
/** How long a nonce may be used; a transfer that goes on later is challenged anew and answers by itself. */
const nonceMs = 10 * 60_000;
const key = randomBytes(32);

const same = (a: string, b: string): boolean => {
  const [x, y] = [a, b].map((t) => createHash('sha256').update(t).digest());
  return timingSafeEqual(x!, y!);
};
const sign = (at: string): string => createHmac('sha256', key).update(at).digest('hex').slice(0, 32);
const makeNonce = (now: number): string => `${now.toString(36)}.${sign(now.toString(36))}`;
function nonceIsOurs(nonce: string, now: number): boolean {
  const [at = '', mac = ''] = nonce.split('.');
  return same(sign(at), mac) && now - parseInt(at, 36) < nonceMs;
}

/** The challenges to send: digest by SHA-256 first, by MD5 for older devices (RFC 7616 §3.7). */
export function challenge(guard: Guard, now = Date.now()): string[] {
  if (guard.how === 'basic') return [`Basic realm="${realm}", charset="UTF-8"`];
  const nonce = makeNonce(now);
  return ['SHA-256', 'MD5'].map((algorithm) => `Digest realm="${realm}", qop="auth", algorithm=${algorithm}, nonce="${nonce}"`);
}

/** Whether an Authorization header opens the store. Basic is never taken where digest is demanded. */
export function opens(guard: Guard, header: string | undefined, method: string, uri: string, now = Date.now()): boolean {
  if (!header) return false;
  if (guard.how === 'basic') {
    const [, told] = /^basic\s+(\S+)$/i.exec(header) ?? [];
    return told !== undefined && same(Buffer.from(told, 'base64').toString('utf8'), `${guard.user}:${guard.password}`);
  }
  const answer = readChallenges(header).find((c) => c.scheme === 'digest')?.fields;
  if (!answer || !nonceIsOurs(answer.get('nonce') ?? '', now) || answer.get('uri') !== uri) return false;
  const algorithm = (answer.get('algorithm') ?? 'MD5').toLowerCase() === 'sha-256' ? 'sha256' : 'md5';
  const hash = (text: string): string => createHash(algorithm).update(text).digest('hex');
  const ha1 = hash(`${guard.user}:${realm}:${guard.password}`);
  const ha2 = hash(`${method}:${uri}`);
  const middle = [answer.get('nonce'), answer.get('nc'), answer.get('cnonce'), 'auth'].join(':');
  return (
    answer.get('username') === guard.user &&
    answer.get('qop') === 'auth' &&
    same(answer.get('response') ?? '', hash(`${ha1}:${middle}:${ha2}`))
  );
}
