import { createServer, type Server } from 'node:net';
import { createSocket, type Socket } from 'node:dgram';
import { once } from 'node:events';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  askHttp,
  askSip,
  describeRtsp,
  putTftp,
  ShellSession,
  SnmpClient,
  SshPlace,
  sshGreeting,
  sshHostKey,
  tryConnects,
  uploadHttp,
} from '@barrow/wire';

/** A device without an address must never be taken for the machine that Barrow runs on. */
describe('an empty host', () => {
  let tcp: Server;
  let udp: Socket;
  let reached = 0;
  let ports = { tcp: 0, udp: 0 };
  const snmp = new SnmpClient();
  beforeAll(async () => {
    tcp = createServer((socket) => {
      reached++;
      socket.destroy();
    });
    tcp.listen(0);
    udp = createSocket('udp6');
    udp.on('message', () => reached++);
    udp.bind(0);
    await Promise.all([once(tcp, 'listening'), once(udp, 'listening')]);
    ports = { tcp: (tcp.address() as { port: number }).port, udp: udp.address().port };
  });
  afterAll(() => {
    tcp.close();
    udp.close();
    snmp.close();
  });

  const ssh = () => ({ host: '', port: ports.tcp, username: 'ferry', password: 'mallard', hostKey: null, readyTimeoutMs: 1000 });
  const web = (secure: boolean) => ({ host: '', port: ports.tcp, secure, access: null, timeoutMs: 1000 });
  const agent = () => ({ address: '', port: ports.udp, access: { community: 'heron' }, timeoutMs: 100, retries: 0 });
  const file = { name: 'a.simg', bytes: 1, open: () => Promise.reject(new Error('not read')) } as never;
  it.each<[string, () => Promise<unknown>]>([
    ['a shell', () => ShellSession.open(ssh())],
    ['files over SSH', () => SshPlace.open(ssh())],
    ['the greeting of SSH', async () => sshGreeting('', ports.tcp, 1000)],
    ['the host key of SSH', async () => sshHostKey('', ports.tcp, 1000)],
    ['HTTP', () => askHttp(web(false), '/')],
    ['HTTPS', () => askHttp(web(true), '/')],
    ['an upload', () => uploadHttp(web(false), { method: 'POST', path: '/', file, as: { how: 'form', field: 'file' } } as never)],
    ['SNMP get', () => snmp.get(agent(), ['1.3.6.1.2.1.1.1.0'])],
    ['SNMP walk', () => snmp.walk(agent(), '1.3.6.1.2.1.1')],
    ['SNMP set', () => snmp.set(agent(), [{ oid: '1.3.6.1.2.1.1.6.0', type: 'text', value: 'x' }])],
    ['SIP', async () => askSip({ host: '', port: ports.udp, timeoutMs: 100 }, { method: 'OPTIONS' })],
    ['RTSP', () => describeRtsp({ host: '', port: ports.tcp, uri: 'rtsp:///', login: null, timeoutMs: 1000 } as never)],
    [
      'TFTP',
      async () =>
        putTftp({
          host: '',
          port: ports.udp,
          name: 'a',
          bytes: 1,
          limitMs: 100,
          open: () => Promise.reject(new Error('not read')),
        } as never),
    ],
    [
      'a sweep over TCP',
      () =>
        tryConnects({
          addresses: [''],
          ports: [ports.tcp],
          connectsPerSecond: 10,
          most: 1,
          timeoutMs: 100,
          onOpen: () => undefined,
        } as never),
    ],
  ])('is refused by %s, and nothing is sent', async (_, reach) => {
    await expect(reach()).rejects.toMatchObject({ fault: 'unreachable' });
    expect(reached).toBe(0);
  });
});
