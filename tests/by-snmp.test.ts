import { cpSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { shippedFamilies } from '@barrow/families';
import { community, snmpPort } from '@barrow/standins';
import { SnmpClient } from '@barrow/wire';
import { startSnmpd, type Daemon } from './support/daemons.js';
import { discover } from './support/scene.js';
import { barrow, folder, has, serve, type Served } from './support/service.js';

/** A lamp that is told by SNMP alone to blink: it shows where it is by what stands in its sysLocation. */
const family = `
family: odd-lamp
title: Odd lamps
maker: Oddment
kind: power-strip
models: [{ model: OL-1, revisions: ['-'] }]
recognise: [{ snmp: { description: '^An odd lamp' } }]
versions:
  patterns: ['(?P<major>\\d+)']
  order: [{ part: major }]
  write: '{major}'
procedures:
  locate:
    do:
      - snmp: { get: { name: 1.3.6.1.2.1.1.5.0, place: 1.3.6.1.2.1.1.6.0 } }
      - when: { not: { any: [{ value: '\${name}', is: lamp-1 }, { value: '\${name}', is: lamp-2 }] } }
        do: [{ check: { value: a, is: b }, cause: unexpected-answer, detail: 'this is \${name}' }]
      - snmp: { rows: { into: known, columns: { what: 1.3.6.1.2.1.1.9.1.3 } } }
      - set: { seen: none }
      - forEach: { from: known, as: one, where: { value: '\${index}', is: '1' } }
        do: [{ set: { seen: '\${one.what}' } }]
      - snmp: { set: [{ oid: 1.3.6.1.2.1.1.6.0, type: text, value: 'blinking for \${seconds} s, was at \${place}; \${seen}' }] }
        refused: device-busy
`;

describe.skipIf(!has('snmpd'))('a device that is handled by SNMP alone', () => {
  const dir = folder();
  const data = join(dir.path, 'data');
  const address = '127.122.1.9';
  const place = '1.3.6.1.2.1.1.6.0';
  let daemon: Daemon;
  let served: Served;
  const told = async (oid: string) => {
    const client = new SnmpClient();
    const found = await client.get({ address, port: snmpPort, access: { community } }, [oid]);
    client.close();
    return found.get(oid)?.value;
  };
  beforeAll(async () => {
    const families = join(dir.path, 'families');
    cpSync(shippedFamilies, families, { recursive: true });
    writeFileSync(join(families, 'odd-lamp.yaml'), family);
    daemon = await startSnmpd({ address, port: snmpPort, community, writes: 'ferry-write', sysName: 'lamp-1', sysDescr: 'An odd lamp' });
    served = await serve(data, { args: ['--families', families] });
    const { client } = served;
    await client.addCredential({ name: 'reads', kind: 'snmp-v2c', secret: community });
    await client.addCredential({ name: 'writes', kind: 'snmp-v2c', secret: 'ferry-wrong' });
    await client.addNetwork({ name: 'odd', site: 'quay-house', ranges: [address], credentials: ['reads', 'writes'], snmpPort });
    await discover(client, ['odd']);
  });
  afterAll(async () => {
    await served?.kill();
    await daemon?.stop();
    dir.remove();
  });

  it('refuses what only another community may set, by the cause that its family names', async () => {
    expect(await served.client.device('lamp-1')).toMatchObject({ family: 'odd-lamp', firmware: null });
    const before = await told(place);
    const refused = await barrow(['device', 'locate', 'lamp-1', '--seconds', '7', '--json'], { data });
    expect(refused.code).toBe(4);
    expect(refused.json()).toMatchObject({ error: { code: 'device-busy', why: expect.stringContaining('NoAccess') as string } });
    expect(await told(place)).toBe(before);
  });

  it('is asked by one community and set by the other, as its network names them', async () => {
    const before = await told(place);
    await served.client.replaceCredential({ name: 'writes', kind: 'snmp-v2c', secret: 'ferry-write' });
    const done = await barrow(['device', 'locate', 'lamp-1', '--seconds', '7'], { data });
    expect(done.err + done.out).toContain('lamp-1');
    expect(done.code).toBe(0);
    expect(await told(place)).toMatch(new RegExp(`^blinking for 7 s, was at ${String(before)}; \\S`));
  });
});
