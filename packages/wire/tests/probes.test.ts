import { execFile } from 'node:child_process';
import { createHash } from 'node:crypto';
import { promisify } from 'node:util';
import { createServer, type Server, type Socket } from 'node:net';
import fc from 'fast-check';
import ssh2 from 'ssh2';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import {
  answerDigest,
  askHttp,
  decodeOptions,
  decodeProbeMatch,
  encodeOptions,
  encodeProbe,
  findXml,
  readChallenges,
  readXml,
  ShellSession,
  sshGreeting,
  sshHostKey,
  textOf,
  titleOf,
  tryConnects,
  usernameToken,
  type HttpTarget,
} from '@barrow/wire';
import { Fleet, httpPort, httpsPort, webLogin } from '@barrow/standins';
import { has } from '../../../tests/support/service.js';

const servers: Server[] = [];
const sockets = new Set<Socket>();
async function listen(speak: (socket: Socket) => void): Promise<number> {
  const server = createServer((socket) => {
    sockets.add(socket);
    socket.on('error', () => undefined);
    speak(socket);
  });
  servers.push(server);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return (server.address() as { port: number }).port;
}
afterEach(async () => {
  for (const socket of sockets) socket.destroy();
  await Promise.all(servers.splice(0).map((s) => new Promise((resolve) => s.close(resolve))));
});
const target = (port: number, over: Partial<HttpTarget> = {}): HttpTarget => ({
  host: '127.0.0.1',
  port,
  secure: false,
  access: null,
  timeoutMs: 400,
  ...over,
});

describe('digest authentication', () => {
  it('gives the answers of RFC 7616 §3.9.1, by MD5 and by SHA-256', () => {
    const login = { method: 'GET', uri: '/dir/index.html', user: 'Mufasa', password: 'Circle of Life' };
    const cnonce = 'f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ';
    const of = (algorithm: string) =>
      readChallenges(
        `Digest realm="http-auth@example.org", qop="auth, auth-int", algorithm=${algorithm}, nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v", opaque="FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS"`,
      )[0]!;
    expect(answerDigest(of('MD5'), login, cnonce)).toContain('response="8ca523f5e9506fed4657c9700eebdbec"');
    expect(answerDigest(of('SHA-256'), login, cnonce)).toContain(
      'response="753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"',
    );
  });

  it('reads several challenges of one header, and answers none that it does not know', () => {
    const both = readChallenges('Basic realm="a, b", Digest realm="c\\"d", nonce=n, algorithm=SHA-512-256');
    expect(both.map((c) => [c.scheme, c.fields.get('realm')])).toEqual([
      ['basic', 'a, b'],
      ['digest', 'c"d'],
    ]);
    expect(answerDigest(both[1]!, { method: 'GET', uri: '/', user: 'u', password: 'p' })).toBeNull();
    fc.assert(fc.property(fc.string({ maxLength: 300 }), (header) => void readChallenges(header)));
  });
});

describe('HTTP', () => {
  let fleet: Fleet;
  beforeAll(async () => {
    fleet = new Fleet({ timeScale: 100, network: 72, only: ['quay-rec-1', 'quay-hold-cam-1', 'quay-base-1', 'quay-wlc-1'] });
    await fleet.start();
  });
  afterAll(() => fleet.stop());
  const at = (host: string, over: Partial<HttpTarget> = {}): HttpTarget => target(httpPort, { host, timeoutMs: 5000, ...over });

  it.skipIf(!has('curl'))('reads by digest and by basic what curl reads', async () => {
    for (const [host, path, how] of [
      ['127.72.1.6', '/own.json', 'digest'],
      ['127.72.1.37', '/state', 'basic'],
    ] as const) {
      const args = ['-s', `--${how}`, '-u', `${webLogin.user}:${webLogin.password}`, `http://${host}:${httpPort}${path}`];
      const answer = await askHttp(at(host, { access: { how, ...webLogin } }), path);
      expect(answer.body).toBe((await promisify(execFile)('curl', args)).stdout);
    }
  });

  it('refuses a wrong password once, and sends no password in the clear where digest is asked for', async () => {
    const wrong = { how: 'digest' as const, user: 'ferry', password: 'wrong' };
    await expect(askHttp(at('127.72.1.6', { access: wrong }), '/own.json')).rejects.toMatchObject({ fault: 'login-refused' });
    expect(fleet.fixture('quay-rec-1').counters.refusedLogins).toBe(1);
    await expect(askHttp(at('127.72.1.6', { access: { ...wrong, how: 'basic' } }), '/own.json')).rejects.toMatchObject({
      fault: 'login-refused',
      detail: expect.stringContaining('asks for digest only') as string,
    });
    expect(fleet.fixture('quay-rec-1').counters.refusedLogins).toBe(1);
  });

  it('sends a token where one is given, and says when it is refused', async () => {
    const asked: string[] = [];
    const port = await listen((s) =>
      s.once('data', (data: Buffer) => {
        asked.push(/authorization: (.+)/i.exec(data.toString())?.[1]?.trim() ?? 'none');
        s.end(`HTTP/1.1 ${asked.length === 1 ? '200 OK' : '401 No'}\r\nContent-Length: 0\r\n\r\n`);
      }),
    );
    const access = { how: 'token' as const, token: 'tide' };
    expect((await askHttp(target(port, { access }), '/')).status).toBe(200);
    await expect(askHttp(target(port, { access }), '/')).rejects.toMatchObject({ fault: 'login-refused' });
    expect(asked).toEqual(['Bearer tide', 'Bearer tide']);
  });

  it('tells the certificate that nobody signed', async () => {
    const answer = await askHttp(at('127.72.1.5', { port: httpsPort, secure: true }), '/');
    expect(answer.status).toBe(401);
    expect(answer.certificate).toMatchObject({ subject: 'CN=quay-wlc-1, O=Grey Heron Ferries' });
    expect(answer.certificate!.fingerprint).toMatch(/^([0-9A-F]{2}:){31}[0-9A-F]{2}$/);
  });

  it('gives the whole exchange its time, and a body its length', async () => {
    const silent = await listen(() => undefined);
    await expect(askHttp(target(silent), '/')).rejects.toMatchObject({ fault: 'timeout' });
    const endless = await listen((s) => {
      s.write('HTTP/1.1 200 OK\r\n\r\n');
      const more = (): void => {
        while (!s.destroyed && s.write('y'.repeat(10_000)));
        s.once('drain', more);
      };
      more();
    });
    const answer = await askHttp(target(endless, { timeoutMs: 5000, mostBytes: 5000 }), '/');
    expect(answer).toMatchObject({ cut: true, body: 'y'.repeat(5000) });
    const noise = await listen((s) => s.end('\u0000\u0001 what'));
    await expect(askHttp(target(noise), '/')).rejects.toMatchObject({ fault: 'malformed' });
    await expect(askHttp(target(1), '/')).rejects.toMatchObject({ fault: 'refused' });
  });

  it('finds a title without being led astray', () => {
    expect(titleOf('<HTML><TITLE lang=en>\n A  page </TITLE>')).toBe('A page');
    for (const none of ['', '<title', '<title>never closed', '<titles>x</titles>', '<title> </title>']) expect(titleOf(none)).toBeNull();
    fc.assert(fc.property(fc.string(), (body) => void titleOf(body)));
  });
});

describe('ONVIF', () => {
  it('makes the username token of the WS-Security profile', () => {
    const token = usernameToken(
      'user',
      'userpassword',
      Date.UTC(2010, 8, 16, 7, 50, 45),
      Buffer.from('LKqI6G/AikKCQrN0zqFZlg==', 'base64'),
    );
    const digest = createHash('sha1')
      .update(Buffer.concat([Buffer.from('LKqI6G/AikKCQrN0zqFZlg==', 'base64'), Buffer.from('2010-09-16T07:50:45.000Zuserpassword')]))
      .digest('base64');
    expect(token).toContain(`#PasswordDigest">${digest}<`);
    expect(token).toContain('LKqI6G/AikKCQrN0zqFZlg==');
    expect(token).toContain('2010-09-16T07:50:45.000Z');
    expect(usernameToken('<&>', 'p', 0)).toContain('&#60;&#38;&#62;');
  });

  it('takes only a match that relates to its own probe', () => {
    const id = /urn:uuid:[^<]+/.exec(encodeProbe(77).toString())![0];
    const match = (relates: string) =>
      Buffer.from(
        `<e:Envelope xmlns:e="x"><e:Header><RelatesTo>${relates}</RelatesTo></e:Header><e:Body><ProbeMatches><ProbeMatch><Scopes>a b</Scopes><XAddrs>http://x/</XAddrs></ProbeMatch></ProbeMatches></e:Body></e:Envelope>`,
      );
    expect(decodeProbeMatch(match(id))).toMatchObject({ id: 77, answer: { scopes: ['a', 'b'], addresses: ['http://x/'] } });
    expect(decodeProbeMatch(match('urn:uuid:somebody-elses'))).toBeNull();
    expect(decodeProbeMatch(Buffer.from('<a/>'))).toBeNull();
  });

  it('reads no XML with a document type, nor too much of it, nor too deep', () => {
    expect(readXml('<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>')).toBeNull();
    expect(readXml(`<a>${'x'.repeat(300_000)}</a>`)).toBeNull();
    expect(readXml('<a>'.repeat(2000))).toBeNull();
    expect(readXml(`<a>${'<b/>'.repeat(6000)}</a>`)).toBeNull();
    expect(textOf(readXml('<x:a><x:b>one &amp; &#50; &nope;</x:b></x:a>'), 'b')).toBe('one & 2 &nope;');
    expect(findXml(readXml('<a><b>1</b><b>2</b></a>'), 'b')).toBe('1');
    fc.assert(fc.property(fc.string(), (text) => void readXml(text)));
    fc.assert(
      fc.property(
        fc.array(fc.constantFrom('<a>', '</a>', '<b x="1">', '<', '>', '&amp;', '<![CDATA[', ']]>', 'text', '<!--')),
        (parts) => void readXml(parts.join('')),
      ),
    );
  });
});

describe('SIP OPTIONS', () => {
  it('knows its answer by the Call-ID, in the long and the short form', () => {
    const asked = encodeOptions(12_345, '127.0.0.9').toString();
    expect(asked).toMatch(/^OPTIONS sip:127\.0\.0\.9 SIP\/2\.0\r\n/);
    expect(encodeOptions(1, '::1').toString()).toContain('OPTIONS sip:[::1] SIP/2.0');
    const callId = /Call-ID: (.+)\r\n/.exec(asked)![1]!;
    expect(decodeOptions(Buffer.from(`SIP/2.0 200 OK\r\nCall-ID: ${callId}\r\nUser-Agent: x\r\n\r\n`))).toMatchObject({
      id: 12_345,
      answer: { status: 200, userAgent: 'x', server: null },
    });
    expect(decodeOptions(Buffer.from(`SIP/2.0 404 Not here\r\ni: ${callId}\r\nServer: y\r\n\r\n`))?.answer).toMatchObject({
      status: 404,
      server: 'y',
    });
    expect(decodeOptions(Buffer.from(`SIP/2.0 200 OK\r\nCall-ID: 5@elsewhere\r\n\r\n`))).toBeNull();
  });

  it('is read from anything without harm', () => {
    fc.assert(fc.property(fc.uint8Array({ maxLength: 400 }), (bytes) => void decodeOptions(Buffer.from(bytes))));
    fc.assert(fc.property(fc.uint8Array({ maxLength: 400 }), (bytes) => void decodeProbeMatch(Buffer.from(bytes))));
  });
});

describe('an SSH greeting', () => {
  it('is read with what came before it, and nothing else is taken for one', async () => {
    const wordy = await listen((s) => s.write('Keep out.\r\nReally.\r\nSSH-2.0-Odd_1 note\r\n'));
    expect(await sshGreeting('127.0.0.1', wordy, 1000)).toEqual({ identification: 'SSH-2.0-Odd_1 note', before: 'Keep out.\r\nReally.' });
    const other = await listen((s) => s.end('220 mail\r\n'));
    await expect(sshGreeting('127.0.0.1', other, 1000)).rejects.toMatchObject({ fault: 'malformed' });
    const full = await listen((s) => s.end());
    await expect(sshGreeting('127.0.0.1', full, 1000)).rejects.toMatchObject({ fault: 'sessions-full' });
    const silent = await listen(() => undefined);
    await expect(sshGreeting('127.0.0.1', silent, 200)).rejects.toMatchObject({ fault: 'timeout' });
  });
});

describe('an SSH server that is too old', () => {
  it('is told apart from one that refuses: there is no algorithm in common', async () => {
    const hostKey = ssh2.utils.generateKeyPairSync('ecdsa', { bits: 256 }).private;
    const server = new ssh2.Server({ hostKeys: [hostKey], algorithms: { kex: ['diffie-hellman-group1-sha1'] } }, (connection) =>
      connection.on('error', () => undefined),
    );
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as { port: number };
    await expect(sshHostKey('127.0.0.1', port, 2000)).rejects.toMatchObject({ fault: 'no-common-algorithm' });
    const login = { host: '127.0.0.1', port, username: 'u', password: 'p', hostKey: null, readyTimeoutMs: 2000 };
    await expect(ShellSession.open(login)).rejects.toMatchObject({ fault: 'no-common-algorithm' });
    await new Promise((resolve) => server.close(resolve));
  });
});

describe('plain connects', () => {
  it('tell which ports open, and end at once when they are stopped', async () => {
    const port = await listen(() => undefined);
    const open: string[] = [];
    const all = { connectsPerSecond: 5000, atOnce: 16, timeoutMs: 500 };
    await tryConnects({ ...all, addresses: ['127.0.0.1', '127.0.0.2'], ports: [port, 1], onOpen: (a, p) => open.push(`${a}:${p}`) });
    expect(open).toEqual([`127.0.0.1:${port}`]);
    const stop = new AbortController();
    let tried = 0;
    await tryConnects({
      ...all,
      connectsPerSecond: 50,
      addresses: Array.from({ length: 250 }, (_, i) => `127.73.0.${i + 1}`),
      ports: [1],
      signal: stop.signal,
      onOpen: () => undefined,
      onProgress: (n) => {
        tried = n;
        if (n >= 3) stop.abort();
      },
    });
    expect(tried).toBeLessThan(30);
  });
});
