import { spawn, type ChildProcess } from 'node:child_process';
import { createSocket } from 'node:dgram';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { decodeResponse, encodeGet, SnmpClient, sweep } from '@barrow/wire';
import { has } from '../../../tests/support/service.js';

const sysDescr = '1.3.6.1.2.1.1.1.0';
const sysName = '1.3.6.1.2.1.1.5.0';
const ask = { community: 'ferry-read', oids: [sysDescr, sysName], packetsPerSecond: 2000, tries: 2, waitMs: 300 };

describe.skipIf(!has('snmpd'))("against Debian's snmpd", () => {
  let daemon: ChildProcess;
  const dir = mkdtempSync(join(tmpdir(), 'barrow-snmpd-'));
  const address = '127.44.0.7';
  const port = 16144;

  beforeAll(async () => {
    writeFileSync(
      join(dir, 'snmpd.conf'),
      `agentaddress udp:${address}:${port}\nrocommunity ferry-read 127.0.0.0/8\nsysName referee\nsysDescr A referee\n[snmp] persistentDir ${dir}\n`,
    );
    daemon = spawn('snmpd', ['-f', '-Lo', '-C', '-c', join(dir, 'snmpd.conf'), '-p', join(dir, 'pid')], {
      env: { ...process.env, SNMP_PERSISTENT_DIR: dir, MIBS: '' },
      stdio: 'ignore',
    });
    const client = new SnmpClient();
    const answers = () => client.get({ address, port, community: 'ferry-read', timeoutMs: 300, retries: 0 }, [sysDescr]);
    await vi.waitFor(answers, { timeout: 20_000, interval: 50 });
    client.close();
  });
  afterAll(() => {
    daemon?.kill();
    rmSync(dir, { recursive: true });
  });

  it('a sweep finds it among silent addresses', async () => {
    const found: string[] = [];
    const addresses = Array.from({ length: 20 }, (_, i) => `127.44.0.${i + 1}`);
    const result = await sweep({
      ...ask,
      addresses,
      port,
      onAnswer: (a) => found.push(`${a.address} ${a.values.get(sysDescr)} ${a.values.get(sysName)}`),
    });
    expect(found).toEqual([`${address} A referee referee`]);
    expect(result).toMatchObject({ answered: 1, strange: 0, stopped: false });
  });

  it('single objects and subtrees are read, and what it does not have is absent', async () => {
    const client = new SnmpClient();
    const target = { address, port, community: 'ferry-read' };
    const got = await client.get(target, [sysDescr, '1.3.6.1.4.1.32473.99.0']);
    expect([...got.values()].map((v) => v.value)).toEqual(['A referee']);
    const system = await client.walk(target, '1.3.6.1.2.1.1');
    expect(system.find((v) => v.oid === sysName)?.value).toBe('referee');
    expect(system.length).toBeGreaterThan(5);
    await expect(client.get({ ...target, community: 'wrong', timeoutMs: 200, retries: 0 }, [sysDescr])).rejects.toMatchObject({
      fault: 'timeout',
    });
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
      ...ask,
      tries: 1,
      addresses: ['127.44.1.1', '127.44.1.2'],
      port: 16145,
      onAnswer: (a) => answers.push(a.address),
    });
    liar.close();
    other.close();
    expect(answers).toEqual([]);
    expect(result.strange).toBe(4);
  });

  it('never end the decoder', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 300 }), (bytes) => {
        decodeResponse(Buffer.from(bytes));
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
      ...ask,
      tries: 3,
      addresses: Array.from({ length: 5000 }, (_, i) => `127.45.${i >> 8}.${i & 255}`),
      port: 16146,
      signal: stop.signal,
      onAnswer: () => undefined,
      onProgress: (asked) => asked > 20 && stop.abort(),
    });
    expect(result.stopped).toBe(true);
    expect(result.sent).toBeLessThan(5000);
  });
});
