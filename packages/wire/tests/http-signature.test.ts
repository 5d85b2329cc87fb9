import { describe, expect, it } from 'vitest';
import { digestField, signRequest } from '@barrow/wire';

describe('a signed request', () => {
  // The example of RFC 9421, B.2.5, with the key of B.1.5.
  const key = Buffer.from('uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==', 'base64');
  const headers = {
    host: 'example.com',
    date: 'Tue, 20 Apr 2021 02:07:55 GMT',
    'content-type': 'application/json',
    'content-length': '18',
  };
  const request = { method: 'POST', url: 'http://example.com/foo?param=Value&Pet=dog', headers };

  it('has the signature that the standard gives for its example', () => {
    expect(
      signRequest(request, ['date', '@authority', 'content-type'], { created: 1618884473, keyid: 'test-shared-secret' }, key, 'sig-b25'),
    ).toEqual({
      'signature-input': 'sig-b25=("date" "@authority" "content-type");created=1618884473;keyid="test-shared-secret"',
      signature: 'sig-b25=:pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=:',
    });
  });

  it('is another one when anything that it covers is another, or the key', () => {
    const covered = ['@method', '@target-uri', '@path', 'date'];
    const made = (over: object, k = key) => signRequest({ ...request, ...over }, covered, { created: 1 }, k).signature;
    const all = [
      made({}),
      made({ method: 'PUT' }),
      made({ url: 'http://example.com/foo?param=Value' }),
      made({ headers: { ...headers, date: 'now' } }),
      made({}, Buffer.from('another')),
    ];
    expect(new Set(all).size).toBe(all.length);
    expect(() => signRequest(request, ['content-digest'], {}, key)).toThrow('without content-digest');
  });

  it('carries the digest of its content as the standard writes it', () => {
    // RFC 9530, appendix B.1.
    expect(digestField('{"hello": "world"}\n')).toBe('sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:');
  });
});
