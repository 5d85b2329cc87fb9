import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BarrowClient } from '@barrow/client';
import { snmpPort, sshPort } from '@barrow/standins';
import { barrow, type Ran } from './support/service.js';
import { discover, prepare, setScene, type Scene } from './support/scene.js';

/** A device that is gone for good: a spare gets its settings, its address, its name, and all that is known of its part. */
describe('a spare that takes the place of a device', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const machine = (name: string) => scene.fleet.device(name);
  const gone = (name: string): void => {
    machine(name).faults.add('never-returns');
    machine(name).cutPower();
  };

  beforeAll(async () => {
    scene = await setScene({ network: 153, only: ['quay-sw-1', 'quay-sw-2', 'quay-sw-4', 'quay-rt-1'], more: 3 });
    ({ client } = scene.served);
    await prepare(scene);
    await client.addNetwork({
      name: 'bench',
      site: 'bench',
      ranges: ['127.153.100.1-3', '127.153.1.39'],
      credentials: ['ferry-snmp', 'ferry-ssh'],
      snmpPort,
      sshPort,
      packetsPerSecond: 2000,
      trustNow: true,
    });
    await discover(client, ['bench']);
    for (const name of ['quay-sw-1', 'quay-sw-2']) await client.takeBackup(name);
  });
  afterAll(() => scene?.end());

  it('is refused while the device lives, for one of another make, and where nothing was saved', async () => {
    const refusal = async (...args: string[]): Promise<string> => {
      const { code, err } = await cli('device', 'swap', ...args);
      expect(code).not.toBe(0);
      return err.replace(/\s+/g, ' ');
    };
    expect(await refusal('quay-sw-1', '--for', 'more-sw-1')).toMatch(
      /quay-sw-1 answers at 127\.153\.1\.\d+(, with serial \S+)?: two would have one address/,
    );
    expect(await refusal('quay-sw-1', '--for', 'quay-rt-1')).toContain('its family is wendlock-branch, that of quay-sw-1 tarnbrook-access');
    expect(await refusal('quay-sw-1', '--for', 'quay-sw-1')).toContain('they are one device');
    expect(await refusal('more-sw-2', '--for', 'more-sw-1')).toContain('Nothing was saved of more-sw-2');
    const [ofOther] = await client.backups('quay-sw-2');
    expect(await refusal('quay-sw-1', '--for', 'more-sw-1', '--backup', ofOther!.id)).toContain('is not of quay-sw-1');
  });

  it('first is only looked at; then it has the settings, the address and the part of the one that is gone', async () => {
    gone('quay-sw-1');
    const [role, spare] = await Promise.all([client.device('quay-sw-1'), client.device('more-sw-1')]);
    await client.setDevice('quay-sw-1', { addTags: ['first-floor'] });
    const look = await cli('device', 'swap', 'quay-sw-1', '--for', 'more-sw-1');
    expect(look.code, look.err).toBe(0);
    expect(look.out).toMatch(
      /more-sw-1 \(serial \S+\) would get the settings of quay-sw-1[\s\S]*\+name quay-sw-1[\s\S]*Nothing was changed/,
    );
    // What was looked at is what is done.
    expect(look.out).toMatch(/swap quay-sw-1 --for more-sw-1 --backup b-\w+ --yes/);
    expect(machine('more-sw-1').hostname).not.toBe('quay-sw-1');

    const done = await cli('device', 'swap', 'quay-sw-1', '--for', 'more-sw-1', '--yes');
    expect(done.code, done.out + done.err).toBe(0);
    expect(done.out).toContain(`quay-sw-1 is serial ${spare.serial} now, at ${role.address}`);
    expect(machine('more-sw-1')).toMatchObject({ address: role.address, hostname: 'quay-sw-1' });
    expect(machine('more-sw-1').settings).toEqual(machine('quay-sw-1').persistent.keptSettings);
    const now = await client.device('quay-sw-1');
    expect(now).toMatchObject({ id: role.id, serial: spare.serial, mac: spare.mac, address: role.address, tags: ['first-floor'] });
    const out = await client.device(`quay-sw-1-out-${role.serial}`);
    expect(out).toMatchObject({ id: spare.id, serial: role.serial, address: null });
    const history = await client.deviceHistory('quay-sw-1');
    expect(history.map((h) => [h.field, h.before, h.after])).toContainEqual(['serial', role.serial, spare.serial]);
    expect(history.find((h) => h.field === 'serial')!.probe).toBe('swap by first admin: more-sw-1 took its place');
  });

  it('is found there by the next discovery, is no other device, and is upgraded as any', async () => {
    await discover(client);
    const all = await client.devices();
    expect(all.filter((d) => d.name === 'quay-sw-1')).toHaveLength(1);
    expect((await client.device('quay-sw-1')).flags).toEqual([]);
    const { out } = await cli('upgrade', 'quay-sw-1', '--accept', 'all');
    expect(out).toMatch(/verified/);
    expect(machine('more-sw-1').running.version).toBe('4.3.0');
  });

  it('is brought to the version of the backup first, and goes on where a swap was broken off', async () => {
    gone('quay-sw-2');
    const [upgraded] = await Promise.all([client.device('quay-sw-2')]);
    machine('more-sw-2').running = { ...machine('more-sw-2').running, version: '4.3.0' };
    const refused = await cli('device', 'swap', 'quay-sw-2', '--for', 'more-sw-2');
    expect(refused.err.replace(/\s+/g, ' ')).toMatch(
      /Nothing was swapped[\s\S]*was written by 4\.2\.1, and more-sw-2 runs 4\.3\.0[\s\S]*Bring more-sw-2 to 4\.2\.1 first/,
    );
    // Its settings were given to it, it has restarted, and nobody has written that down.
    const spare = machine('more-sw-3');
    spare.settings = [...machine('quay-sw-2').persistent.keptSettings];
    await spare.keepSettings();
    spare.restart();
    await until(() => spare.state === 'up' && spare.address === upgraded.address);
    const done = await cli('device', 'swap', 'quay-sw-2', '--for', 'more-sw-3', '--yes');
    expect(done.code, done.out + done.err).toBe(0);
    expect(spare.counters.reboots).toBe(1);
    expect((await client.device('quay-sw-2')).serial).toBe(spare.options.serial);
  });

  it('is what the demo has on its shelf, too', async () => {
    const shelf = await scene.fleet.spare();
    expect(await scene.fleet.spare()).toBe(shelf);
    await discover(client, ['bench']);
    await client.takeBackup('quay-sw-4');
    gone('quay-sw-4');
    // It was never let in: what it is, is known only in part.
    const shut = await cli('device', 'swap', 'quay-sw-4', '--for', 'quay-spare-1', '--yes');
    expect(shut).toMatchObject({ code: 4, err: expect.stringContaining('barrow device approve quay-spare-1') as string });
    expect(shut.err).toContain('its variant is not known, that of quay-sw-4 none.');
    expect((await cli('device', 'approve', 'quay-spare-1')).code).toBe(0);
    const unread = await cli('device', 'swap', 'quay-sw-4', '--for', 'quay-spare-1', '--yes');
    expect(unread).toMatchObject({ code: 4, err: expect.stringContaining('`barrow discover bench` does') as string });
    await discover(client, ['bench']);
    const done = await cli('device', 'swap', 'quay-sw-4', '--for', 'quay-spare-1', '--yes');
    expect(done.code, done.out + done.err).toBe(0);
    expect(shelf).toMatchObject({ hostname: 'quay-sw-4', address: machine('quay-sw-4').options.address });
  });

  async function until(so: () => boolean): Promise<void> {
    while (!so()) await new Promise((resolve) => setTimeout(resolve, 20));
  }
});
