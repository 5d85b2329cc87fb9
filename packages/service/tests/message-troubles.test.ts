import { createServer, type AddressInfo, type Server, type Socket } from 'node:net';
import { once } from 'node:events';
import { afterEach, describe, expect, it } from 'vitest';
import { beat, sendMail, troubleOf, type MailServer } from '../src/notices/send.js';

const open: Server[] = [];
/** A server on loopback that does as it is told with each connection. */
async function listening(serve: (socket: Socket) => void): Promise<number> {
  const server = createServer((socket) => {
    socket.on('error', () => undefined);
    serve(socket);
  });
  open.push(server);
  await once(server.listen(0, '127.0.0.1'), 'listening');
  return (server.address() as AddressInfo).port;
}
afterEach(() => open.splice(0).forEach((server) => server.close()));

/** A mail server in the clear: it knows EHLO, and refuses every login. */
const plainMail = (socket: Socket): void => {
  socket.write('220 mail.example.net\r\n');
  socket.on('data', (line) => {
    const word = line.toString().slice(0, 4);
    socket.write(
      word === 'EHLO' ? '250-mail.example.net\r\n250 AUTH PLAIN\r\n' : word === 'AUTH' ? '535 no such user\r\n' : '502 not known\r\n',
    );
  });
};

const letter = { kind: 'ended', subject: 'x', lines: ['x'], at: '2026-11-27T22:00:00Z', rollout: null, link: 'http://127.0.0.1/' } as never;
const mailTrouble = (port: number, of: Partial<MailServer>): Promise<string> =>
  sendMail({ host: '127.0.0.1', port, tls: 'none', from: 'b@example.net', user: null, secret: null, ...of }, 'a@example.net', letter).then(
    () => 'sent',
    troubleOf,
  );

describe('a message that cannot be sent says why, and what helps', () => {
  it('when the mail server speaks no TLS on this port', async () => {
    const told = await mailTrouble(await listening(plainMail), { tls: 'implicit' });
    expect(told).toMatch(/^the server does not use TLS on this port: try another `--tls` \(.+\)$/);
  });
  it('when it does not offer STARTTLS', async () => {
    const told = await mailTrouble(await listening(plainMail), { tls: 'starttls' });
    expect(told).toMatch(/^the server does not offer STARTTLS: try `--tls implicit` or `--tls none` \(.+\)$/);
  });
  it('when it takes mail over TLS only', async () => {
    const port = await listening((socket) => {
      socket.write('220 mail.example.net\r\n');
      socket.on('data', (line) => {
        socket.write(line.toString().startsWith('EHLO') ? '250 mail.example.net\r\n' : '530 5.7.0 Must issue a STARTTLS command first\r\n');
      });
    });
    expect(await mailTrouble(port, {})).toMatch(/^the server takes mail over TLS only: try `--tls starttls` \(/);
  });
  it('when it refuses the login', async () => {
    const told = await mailTrouble(await listening(plainMail), { user: 'barrow', secret: 'of the night' });
    expect(told).toMatch(/^the server refused the login \(.*no such user\)$/);
    expect(told).not.toContain('of the night');
  });
  it('when nothing listens there', async () => {
    const port = await listening(() => undefined);
    await new Promise((done) => open.pop()!.close(done));
    expect(await mailTrouble(port, {})).toMatch(/^nothing listens at this address and port \(/);
    expect(await beat(`http://127.0.0.1:${port}/`).then(() => 'sent', troubleOf)).toBe(
      'nothing listens at this address and port (ECONNREFUSED)',
    );
  });
  it('when web clients refuse the port', async () => {
    expect(await beat('http://127.0.0.1:9/').then(() => 'sent', troubleOf)).toMatch(/^web clients never use this port/);
  });
  it('when it closes the connection', async () => {
    const port = await listening((socket) => socket.once('data', () => socket.destroy()));
    expect(await beat(`http://127.0.0.1:${port}/`).then(() => 'sent', troubleOf)).toMatch(/^the server closed the connection/);
  });
  it('and repeats an error that it does not know', () => expect(troubleOf(new Error('it answered 503\nmore'))).toBe('it answered 503'));
});
