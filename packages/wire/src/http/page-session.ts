import { CookieJar } from 'tough-cookie';
import { askHttp, type HttpAnswer, type HttpMethod, type HttpTarget } from './fetch.js';

export interface PageRequest {
  readonly method?: HttpMethod;
  readonly body?: string;
  readonly type?: string;
  readonly headers?: Readonly<Record<string, string>>;
}

const mostRedirects = 5;

const originOf = ({ secure, host, port }: HttpTarget): string =>
  `${secure ? 'https' : 'http'}://${host.includes(':') ? `[${host}]` : host}:${port}`;

/**
 * Pages of one device, requested as a browser does: cookies are kept (RFC 6265), and redirects are followed (RFC 9110 §15.4).
 * A redirect to another host, port or scheme is not followed: a login belongs to this device only.
 */
export class PageSession {
  readonly #jar = new CookieJar(undefined, { rejectPublicSuffixes: false, looseMode: true, allowSecureOnLocal: false });

  /** @throws WireError as `askHttp` */
  async ask(target: HttpTarget, path: string, request: PageRequest = {}): Promise<HttpAnswer> {
    const origin = originOf(target);
    let [at, now]: [string, PageRequest] = [path, request];
    for (let redirects = 0; ; redirects++) {
      const cookie = this.cookies(target, at);
      const answer = await askHttp(target, at, { ...now, headers: { ...now.headers, ...(cookie === '' ? {} : { cookie }) } });
      this.keep(target, at, answer.cookies);
      const location = answer.headers['location'];
      if (answer.status < 300 || answer.status > 399 || location === undefined || redirects === mostRedirects) return answer;
      const next = URL.canParse(location, `${origin}${at}`) ? new URL(location, `${origin}${at}`) : null;
      if (next?.origin !== new URL(origin).origin) return answer;
      at = `${next.pathname}${next.search}`;
      // RFC 9110 §15.4: 307 and 308 keep method and body; clients change the others to GET.
      if (answer.status !== 307 && answer.status !== 308) now = { headers: now.headers };
    }
  }

  /** The Cookie header for a path; empty when there is none. */
  cookies(target: HttpTarget, path: string): string {
    return this.#jar.getCookieStringSync(`${originOf(target)}${path}`);
  }

  /** @param cookies values of Set-Cookie headers */
  keep(target: HttpTarget, path: string, cookies: readonly string[]): void {
    for (const one of cookies) this.#jar.setCookieSync(one, `${originOf(target)}${path}`, { ignoreError: true });
  }
}
