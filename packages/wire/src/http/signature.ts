import { createHash, createHmac } from 'node:crypto';

/** What is signed of a request. */
export interface SignedRequest {
  readonly method: string;
  /** The whole address, without a fragment. */
  readonly url: string;
  /** Names in small letters. */
  readonly headers: Readonly<Record<string, string>>;
}

/** The digest of a content as a header field (RFC 9530 §2). */
export const digestField = (content: string | Buffer): string => `sha-256=:${createHash('sha256').update(content).digest('base64')}:`;

/** The value of a component (RFC 9421 §2.1 and §2.2). */
function valueOf(request: SignedRequest, component: string): string {
  const url = new URL(request.url);
  switch (component) {
    case '@method':
      return request.method.toUpperCase();
    case '@target-uri':
      return url.href;
    case '@authority':
      return url.host.toLowerCase();
    case '@path':
      return url.pathname;
    default: {
      const value = request.headers[component];
      if (value === undefined) throw new Error(`a request without ${component} cannot be signed over it`);
      return value.trim();
    }
  }
}

/**
 * Signs a request with a shared key (RFC 9421, `hmac-sha256` of §3.3.3).
 *
 * @param components what is covered, in this order
 * @param parameters of the signature, in this order, e.g. `{ created: 1618884473, keyid: 'test-shared-secret' }`; seconds since 1970
 * @returns the header fields `signature-input` and `signature`
 * @throws Error when a field that is to be covered is not there
 */
export function signRequest(
  request: SignedRequest,
  components: readonly string[],
  parameters: Readonly<Record<string, string | number>>,
  key: Buffer,
  label = 'barrow',
): { readonly 'signature-input': string; readonly signature: string } {
  const covered = `(${components.map((c) => `"${c}"`).join(' ')})`;
  const input = `${covered}${Object.entries(parameters)
    .map(([name, value]) => `;${name}=${typeof value === 'number' ? value : `"${value}"`}`)
    .join('')}`;
  const base = [...components.map((c) => `"${c}": ${valueOf(request, c)}`), `"@signature-params": ${input}`].join('\n');
  const signature = createHmac('sha256', key).update(base).digest('base64');
  return { 'signature-input': `${label}=${input}`, signature: `${label}=:${signature}:` };
}
