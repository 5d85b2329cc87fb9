import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Device, Discovery } from '@barrow/core';
import { httpPort, sipPort, snmpPort, sshPort, wsDiscoveryPort } from '@barrow/standins';
import { Hostile, readRequest, response } from './support/hostile.js';
import { discover, setScene, type Scene } from './support/scene.js';
import { barrow } from './support/service.js';
import { addWholeNetworks } from './support/whole.js';

const at = (host: number): string => `127.68.1.${host}`;
const sysDescr = '1.3.6.1.2.1.1.1.0';
const sysName = '1.3.6.1.2.1.1.5.0';
const bomb = `<?xml version="1.0"?><!DOCTYPE b [<!ENTITY a "aaaaaaaaaa">${Array.from({ length: 9 }, (_, i) => `<!ENTITY a${i} "${'&a;'.repeat(10)}">`).join('')}]><b>&a8;</b>`;
const page = (body: string, type = 'text/html'): string =>
  `HTTP/1.1 200 OK\r\nServer: odd\r\nContent-Type: ${type}\r\nContent-Length: ${Buffer.byteLength(body)}\r\nConnection: close\r\n\r\n${body}`;

describe('gear that answers badly', () => {
  let scene: Scene;
  let found: Discovery;
  let devices: Device[];
  const hostile = new Hostile();
  const loops = new Map<string, number>();

  beforeAll(async () => {
    // Only one sound device stands among them.
    scene = await setScene({ network: 68, only: ['quay-sw-3'] });

    // A description of 60 KiB, full of escapes; a name in another encoding.
    await hostile.udp(at(21), snmpPort, (datagram) => {
      const request = readRequest(datagram);
      if (request?.kind !== 0xa0) return [];
      const long = Buffer.from(`\u001b]0;owned\u0007\u001b[2J<img src=x onerror=alert(1)>${'A'.repeat(60_000)}`);
      return [
        response(
          request.id,
          request.oids.map((oid) => [
            oid,
            oid === sysDescr ? long : oid === sysName ? Buffer.from([0x6b, 0xe4, 0x73, 0x65]) : Buffer.from('x'),
          ]),
        ),
      ];
    });
    // Sound in the sweep, and noise or lies in everything after it.
    await hostile.udp(at(22), snmpPort, (datagram) => {
      const request = readRequest(datagram);
      if (!request) return [];
      if (request.oids.length === 2) return [response(request.id, [[sysDescr, Buffer.from('liar')]])];
      const lie = response(request.id ^ 5, [[sysDescr, Buffer.from('not asked')]]);
      const broken = response(request.id, [[sysDescr, Buffer.from('cut')]]).subarray(0, 20);
      return [lie, broken, Buffer.from([0x30, 0x84, 0xff, 0xff, 0xff, 0xff]), Buffer.alloc(2000, 0xff)];
    });
    // A table without end: every GETBULK is answered with more of the same.
    let turns = 0;
    await hostile.udp(at(23), snmpPort, (datagram) => {
      const request = readRequest(datagram);
      if (!request) return [];
      if (request.kind === 0xa0)
        return [
          response(
            request.id,
            request.oids.map((oid) => [oid, Buffer.from('endless')]),
          ),
        ];
      const asked = request.oids[0]!;
      const root = [...loops.keys()].find((r) => asked.startsWith(`${r}.`)) ?? asked;
      loops.set(root, (loops.get(root) ?? 0) + 1);
      return [
        response(
          request.id,
          Array.from({ length: 20 }, () => [`${root}.${++turns}`, turns] as const),
        ),
      ];
    });
    // Object identifiers that grow with every answer.
    await hostile.udp(at(31), snmpPort, (datagram) => {
      const request = readRequest(datagram);
      if (!request) return [];
      if (request.kind === 0xa0)
        return [
          response(
            request.id,
            request.oids.map((oid) => [oid, Buffer.from('growing')]),
          ),
        ];
      return [response(request.id, [[`${request.oids[0]!}.1.1.1.1.1.1.1.1.1.1`, 1]])];
    });
    // A camera that answers with an entity bomb by datagram and by page.
    await hostile.udp(at(24), wsDiscoveryPort, (datagram) => {
      const id = /<a:MessageID>([^<]+)</.exec(datagram.toString())?.[1] ?? '';
      return [
        bomb,
        `<Envelope><Header><RelatesTo>${id}</RelatesTo></Header><Body><ProbeMatches><ProbeMatch><Scopes>onvif://www.onvif.org/name/%E0%A4%A bad</Scopes></ProbeMatch></ProbeMatches></Body></Envelope>`,
      ];
    });
    await hostile.tcp(at(24), httpPort, (socket) => socket.once('data', () => socket.end(page(bomb, 'application/soap+xml'))));
    // A port that accepts and never speaks.
    for (const port of [sshPort, httpPort]) await hostile.tcp(at(25), port, () => undefined);
    // A greeting without end.
    await hostile.tcp(at(26), sshPort, (socket) => {
      const more = (): void => {
        while (!socket.destroyed && socket.write('still not saying who I am\r\n'.repeat(40)));
        socket.once('drain', more);
      };
      more();
    });
    // A page without end, with a title that is mark-up and a hostile header.
    await hostile.tcp(at(27), httpPort, (socket) =>
      socket.once('data', () => {
        socket.write('HTTP/1.1 200 OK\r\nServer: red<script>\r\nContent-Type: text/html\r\n\r\n<title><b>\u001b[2J</b></title>');
        const more = (): void => {
          while (!socket.destroyed && socket.write('x'.repeat(65_536)));
          socket.once('drain', more);
        };
        more();
      }),
    );
    // SIP with headers of 60 KiB, terminal escapes, and a status that is none.
    await hostile.udp(at(28), sipPort, (datagram) => {
      const callId = /Call-ID: (\S+)/.exec(datagram.toString())?.[1] ?? '';
      return [
        `SIP/2.0 999 odd\r\nCall-ID: ${callId}\r\n\r\n`,
        `SIP/2.0 200 OK\r\nCall-ID: ${callId}\r\nUser-Agent: \u001b[2Jphone${'U'.repeat(50_000)}\r\n\r\n`,
      ];
    });
    // It speaks no HTTP at all where HTTP is expected.
    await hostile.tcp(at(29), httpPort, (socket) => socket.once('data', () => socket.end(Buffer.alloc(5000, 7))));
    // Octets of a header, one at a time, for ever.
    await hostile.tcp(at(30), httpPort, (socket) => {
      socket.write('HTTP/1.1 200 OK\r\nX-Slow: ');
      const drip = setInterval(() => socket.write('h'), 50);
      socket.on('close', () => clearInterval(drip));
    });

    await addWholeNetworks(scene.served.client, 68, ['quay-house']);
    const ended = await discover(scene.served.client);
    found = await scene.served.client.discovery(ended.id);
    devices = await scene.served.client.devices();
  });
  afterAll(async () => {
    await hostile.close();
    await scene?.end();
  });
  const named = (host: number) => devices.find((d) => d.address === at(host));

  it('ends no discovery, and hides no sound device beside it', () => {
    expect(found.state).toBe('done');
    expect(found.problems).toEqual([]);
    expect(named(13)).toMatchObject({ name: 'quay-sw-3', firmware: '4.2.1', family: 'tarnbrook-access' });
  });

  it('is each recorded as what it was', async () => {
    const { client } = scene.served;
    expect(devices.map((d) => d.address).sort()).toEqual([13, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31].map(at).sort());
    const long = await client.device(at(21));
    expect(long.name).toBe('0x6be47365');
    expect((long.observations.find((o) => o.probe === 'SNMP v2c')!.parsed['description'] as string).length).toBeLessThan(600);
    const why = (host: number) => found.troubles.filter((t) => t.address === at(host)).map((t) => `${t.probe} ${t.cause}: ${t.detail}`);
    expect(why(22).join()).toMatch(/SNMP v2c (unreachable: .* though it answered when it was first asked|unexpected-answer)/);
    // Whichever comes first: on a busy machine it has not told so many when its time is over.
    expect(why(23).join()).toMatch(/its tables (go on after 60000 objects|were not read to their end in \d+ s; the rest was left)/);
    expect(why(31).join()).toContain('longer than any may be');
    expect(why(24).join()).toContain('ONVIF');
    expect(why(25)).toEqual(
      expect.arrayContaining([
        expect.stringContaining('SSH no-answer-in-time'),
        expect.stringContaining('accepts the connection and says nothing'),
        expect.stringContaining('HTTP no-answer-in-time'),
      ]),
    );
    expect(why(26).join()).toContain('sends a greeting without end');
    expect(why(29).join()).toContain('does not speak HTTP');
    expect(why(30).join()).toContain('did not answer within');
    const sip = (await client.device(at(28))).observations.find((o) => o.probe === 'SIP OPTIONS')!;
    expect(sip.raw['userAgent']).toMatch(/^\\x1b\[2JphoneU+$/);
    const endless = (await client.device(at(27))).observations.find((o) => o.probe === 'HTTP')!;
    expect(endless.raw['cut']).toBe(true);
    expect(endless.parsed['title']).toBe('<b>\\x1b[2J</b>');
  });

  it('loops for no longer than a table may be long', () => {
    expect(loops.size).toBeGreaterThan(0);
    const asked = [...loops.values()].reduce((sum, n) => sum + n, 0);
    // Twenty objects in each answer, and some answers under way on each of four walks when the end is seen.
    expect(asked * 20).toBeLessThan(70_000 * 2);
  });

  it('shows nothing as anything but text, on a terminal or as JSON', async () => {
    for (const args of [
      ['device', 'list'],
      ['device', 'show', at(21)],
      ['device', 'show', at(27)],
      ['device', 'show', at(28)],
    ]) {
      const ran = await barrow(args, { data: scene.data });
      expect(ran.code).toBe(0);
      // eslint-disable-next-line no-control-regex
      expect(ran.out).not.toMatch(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f]/);
    }
    expect(scene.served.log()).not.toContain('"level":50');
  });
});
