import { writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { community, Fleet, snmpPort } from '@barrow/standins';
import { startSnmpd, type Daemon } from './support/daemons.js';
import { addNetworks, discover, setScene, type Scene } from './support/scene.js';
import { barrow, has, serve } from './support/service.js';

describe('what a discovery tells', () => {
  let scene: Scene;
  let other: Fleet;
  beforeAll(async () => {
    scene = await setScene({ network: 59, only: ['curlew-sw-1', 'quay-sw-1', 'quay-sw-2', 'quay-rt-1'] });
    await addNetworks(scene.served.client, scene.fleet);
  });
  afterAll(async () => {
    await other?.stop();
    await scene?.end();
  });

  it('is new at first, then the same, then exactly what changed', async () => {
    const { client } = scene.served;
    expect((await discover(client)).found.map((f) => f.what)).toEqual(['new', 'new', 'new', 'new']);
    expect((await discover(client)).found.map((f) => f.what)).toEqual(['same', 'same', 'same', 'same']);
    // One is renamed, one falls silent.
    const renamed = scene.fleet.device('quay-sw-1');
    renamed.settings[0] = 'name quay-core-1';
    await scene.fleet.device('quay-sw-2').stop();
    const found = await discover(client);
    expect(found.found.filter((f) => f.what !== 'same')).toEqual([
      expect.objectContaining({ what: 'changed', name: 'quay-core-1', detail: 'name quay-sw-1 → quay-core-1' }),
    ]);
    expect(found.silent.map((s) => s.name)).toEqual(['quay-sw-2']);
    renamed.settings[0] = 'name quay-sw-1';
  });

  it('knows a device by its serial when it is back at another address', async () => {
    const { client } = scene.served;
    const before = await client.device('curlew-sw-1');
    await scene.fleet.device('curlew-sw-1').stop();
    other = new Fleet({ timeScale: 100, network: 60, only: ['curlew-sw-1'] });
    await other.start();
    await client.addNetwork({ name: 'moved', site: 'curlew', ranges: ['127.60.6.11'], credentials: ['ferry-snmp', 'ferry-ssh'], snmpPort });
    const found = await discover(client, ['moved']);
    expect(found.found).toEqual([
      expect.objectContaining({
        what: 'moved',
        device: before.id,
        detail: expect.stringContaining('address 127.59.6.11 → 127.60.6.11') as string,
      }),
    ]);
    expect((await client.device('curlew-sw-1')).address).toBe('127.60.6.11');
    expect((await client.devices()).length).toBe(4);
  });

  it('shows nothing of what a device says as anything but text', async () => {
    const { client } = scene.served;
    const hostile = scene.fleet.device('quay-rt-1');
    const nameAfter = async (name: string): Promise<string> => {
      hostile.settings[0] = `name ${name}`;
      await discover(client, ['quay-house']);
      return (await client.device(hostile.options.serial)).name;
    };
    // Octets that are no plain text are shown as octets.
    expect(await nameAfter('\u001b[2J\u0007')).toBe('0x1b5b324a07');
    expect(await nameAfter('<script>alert(1)</script>\u202egnp')).toBe('<script>alert(1)</script>\\x202egnp');
    const shown = await barrow(['device', 'list'], { data: scene.data });
    // eslint-disable-next-line no-control-regex
    expect(shown.out).not.toMatch(/\u001b|\u0007|\u202e/);
    expect(shown.out).toContain('<script>');
    hostile.settings[0] = 'name quay-rt-1';
    await discover(client, ['quay-house']);
  });

  it('says when a network has no credential, and looks nowhere when none is configured', async () => {
    const { client } = scene.served;
    await client.addNetwork({ name: 'bare', site: 'x', ranges: ['127.59.9.1'] });
    expect((await discover(client, ['bare'])).problems).toEqual([
      'network bare names no credential: only what devices tell to anybody is known of it',
    ]);
    for (const n of await client.networks()) await client.removeNetwork(n.name);
    await expect(client.discover()).rejects.toMatchObject({ problem: { code: 'no-networks' } });
  });

  it('stops at once when it is told to, and one at a time', async () => {
    const { client } = scene.served;
    await client.addNetwork({ name: 'wide', site: 'x', ranges: ['127.61.0.0/17'], credentials: ['ferry-snmp'], packetsPerSecond: 200 });
    const running = await client.discover();
    await expect(client.discover()).rejects.toMatchObject({ problem: { code: 'discovery-running' } });
    await client.stopDiscovery();
    const stopped = await client.discovery(running.id);
    expect(stopped.state).toBe('stopped');
    expect(stopped.asked).toBeLessThan(stopped.addresses);
    await client.removeNetwork('wide');
  });
});

/** As somebody would write it who has the thing before them. */
const oddFamily = `family: odd-things
title: Odd things
maker: Nobody
kind: other
models:
  - { model: thing, revisions: ['1'] }
recognise:
  - snmp: { description: '^An odd (?P<model>thing)$' }
versions:
  patterns: ['(?P<major>\\d+)']
  order: [{ part: major }]
  write: '{major}'
`;

describe.skipIf(!has('snmpd'))("a device that fits no family: Debian's snmpd", () => {
  let scene: Scene;
  let daemon: Daemon;
  const address = '127.62.1.9';
  const user = { name: 'watch', authKey: 'authentic-by-night', privKey: 'private-by-night' };
  beforeAll(async () => {
    scene = await setScene({ network: 62, only: ['quay-sw-3'] });
    daemon = await startSnmpd({ address, port: snmpPort, community, sysName: 'oddment', sysDescr: 'An odd thing', user });
  });
  afterAll(async () => {
    await daemon?.stop();
    await scene?.end();
  });

  it('is kept with all its raw answers, has no family, and is never planned for', async () => {
    const { client } = scene.served;
    await addNetworks(client, scene.fleet);
    await client.addNetwork({ name: 'odd', site: 'quay-house', ranges: [address], credentials: ['ferry-snmp', 'ferry-ssh'], snmpPort });
    const found = await discover(client, ['odd']);
    expect(found.found).toEqual([expect.objectContaining({ what: 'new', recognised: false, name: 'oddment' })]);
    const device = await client.device('oddment');
    expect(device).toMatchObject({ family: null, kind: 'other', standing: 'no-target' });
    expect(device.observations.find((o) => o.probe === 'SNMP v2c')!.raw['1.3.6.1.2.1.1.1.0']).toBe('An odd thing');
    expect(device.familyWouldNeed.join('\n')).toContain('recognise by snmp.description: it answers "An odd thing"');
    await expect(client.plan({ devices: ['oddment'] })).rejects.toMatchObject({ problem: { code: 'nothing-to-do' } });
    await expect(client.takeBackup('oddment')).rejects.toMatchObject({ problem: { code: 'family-unknown' } });
  });

  it('is known as soon as somebody says what it is, with no restart, and for as long as anything of it is here', async () => {
    const { client } = scene.served;
    const file = join(scene.data, '..', 'odd.yaml');
    const cli = (...args: string[]) => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
    const written = (over: readonly [string, string][] = []): Promise<void> =>
      writeFile(
        file,
        over.reduce((text, [from, to]) => text.replace(from, () => to), oddFamily),
      );
    // What is wrong with a file is told with its place, and nothing of it is taken.
    await written([
      ['kind: other', 'kind: oter'],
      ['recognise:', 'recognize:'],
    ]);
    const faulty = await cli('family', 'add', file);
    expect(faulty.code).toBe(4);
    expect(faulty.err).toContain(`${file}:4:7: kind: it is one of`);
    expect(faulty.err).toContain('is other meant?');
    expect(faulty.err).toContain('"recognize" is not known here: is recognise meant?');
    await written([['odd-things', 'tarnbrook-access']]);
    expect((await cli('family', 'add', file)).err).toContain('tarnbrook-access came with Barrow.');
    await written();
    expect((await cli('family', 'add', file)).out).toMatch(/^Odd things \(odd-things\): added\.\n/);
    expect((await cli('family', 'add', file)).out).toContain(': the same.');
    expect((await cli('family', 'list')).out).toMatch(/odd-things .* added here/);
    expect((await discover(client, ['odd'])).found).toEqual([expect.objectContaining({ what: 'changed', recognised: true })]);
    expect(await client.device('oddment')).toMatchObject({ family: 'odd-things', model: 'thing' });
    // Changed, it takes a word to replace it; that holds after a kill too.
    await written([['Odd things', 'Very odd things']]);
    expect(await cli('family', 'add', file)).toMatchObject({ code: 4, err: expect.stringContaining('added before') as string });
    expect((await cli('family', 'add', file, '--replace')).out).toContain('Very odd things (odd-things): replaced.');
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale });
    expect((await cli('family', 'write', 'odd-things')).out).toBe(oddFamily.replace('Odd things', 'Very odd things'));
    expect((await cli('family', 'remove', 'odd-things')).err).toContain('1 device of odd-things is here.');
    expect((await cli('family', 'remove', 'tarnbrook-access')).err).toContain('came with Barrow');
    await scene.served.client.removeDevice('oddment');
    expect((await cli('family', 'remove', 'odd-things')).out).toBe('Family odd-things removed.\n');
    expect((await cli('family', 'show', 'odd-things')).code).toBe(2);
    await discover(scene.served.client, ['odd']);
    expect(await scene.served.client.device('oddment')).toMatchObject({ family: null });
  });
});
