import { webLogin } from '@barrow/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startSnmpd, startSshd, type Daemon, type Sshd } from './support/daemons.js';
import { discover, setScene, type Scene } from './support/scene.js';
import { barrow, has } from './support/service.js';
import { addWholeNetworks } from './support/whole.js';

const cameras = ['quay-cam-1', 'quay-cam-2', 'quay-cam-3', 'eelgate-cam-1', 'eelgate-cam-2', 'gannet-cam-1', 'dunmoor-cam-1'];

describe('getting in', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({
      network: 69,
      only: ['quay-wlc-1', 'quay-ap-1', 'quay-core-1', 'quay-rec-1', 'quay-base-1', 'quay-handset-1', 'quay-sw-1', ...cameras],
    });
    await addWholeNetworks(scene.served.client, 69);
    await discover(scene.served.client);
  });
  afterAll(() => scene?.end());
  const troubles = async (address: string) => {
    const ended = await discover(scene.served.client, ['quay-house']);
    return ended.troubles.filter((t) => t.address === address).map((t) => `${t.probe}: ${t.cause}`);
  };

  it('asks the controller for a second word, and never shows it', async () => {
    const device = await scene.served.client.device('quay-wlc-1');
    expect(device.children.map((c) => c.name)).toEqual(['quay-ap-1']);
    expect(device.credentials).toMatchObject({ snmp: 'ferry-snmp', ssh: 'ferry-ssh' });
    expect(JSON.stringify(device)).not.toMatch(/spring-tide|heron-at-low-tide/);
  });

  it('remembers which credential worked, and tries it first', async () => {
    const { client } = scene.served;
    // The recorder takes only digest, the base only basic: each is remembered.
    expect((await client.device('quay-rec-1')).credentials['http']).toBe('ferry-recorder');
    expect((await client.device('quay-base-1')).credentials['http']).toBe('ferry-web');
    const recorder = scene.fleet.fixture('quay-rec-1').counters;
    const before = { ...recorder };
    await discover(client, ['quay-house']);
    expect(recorder.refusedLogins).toBe(before.refusedLogins);
    expect(recorder.logins).toBeGreaterThan(before.logins);
    expect((await client.credentials()).find((c) => c.name === 'ferry-cameras')!.devices).toBe(cameras.length);
  });

  it('tells full sessions, a slow login and a wrong password apart', async () => {
    const { fleet } = scene;
    const address = '127.69.1.5';
    await fleet.fault('quay-wlc-1', 'sessions-full');
    expect(await troubles(address)).toEqual(expect.arrayContaining(['SSH: sessions-full', 'SSH login: sessions-full']));
    await fleet.fault('quay-wlc-1', 'sessions-full', false);
    await fleet.fault('quay-wlc-1', 'slow-login');
    expect(await troubles(address)).toEqual(['SSH login: login-slow']);
    await fleet.fault('quay-wlc-1', 'slow-login', false);
    expect(await troubles(address)).toEqual([]);
    await fleet.fault('quay-wlc-1', 'refuses-login');
    expect(await troubles(address)).toEqual(['SSH login: login-refused']);
    const { refusedLogins } = fleet.fixture('quay-wlc-1').counters;
    // A refused one is not hammered, though it would work again.
    await fleet.fault('quay-wlc-1', 'refuses-login', false);
    expect(await troubles(address)).toEqual(['SSH login: login-refused']);
    expect(fleet.fixture('quay-wlc-1').counters.refusedLogins).toBe(refusedLogins);
    // What the controller does not tell any more stays as it was believed.
    expect((await scene.served.client.device('quay-ap-1')).firmware).toBe('9.4.1');
  });

  it("logs in by the camera's own clock when it tells it, and names the clock when it does not", async () => {
    const { fleet } = scene;
    await fleet.fault('quay-cam-1', 'wrong-clock');
    expect(await troubles('127.69.1.21')).toEqual([]);
    const told = (await scene.served.client.device('quay-cam-1')).observations.find((o) => o.probe === 'ONVIF')!;
    expect(told.parsed).toMatchObject({ firmware: '2.11.3', clock: '180 min off' });
    await fleet.fault('quay-cam-1', 'hides-clock');
    expect(await troubles('127.69.1.21')).toEqual(['ONVIF: clock-wrong']);
    await fleet.fault('quay-cam-1', 'wrong-clock', false);
    await fleet.fault('quay-cam-1', 'hides-clock', false);
    expect(await troubles('127.69.1.21')).toEqual([]);
  });

  it('flags a changed host key, logs in no more, and accepts it only by its name', async () => {
    const { client } = scene.served;
    const before = await client.device('quay-wlc-1');
    await scene.fleet.newHostKey('quay-wlc-1');
    const ended = await discover(client, ['quay-house']);
    expect(ended.found.find((f) => f.name === 'quay-wlc-1')!.flags.join()).toContain('host-key');
    const device = await client.device('quay-wlc-1');
    expect(device.hostKey).toBe(before.hostKey);
    expect(device.shownHostKey).not.toBe(before.hostKey);
    const wrong = await barrow(['device', 'accept-key', 'quay-wlc-1', 'SHA256:guess'], { data: scene.data });
    expect(wrong.code).toBe(4);
    expect(wrong.err).toContain(device.shownHostKey!);
    expect((await barrow(['device', 'accept-key', 'quay-wlc-1', device.shownHostKey!], { data: scene.data })).code).toBe(0);
    const after = await client.device('quay-wlc-1');
    expect(after).toMatchObject({ hostKey: device.shownHostKey, shownHostKey: null, flags: [] });
    expect((await client.deviceHistory('quay-wlc-1'))[0]).toMatchObject({ field: 'SSH host key', before: before.hostKey });
  });

  it('keeps two devices with one serial apart, and flags both', async () => {
    const { client } = scene.served;
    const [one, two] = [scene.fleet.fixture('quay-cam-2'), scene.fleet.fixture('quay-cam-3')];
    const [first, second] = [await client.device('quay-cam-2'), await client.device('quay-cam-3')];
    await two.stop();
    two.facts.serial = one.facts.serial;
    await two.start();
    await discover(client, ['quay-house']);
    const [a, b] = [await client.device(first.id), await client.device('127.69.1.23')];
    expect(b.serial).toBe(a.serial);
    expect(a.id).not.toBe(b.id);
    expect(a.address).toBe('127.69.1.22');
    expect([...a.flags, ...b.flags].map((f) => f.flag)).toContain('same-serial');
    expect((await client.devices({ only: 'flagged' })).length).toBeGreaterThan(0);
    expect(second.serial).not.toBe(first.serial);
  });

  it('stops trying a login that had worked when several devices refuse it at once, and says so', async () => {
    const refused = () => scene.fleet.fixtures.reduce((sum, f) => sum + f.counters.refusedLogins, 0);
    for (const name of cameras) await scene.fleet.fault(name, 'refuses-login');
    const before = refused();
    const ended = await discover(scene.served.client);
    expect(ended.problems.join()).toContain('credential ferry-cameras had worked and is now refused by');
    expect(refused() - before).toBeGreaterThanOrEqual(3);
    // Of two logins, that of their standard and that of their pages: the one that had worked is not tried everywhere.
    expect(refused() - before).toBeLessThan(2 * cameras.length);
    expect(ended.troubles.map((t) => t.cause)).toContain('credential-suspended');
    // What they were known to run is still believed.
    expect((await scene.served.client.device('quay-cam-1')).firmware).toBe('2.11.3');
    // A secret that is put in anew is tried at once.
    for (const name of cameras) await scene.fleet.fault(name, 'refuses-login', false);
    const again = await barrow(
      ['credential', 'add', 'ferry-cameras', '--kind', 'onvif', '--user', webLogin.user, '--secret-file', '-', '--replace'],
      { data: scene.data, input: `${webLogin.password}\n` },
    );
    expect(again.code).toBe(0);
    expect((await discover(scene.served.client)).troubles.filter((t) => t.probe === 'ONVIF')).toEqual([]);
    const wrong = await barrow(
      ['credential', 'add', 'ferry-cameras', '--kind', 'http-basic', '--user', 'x', '--secret-file', '-', '--replace'],
      {
        data: scene.data,
        input: 'x\n',
      },
    );
    expect(wrong.code).toBe(4);
    expect(wrong.err).toContain('is of kind onvif, not http-basic');
  });
});

describe('a stop', () => {
  it('ends a discovery while a device is being read, and keeps what was found', async () => {
    const scene = await setScene({ network: 75, only: ['quay-wlc-1', 'quay-sw-1'] });
    await scene.fleet.fault('quay-wlc-1', 'slow-login');
    const { client } = scene.served;
    await addWholeNetworks(client, 75, ['quay-house']);
    const running = await client.discover();
    await expect
      .poll(async () => (await client.discovery(running.id)).trying.join())
      .toMatch(/^127\.75\.1\.5\b[^,]*procedures of its family[^,]*$/);
    await client.stopDiscovery();
    const ended = await client.discovery(running.id);
    expect({ state: ended.state, trying: ended.trying }).toEqual({ state: 'stopped', trying: [] });
    expect((await client.devices()).map((d) => d.name)).toContain('quay-sw-1');
    const shown = await barrow(['discover', '--last'], { data: scene.data });
    expect(shown.out).toContain('The discovery was stopped.');
    await scene.end();
  });
});

describe('following neighbours', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({
      network: 70,
      only: [
        'quay-rt-1',
        'quay-core-1',
        'quay-core-2',
        'quay-sw-1',
        'dunmoor-rt-1',
        'dunmoor-sw-1',
        'eelgate-rt-1',
        'curlew-rt-1',
        'curlew-sw-1',
      ],
    });
    await addWholeNetworks(scene.served.client, 70, ['quay-house', 'dunmoor-depot', 'eelgate']);
  });
  afterAll(() => scene?.end());

  it('asks those that lie inside a network, round by round, and only names those outside', async () => {
    const ended = await discover(scene.served.client, ['quay-house']);
    const names = (await scene.served.client.devices()).map((d) => d.name).sort();
    expect(names).toEqual(['dunmoor-rt-1', 'dunmoor-sw-1', 'eelgate-rt-1', 'quay-core-1', 'quay-core-2', 'quay-rt-1', 'quay-sw-1'].sort());
    expect(ended.seen).toEqual([
      {
        name: 'curlew-rt-1',
        address: '127.70.6.1',
        mac: expect.any(String) as string,
        heardBy: 'eelgate-rt-1',
        port: 'line 3',
        why: 'out-of-range',
      },
    ]);
    const router = await scene.served.client.device('eelgate-rt-1');
    expect(router.strangers).toEqual([expect.objectContaining({ name: 'curlew-rt-1', addresses: ['127.70.6.1'] })]);
  });
});

describe.skipIf(!has('snmpd') || !has('sshd'))("Debian's snmpd and sshd, by standards only", () => {
  let scene: Scene;
  let snmpd: Daemon;
  let sshd: Sshd;
  const user = { name: 'watch', authKey: 'authentic-by-night', privKey: 'private-by-night', auth: 'SHA' as const };
  beforeAll(async () => {
    scene = await setScene({ network: 71, only: ['quay-sw-4'] });
    snmpd = await startSnmpd({
      address: '127.71.9.1',
      port: 16199,
      community: 'other-word',
      sysName: 'referee-1',
      sysDescr: 'A referee',
      user,
    });
    sshd = await startSshd({ address: '127.71.9.2', port: 2299 });
    const { client } = scene.served;
    await client.addCredential({
      name: 'watch3',
      kind: 'snmp-v3',
      user: user.name,
      secret: user.authKey,
      second: user.privKey,
      auth: 'sha1',
    });
    await client.addCredential({ name: 'key', kind: 'ssh-key', user: sshd.user, secret: sshd.privateKey });
    await client.addNetwork({
      name: 'referees',
      site: 'lab',
      ranges: ['127.71.9.1-9'],
      exclude: ['127.71.9.9'],
      credentials: ['watch3', 'key'],
      snmpPort: 16199,
      sshPort: 2299,
      packetsPerSecond: 2000,
    });
  });
  afterAll(async () => {
    await snmpd?.stop();
    await sshd?.stop();
    await scene?.end();
  });

  it('are found, kept with their raw answers, and recognised as far as the standards go', async () => {
    const { client } = scene.served;
    const ended = await discover(client);
    expect(ended.counts).toMatchObject({ new: 2, unrecognised: 2 });
    const byV3 = await client.device('referee-1');
    expect(byV3).toMatchObject({ family: null, site: 'lab', credentials: { snmp: 'watch3' } });
    expect(byV3.observations.map((o) => o.probe)).toContain('SNMP v3');
    const shell = await client.device('127.71.9.2');
    expect(shell.hostKey).toBe(sshd.fingerprint);
    expect(shell.observations.find((o) => o.probe === 'SSH')!.parsed['identification']).toMatch(/^SSH-2\.0-OpenSSH/);
    expect(shell.familyWouldNeed.join()).toContain('recognise by ssh.identification');
  });
});
