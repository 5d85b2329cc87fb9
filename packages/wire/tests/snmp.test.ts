import { createSocket } from 'node:dgram';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  decodeEngineReport,
  decodeResponse,
  encodeEngineProbe,
  encodeGet,
  engineQuestion,
  SnmpClient,
  snmpQuestion,
  sweep,
  type SnmpTarget,
} from '@barrow/wire';
import { startSnmpd, type Daemon } from '../../../tests/support/daemons.js';
import { has } from '../../../tests/support/service.js';

const sysDescr = '1.3.6.1.2.1.1.1.0';
const sysName = '1.3.6.1.2.1.1.5.0';
const pace = { packetsPerSecond: 2000, tries: 2, waitMs: 300 };
const ask = (port: number) => snmpQuestion(port, 'ferry-read', [sysDescr, sysName]);

describe.skipIf(!has('snmpd'))("against Debian's snmpd", () => {
  let daemon: Daemon;
  const address = '127.44.0.7';
  const port = 16144;
  const user = { name: 'watch', authKey: 'authentic-by-night', privKey: 'private-by-night' };

  beforeAll(async () => {
    daemon = await startSnmpd({
      address,
      port,
      community: 'ferry-read',
      sysName: 'referee',
      sysDescr: 'A referee',
      user,
      writes: 'ferry-write',
    });
  });
  afterAll(() => daemon?.stop());

  it('a sweep finds it among silent addresses', async () => {
    const found: string[] = [];
    const addresses = Array.from({ length: 20 }, (_, i) => `127.44.0.${i + 1}`);
    const result = await sweep({
      ...pace,
      addresses,
      questions: [ask(port)],
      onAnswer: (a) => {
        const values = a.answer as Map<string, string>;
        found.push(`${a.address} ${values.get(sysDescr)} ${values.get(sysName)}`);
      },
    });
    expect(found).toEqual([`${address} A referee referee`]);
    expect(result).toMatchObject({ answered: 1, strange: 0, stopped: false });
  });

  it('tells its engine ID to whoever asks, the same that it tells by community', async () => {
    const told: unknown[] = [];
    await sweep({ ...pace, addresses: [address], questions: [engineQuestion(port)], onAnswer: (a) => told.push(a.answer) });
    const client = new SnmpClient();
    const read = await client.get({ address, port, access: { community: 'ferry-read' } }, ['1.3.6.1.6.3.10.2.1.1.0']);
    client.close();
    expect(told).toEqual([expect.objectContaining({ engineId: read.get('1.3.6.1.6.3.10.2.1.1.0')!.value })]);
  });

  it('what it lets be set is set, all of it or none, and what it does not is a refusal', async () => {
    const client = new SnmpClient();
    const target: SnmpTarget = { address, port, access: { community: 'ferry-write' } };
    const [contact, place] = ['1.3.6.1.2.1.1.4.0', '1.3.6.1.2.1.1.6.0'];
    const told = async () => [...(await client.get(target, [contact, place])).values()].map((v) => v.value);
    await client.set(target, [
      { oid: contact, type: 'text', value: 'whoever is awake' },
      { oid: place, type: 'text', value: 'third rack' },
    ]);
    expect(await told()).toEqual(['whoever is awake', 'third rack']);
    await expect(
      client.set(target, [
        { oid: contact, type: 'text', value: 'nobody' },
        { oid: sysDescr, type: 'text', value: 'mine' },
      ]),
    ).rejects.toMatchObject({ fault: 'refused' });
    await expect(client.set(target, [{ oid: place, type: 'integer', value: '3' }])).rejects.toMatchObject({ fault: 'refused' });
    expect(await told()).toEqual(['whoever is awake', 'third rack']);
    const reading = { ...target, access: { community: 'ferry-read' } };
    await expect(client.set(reading, [{ oid: place, type: 'text', value: 'x' }])).rejects.toMatchObject({ fault: 'refused' });
    client.close();
  });

  it('single objects and subtrees are read, and what it does not have is absent', async () => {
    const client = new SnmpClient();
    const target: SnmpTarget = { address, port, access: { community: 'ferry-read' } };
    const got = await client.get(target, [sysDescr, '1.3.6.1.4.1.32473.99.0']);
    expect([...got.values()].map((v) => v.value)).toEqual(['A referee']);
    const system = await client.walk(target, '1.3.6.1.2.1.1');
    expect(system.find((v) => v.oid === sysName)?.value).toBe('referee');
    expect(system.length).toBeGreaterThan(5);
    expect(await client.walk(target, '1.3.6.1.2.1', 100)).toHaveLength(100);
    const wrong = { ...target, access: { community: 'wrong' }, timeoutMs: 200, retries: 0 };
    await expect(client.get(wrong, [sysDescr])).rejects.toMatchObject({ fault: 'timeout' });
    client.close();
  });

  it('a user of v3 reads by SHA-256 and AES, and a wrong key or name is told as refused', async () => {
    const client = new SnmpClient();
    const target = (over: object): SnmpTarget => ({
      address,
      port,
      access: { user: { ...user, auth: 'sha256', ...over } },
      timeoutMs: 1000,
      retries: 1,
    });
    expect((await client.get(target({}), [sysName])).get(sysName)?.value).toBe('referee');
    expect((await client.walk(target({}), '1.3.6.1.2.1.1')).length).toBeGreaterThan(5);
    await expect(client.get(target({ authKey: 'another-key-altogether' }), [sysName])).rejects.toMatchObject({ fault: 'login-refused' });
    await expect(client.get(target({ name: 'nobody' }), [sysName])).rejects.toMatchObject({ fault: 'login-refused' });
    client.close();
  });
});

describe('strange answers to a sweep', () => {
  it('are counted and never taken for a device: wrong request ID, another address, noise', async () => {
    const liar = createSocket('udp4');
    const other = createSocket('udp4');
    await Promise.all([
      new Promise<void>((r) => liar.bind(16145, '127.44.1.1', r)),
      new Promise<void>((r) => other.bind(16145, '127.44.1.99', r)),
    ]);
    liar.on('message', (m, from) => {
      const wrong = Buffer.from(m);
      wrong[wrong.indexOf(0xa0)] = 0xa2;
      other.send(wrong, from.port, from.address);
      const id = Buffer.from(wrong);
      id[id.indexOf(0xa2) + 4]! ^= 1;
      liar.send(id, from.port, from.address);
      liar.send(Buffer.from('noise'), from.port, from.address);
      liar.send(Buffer.alloc(60_000, 0x30), from.port, from.address);
    });
    const answers: string[] = [];
    const result = await sweep({
      ...pace,
      tries: 1,
      addresses: ['127.44.1.1', '127.44.1.2'],
      questions: [ask(16145)],
      onAnswer: (a) => answers.push(a.address),
    });
    liar.close();
    other.close();
    expect(answers).toEqual([]);
    expect(result.strange).toBe(4);
  });

  it('an IPv6 address is asked and heard as well, beside IPv4', async () => {
    const six = createSocket('udp6');
    const four = createSocket('udp4');
    await Promise.all([new Promise<void>((r) => six.bind(16147, '::1', r)), new Promise<void>((r) => four.bind(16147, '127.44.3.1', r))]);
    for (const socket of [six, four])
      socket.on('message', (m, from) => {
        const answer = Buffer.from(m);
        answer[answer.indexOf(0xa0)] = 0xa2;
        socket.send(answer, from.port, from.address);
      });
    const answers: string[] = [];
    await sweep({
      ...pace,
      addresses: ['127.44.3.1', '127.44.3.2', '::1'],
      questions: [ask(16147)],
      onAnswer: (a) => answers.push(a.address),
    });
    six.close();
    four.close();
    expect(answers.sort()).toEqual(['127.44.3.1', '::1']);
  });

  it('never end the decoder', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 300 }), (bytes) => {
        decodeResponse(Buffer.from(bytes));
        decodeEngineReport(Buffer.from(bytes));
      }),
    );
    const probe = encodeEngineProbe(5);
    fc.assert(
      fc.property(fc.nat(probe.length - 1), fc.nat(255), (at, value) => {
        const bad = Buffer.from(probe);
        bad[at] = value;
        decodeEngineReport(bad);
      }),
    );
    // Single octets of a good packet, changed.
    const good = encodeGet('c', 77, [sysDescr]);
    fc.assert(
      fc.property(fc.nat(good.length - 1), fc.nat(255), (at, value) => {
        const bad = Buffer.from(good);
        bad[bad.indexOf(0xa0)] = 0xa2;
        bad[at] = value;
        decodeResponse(bad);
      }),
    );
  });

  it('a stop stops at once', async () => {
    const stop = new AbortController();
    const result = await sweep({
      ...pace,
      tries: 3,
      addresses: Array.from({ length: 5000 }, (_, i) => `127.45.${i >> 8}.${i & 255}`),
      questions: [ask(16146)],
      signal: stop.signal,
      onAnswer: () => undefined,
      onProgress: (asked) => asked > 20 && stop.abort(),
    });
    expect(result.stopped).toBe(true);
    expect(result.sent).toBeLessThan(5000);
  });
});
