import { createServer, type Server, type ServerResponse } from 'node:http';
import { randomBytes } from 'node:crypto';
import { text } from 'node:stream/consumers';

/** A device with pages only: its login is a form with a hidden token, and a cookie keeps the session. */
export class FormPage {
  readonly logins: string[] = [];
  uploads: string[] = [];
  #token = '';
  #fixed: string | null = null;
  #session = '';
  #server: Server | null = null;

  constructor(
    readonly address: string,
    readonly port: number,
    readonly login: { readonly user: string; readonly word: string },
    readonly firmware: string,
  ) {}

  /** For a recording, whose lines are typed beforehand; null: another token each time. */
  fixToken(token: string | null): void {
    this.#fixed = token;
  }

  start(): Promise<void> {
    return new Promise((resolve) => {
      this.#server = createServer((request, response) => {
        void text(request).then((body) => this.#answer(`${request.method} ${request.url}`, request.headers, body, response));
      }).listen(this.port, this.address, resolve);
    });
  }

  stop(): Promise<void> {
    return new Promise((resolve) => {
      this.#server?.close(() => resolve());
      this.#server?.closeAllConnections();
    });
  }

  #answer(asked: string, headers: NodeJS.Dict<string | string[]>, body: string, response: ServerResponse): void {
    const send = (status: number, page: string, more: Record<string, string> = {}): void =>
      void response.writeHead(status, { 'content-type': 'text/html', server: 'sounder-pages', ...more }).end(page);
    const isIn = this.#session !== '' && String(headers['cookie'] ?? '').includes(`sid=${this.#session}`);
    if (asked === 'GET /') return send(200, '<title>Sounder SD-1</title>');
    if (asked === 'GET /login') {
      this.#token = this.#fixed ?? randomBytes(8).toString('hex');
      return send(200, `<form method="post">\n<input type="hidden" name="token" value="${this.#token}">\n</form>`);
    }
    if (asked === 'POST /login') {
      const form = new URLSearchParams(body);
      this.logins.push(body);
      const fits = form.get('token') === this.#token && form.get('user') === this.login.user && form.get('word') === this.login.word;
      if (!fits || headers['x-asked-by'] !== 'pages') return send(200, 'Wrong name or word.');
      this.#session = randomBytes(8).toString('hex');
      return send(302, '', { location: '/status', 'set-cookie': `sid=${this.#session}; Path=/; HttpOnly` });
    }
    if (!isIn) return send(302, '', { location: '/login' });
    if (asked === 'GET /status') return send(200, `<p>Serial SD-0001</p>\n<p>Firmware ${this.firmware}</p>`);
    if (asked === 'POST /upload') {
      this.uploads.push(body);
      return send(303, '', { location: '/status' });
    }
    return send(404, 'no such page');
  }
}
