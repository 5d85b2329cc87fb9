import { createHash, randomBytes } from 'node:crypto';

/** What a server asks for, RFC 9110 §11.6.1. */
export interface Challenge {
  readonly scheme: string;
  readonly fields: ReadonlyMap<string, string>;
}

/** Reads a WWW-Authenticate header; several challenges may stand in one. What cannot be read is left out. */
export function readChallenges(header: string): Challenge[] {
  const challenges: { scheme: string; fields: Map<string, string> }[] = [];
  const token = /\s*,?\s*([A-Za-z][\w!#$%&'*+.^`|~-]*)(?:\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s,"]+)))?/y;
  const text = header.slice(0, 4096);
  for (let match = token.exec(text); match; match = token.exec(text)) {
    const [, name, quoted, bare] = match;
    const value = quoted === undefined ? bare : quoted.replace(/\\(.)/g, '$1');
    if (value === undefined) challenges.push({ scheme: name!.toLowerCase(), fields: new Map() });
    else challenges[challenges.length - 1]?.fields.set(name!.toLowerCase(), value);
  }
  return challenges;
}

const algorithms: Record<string, string> = { md5: 'md5', 'sha-256': 'sha256' };

/**
 * The Authorization header of RFC 7616 §3.4 for one request, by MD5 or SHA-256, with or without `qop=auth`.
 * null when the challenge asks for something else.
 */
export function answerDigest(
  challenge: Challenge,
  request: { method: string; uri: string; user: string; password: string },
  cnonce = randomBytes(8).toString('hex'),
): string | null {
  const { fields } = challenge;
  const named = fields.get('algorithm') ?? 'MD5';
  const algorithm = algorithms[named.toLowerCase()];
  const nonce = fields.get('nonce');
  const qops = fields
    .get('qop')
    ?.split(',')
    .map((q) => q.trim());
  if (algorithm === undefined || nonce === undefined || (qops && !qops.includes('auth'))) return null;
  const hash = (text: string): string => createHash(algorithm).update(text).digest('hex');
  const realm = fields.get('realm') ?? '';
  const ha1 = hash(`${request.user}:${realm}:${request.password}`);
  const ha2 = hash(`${request.method}:${request.uri}`);
  const nc = '00000001';
  // RFC 7616 §3.4.1; without qop the older form of RFC 2069.
  const answer = qops ? hash(`${ha1}:${nonce}:${nc}:${cnonce}:auth:${ha2}`) : hash(`${ha1}:${nonce}:${ha2}`);
  const quote = (text: string): string => `"${text.replace(/["\\]/g, '\\$&')}"`;
  const parts = [
    `username=${quote(request.user)}`,
    `realm=${quote(realm)}`,
    `nonce=${quote(nonce)}`,
    `uri=${quote(request.uri)}`,
    `response="${answer}"`,
    `algorithm=${named}`,
    ...(qops ? ['qop=auth', `nc=${nc}`, `cnonce="${cnonce}"`] : []),
    ...(fields.has('opaque') ? [`opaque=${quote(fields.get('opaque')!)}`] : []),
  ];
  return `Digest ${parts.join(', ')}`;
}
