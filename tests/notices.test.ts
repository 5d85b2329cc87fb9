import { createHash, createHmac } from 'node:crypto';
import { createServer, type IncomingHttpHeaders, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { BarrowClient } from '@barrow/client';
import { barrow, serve, type Ran } from './support/service.js';
import { isEnded, isHeld, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

interface Mail {
  readonly to: string;
  readonly user: string | undefined;
  readonly subject: string;
  readonly text: string;
}

/** A header field as it reads: words of RFC 2047, of which a line break between two is none. */
const decoded = (field: string): string =>
  field
    .replace(/\?=\r\n[ \t]+=\?UTF-8\?Q\?/gi, '')
    .replace(/\r\n[ \t]+/g, ' ')
    .replace(/=\?UTF-8\?Q\?(.*?)\?=/gi, (_, word: string) =>
      word.replaceAll('_', ' ').replace(/=([0-9A-F]{2})/g, (__, hex: string) => String.fromCharCode(parseInt(hex, 16))),
    );

/** A mail server as one can be had: what it takes is kept. */
class MailBox {
  readonly mails: Mail[] = [];
  #server: SMTPServer | null = null;
  port = 0;

  async open(): Promise<void> {
    this.#server = new SMTPServer({
      authOptional: true,
      allowInsecureAuth: true,
      disableReverseLookup: true,
      onAuth: (auth, _session, done) =>
        auth.password === 'of the night' ? done(null, { user: auth.username }) : done(new Error('no such user here')),
      onData: (stream, session, done) => {
        let text = '';
        stream.on('data', (part: Buffer) => (text += part.toString()));
        stream.on('end', () => {
          const [, subject = ''] = /^Subject: (.*(?:\r\n[ \t].*)*)/m.exec(text) ?? [];
          this.mails.push({
            to: session.envelope.rcptTo[0]!.address,
            user: session.user as string | undefined,
            subject: decoded(subject),
            // Quoted-printable folds its lines (RFC 2045).
            text: text.slice(text.indexOf('\r\n\r\n')).replace(/=\r\n/g, ''),
          });
          done();
        });
      },
    });
    await new Promise<void>((resolve) => this.#server!.listen(this.port, '127.0.0.1', resolve));
    this.port = (this.#server.server.address() as AddressInfo).port;
  }

  close = (): Promise<void> => new Promise((resolve) => this.#server!.close(() => resolve()));
  to = (address: string): Mail[] => this.mails.filter((m) => m.to === address);
}

interface Request {
  readonly method: string;
  readonly path: string;
  readonly headers: IncomingHttpHeaders;
  readonly body: string;
}

/** Whether a request was signed with a key: worked out anew from what RFC 9421 says, and from nothing of ours. */
function isSigned({ method, path, headers, body }: Request, origin: string, key: string): boolean {
  const [, input] = /^barrow=(.*)$/.exec(String(headers['signature-input'])) ?? [];
  const covered = /^\(([^)]*)\)/.exec(input!)![1]!.split(' ');
  const values: Record<string, string> = { '"@method"': method, '"@target-uri"': `${origin}${path}` };
  const lines = covered.map((name) => `${name}: ${values[name] ?? String(headers[name.slice(1, -1)])}`);
  const base = [...lines, `"@signature-params": ${input!}`].join('\n');
  const right = `barrow=:${createHmac('sha256', key).update(base).digest('base64')}:`;
  const digest = `sha-256=:${createHash('sha256').update(body).digest('base64')}:`;
  return covered.includes('"content-digest"') && headers['content-digest'] === digest && headers.signature === right;
}

describe('who is told of what happens', () => {
  let scene: Scene;
  let client: BarrowClient;
  const box = new MailBox();
  const requests: Request[] = [];
  let answers = 204;
  let web: Server;
  let origin = '';
  let key = '';
  const devices = ['gannet-sw-1', 'gannet-sw-2', 'quay-sw-1', 'quay-sw-2'];
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const until = (so: () => boolean | Promise<boolean>) => expect.poll(so).toBe(true);
  const hooked = (): { kind: string; lines: string[]; rollout: { id: string } | null; link: string }[] =>
    requests.filter((r) => r.method === 'POST').map((r) => JSON.parse(r.body) as never);

  beforeAll(async () => {
    scene = await setScene({ network: 137, only: [...devices, 'eelgate-sw-1'] });
    ({ client } = scene.served);
    await prepare(scene);
    await box.open();
    web = createServer((request, response) => {
      let body = '';
      request.on('data', (part: Buffer) => (body += part.toString()));
      request.on('end', () => {
        requests.push({ method: request.method!, path: request.url!, headers: request.headers, body });
        response.writeHead(answers).end();
      });
    });
    await new Promise<void>((resolve) => web.listen(0, '127.0.0.1', resolve));
    origin = `http://127.0.0.1:${(web.address() as AddressInfo).port}`;
  });
  afterAll(async () => {
    await scene?.end();
    web?.closeAllConnections();
    web?.close();
    await box.close();
  });

  it('is added only where it can be reached at all, by an admin', async () => {
    expect((await cli('notice', 'list')).out).toContain('Nobody is told. Add somebody');
    for (const [args, code, why] of [
      [['night', '--mail', 'night@example.net'], 4, 'Mail has no server to go out through'],
      [['night', '--mail', 'night'], 2, 'a mail address, such as night@example.net'],
      [['night', '--hook', 'ftp://127.0.0.1/'], 2, 'begins with http:// or https://'],
      [['night'], 2, 'Say one of --mail and --hook'],
      [['night', '--hook', origin, '--on', 'failed,lost'], 2, 'not "lost"'],
      [['night', '--hook', origin, '--on', 'sheet'], 4, 'The night sheet goes by mail only'],
    ] as const) {
      const ran = await cli('notice', 'add', ...args);
      expect([ran.code, ran.err], args.join(' ')).toEqual([code, expect.stringContaining(why) as string]);
    }
    const { token } = await client.addToken({ name: 'ana', role: 'operator' });
    const ana = new BarrowClient({ url: scene.served.url, token });
    await expect(ana.setHeartbeat({ url: origin })).rejects.toThrow('operator');
  });

  it('is tried before anything happens: what is wrong with the way is told', async () => {
    const place = `127.0.0.1:${box.port}`;
    const server = (...more: string[]) => cli('notice', 'mail-server', place, '--from', 'barrow@example.net', ...more);
    // Nobody vouches for the server's certificate, and it is an old one.
    expect(await server()).toMatchObject({ code: 0 });
    expect(await cli('notice', 'add', 'night', '--mail', 'night@example.net')).toMatchObject({ code: 0 });
    expect(await cli('notice', 'test')).toMatchObject({
      code: 1,
      out: expect.stringMatching(/^✕ night: .*certificate/) as string,
    });
    process.env['WRONG'] = 'of the day';
    process.env['RIGHT'] = 'of the night';
    await server('--tls', 'none', '--user', 'barrow', '--secret-env', 'WRONG');
    expect((await cli('notice', 'test', 'night')).out).toMatch(/✕ night: .*no such user here/);
    expect((await cli('notice', 'list')).out).toMatch(/night +mail +night@example\.net +everything .*no such user here/);
    expect((await server('--tls', 'none', '--user', 'barrow', '--secret-env', 'RIGHT')).out).toContain('as barrow');
    expect((await cli('notice', 'test')).out).toBe('✓ night: it was taken\n');
    expect(box.mails).toMatchObject([{ to: 'night@example.net', user: 'barrow', subject: 'Barrow: a trial' }]);
    const added = await cli('notice', 'add', 'pager', '--hook', `${origin}/on-duty`, '--on', 'held,failed');
    [, key = ''] = /shown only now: (\S+)/.exec(added.out)!;
    answers = 503;
    expect((await cli('notice', 'test', 'pager')).out).toBe('✕ pager: it answered 503\n');
    answers = 204;
    expect((await cli('notice', 'test', 'pager')).code).toBe(0);
    expect(isSigned(requests.at(-1)!, origin, key)).toBe(true);
    expect(isSigned(requests.at(-1)!, origin, `${key}x`)).toBe(false);
    expect(isSigned({ ...requests.at(-1)!, body: '{}' }, origin, key)).toBe(false);
    // Neither key nor password is shown again.
    const seen = JSON.stringify(await client.notices());
    for (const secret of [key, 'of the night']) expect(seen).not.toContain(secret);
    expect((await cli('notice', 'add', 'pager', '--hook', origin)).err).toContain('"pager" is there already');
  });

  it('gets all that failed in one message, with what it led to, and others only what they asked for', async () => {
    box.mails.length = 0;
    requests.length = 0;
    await cli('notice', 'add', 'desk', '--mail', 'desk@example.net', '--on', 'ended, sheet');
    await cli('notice', 'address', 'https://barrow.example.net/');
    for (const device of devices.slice(0, 3)) scene.fleet.fault(device, 'damaged-in-transit');
    // The fourth has its turn after one of them: had it ended before the last of them failed, nothing would be left to be held.
    const { id } = await client.plan({ name: 'the night', devices, first: 0, soakSeconds: 0, failureLimit: 3, atOnce: 3 });
    await client.say(id, 'start');
    await rolloutUntil(client, id, isHeld);
    await until(() => box.to('night@example.net').length > 0 && hooked().length > 0);
    const [mail] = box.to('night@example.net');
    expect(mail!.subject).toBe('Barrow: "the night" is held');
    for (const device of devices.slice(0, 3))
      expect(mail!.text).toMatch(new RegExp(`^${device} failed: The device found the image damaged`, 'm'));
    expect(mail!.text).toContain(`https://barrow.example.net/rollouts/${id}`);
    expect(hooked()).toMatchObject([{ kind: 'held', rollout: { id }, link: `https://barrow.example.net/rollouts/${id}` }]);
    expect(hooked()[0]!.lines).toHaveLength(4);
    expect(box.to('desk@example.net')).toEqual([]);
    await client.say(id, 'continue');
    await rolloutUntil(client, id, isEnded);
    await until(() => box.to('desk@example.net').length > 0 && box.to('night@example.net').length > 1);
    for (const address of ['desk@example.net', 'night@example.net']) {
      const last = box.to(address).at(-1)!;
      expect([last.subject, last.text]).toEqual([
        'Barrow: "the night" has ended',
        expect.stringContaining('1 of 4 verified, 3 failed.') as string,
      ]);
    }
    // Who wants the night sheet has it with what they are told: as it stands then, to go on from by hand.
    const { text } = box.to('desk@example.net').at(-1)!;
    expect(text).toContain('filename=night-sheet.html');
    const [, coding, sheet = ''] =
      /Content-Transfer-Encoding: (\S+)(?:\r\n\S[^\r]*)*\r\n\r\n([\s\S]*)/.exec(text.slice(text.indexOf('Content-Type: text/html'))) ?? [];
    const page = coding === 'base64' ? Buffer.from(sheet, 'base64').toString() : sheet;
    for (const device of devices) expect(page).toContain(device);
    expect(box.to('night@example.net').at(-1)!.text).not.toContain('night-sheet');
    expect(hooked()).toHaveLength(1);
    for (const device of devices) scene.fleet.fault(device, 'damaged-in-transit', false);
  });

  it('is told by a service that was killed, and by way of a server that was away meanwhile', async () => {
    await box.close();
    box.mails.length = 0;
    const { id } = await client.plan({ name: 'the rest', devices: ['gannet-sw-1'], first: 0, soakSeconds: 0 });
    await client.say(id, 'start');
    await rolloutUntil(client, id, isEnded);
    await until(async () => (await client.notices()).receivers.some((r) => r.name === 'desk' && r.waiting > 0 && r.trouble !== null));
    // Another one ends, and the service is gone before it can have told anybody.
    const other = await client.plan({ name: 'another', devices: ['gannet-sw-2'], first: 0, soakSeconds: 0 });
    await client.say(other.id, 'start');
    await rolloutUntil(client, other.id, isEnded);
    await scene.served.kill();
    await box.open();
    scene.served = await serve(scene.data, { scale: scene.scale });
    ({ client } = scene.served);
    const told = (): string[] => [...new Set(box.to('desk@example.net').map((m) => m.subject))].sort();
    await until(() => told().length === 2);
    expect(told()).toEqual(['Barrow: "another" has ended', 'Barrow: "the rest" has ended']);
    await until(async () => (await client.notices()).receivers.every((r) => r.waiting === 0 && r.trouble === null));
  });

  it('has an address called while something is under way, so that its silence tells that Barrow died', async () => {
    const beats = () => requests.filter((r) => r.method === 'GET').length;
    await cli('notice', 'heartbeat', `${origin}/alive`);
    // Nothing is under way: nobody need be woken.
    expect((await client.notices()).heartbeat).toMatchObject({ everySeconds: 60, lastAt: null, trouble: null });
    const { id } = await client.plan({ devices: ['quay-sw-1', 'eelgate-sw-1'], first: 1, soakSeconds: 0, approval: true });
    await client.say(id, 'start');
    await rolloutUntil(client, id, (r) => r.totals.verified === 1);
    expect(beats()).toBe(0);
    await cli('notice', 'heartbeat', `${origin}/alive`, '--every', '30');
    await until(() => beats() === 1);
    await until(async () => (await client.notices()).heartbeat?.lastAt !== null);
    answers = 500;
    await cli('notice', 'heartbeat', `${origin}/alive`);
    await until(async () => (await client.notices()).heartbeat?.trouble === 'it answered 500');
    expect((await cli('notice', 'heartbeat', 'none')).out).toContain('No heartbeat');
    await client.say(id, 'approve', { wave: 0 });
    await rolloutUntil(client, id, isEnded);
    // A word was wanted, and then it had ended.
    await until(() => box.to('night@example.net').some((m) => m.subject.endsWith('waits for a person')));
    expect((await cli('notice', 'remove', 'desk')).out).toBe('desk is not told any more.\n');
    expect((await cli('notice', 'remove', 'desk')).code).toBe(2);
  });

  it('did it is kept, and shown in words, with what it was about', async () => {
    const all = await cli('deeds', '--last', '200');
    expect(all.out).toMatch(/first admin +admin +Start a rollout +the night/);
    expect(all.out).toMatch(/first admin +admin +Add a notification +night +name night; kind mail/);
    // What was refused has changed nothing, and what is only read is no deed.
    expect(all.out).toMatch(/Make an access token +ana +name ana; role operator/);
    expect(all.out).not.toMatch(/^\S+ +ana /m);
    expect(all.out).not.toMatch(/hush/i);
    expect(all.out).not.toContain('Rollouts, newest first');
    const { token } = await client.addToken({ name: 'ben', role: 'operator' });
    const ben = new BarrowClient({ url: scene.served.url, token });
    await ben.setPin({ device: 'quay-sw-2', reason: 'printers', askAgain: '2031-01-31' });
    expect((await client.deeds({ who: 'ben' })).items).toMatchObject([{ who: 'ben', role: 'operator' }]);
    // Page by page, none twice.
    const first = await client.deeds({ most: 2 });
    const then = await client.deeds({ most: 2, before: first.items.at(-1)!.id });
    expect(first.more).toBe(true);
    expect(new Set([...first.items, ...then.items].map((d) => d.id)).size).toBe(4);
    expect((await cli('deeds', '--last', '0')).code).toBe(2);
  });
});
