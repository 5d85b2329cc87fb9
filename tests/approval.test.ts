import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { BarrowClient } from '@barrow/client';
import { authorizeKey, community, httpPort, login, raiseWord, snmpPort, sshPort, webLogin } from '@barrow/standins';
import ssh2 from 'ssh2';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { discover, setScene, type Scene } from './support/scene.js';
import { barrow } from './support/service.js';
import { addWholeNetworks } from './support/whole.js';

/** Greets as a switch of a family that is known, and keeps every password that it is told. */
async function falseSwitch(address: string): Promise<{ told: string[]; stop: () => Promise<void> }> {
  const told: string[] = [];
  const { private: hostKey } = ssh2.utils.generateKeyPairSync('ecdsa', { bits: 256 });
  const server = new ssh2.Server({ hostKeys: [hostKey], ident: 'Tarnbrook_1' }, (connection) => {
    connection.on('error', () => undefined);
    connection.on('authentication', (context) => {
      if (context.method === 'password') told.push(context.password);
      context.reject(['password']);
    });
  });
  await new Promise<void>((resolve) => server.listen(sshPort, address, resolve));
  return { told, stop: () => new Promise((resolve) => server.close(() => resolve())) };
}

/** Shows the page of a base station, and keeps every login that it is told. */
async function falsePage(address: string): Promise<{ told: string[]; stop: () => Promise<void> }> {
  const told: string[] = [];
  const server = createServer((request, response) => {
    if (request.headers.authorization) told.push(request.headers.authorization);
    const headers = { server: 'tollard-base', 'content-type': 'text/html', 'www-authenticate': 'Basic realm="base"' };
    response.writeHead(request.url === '/' ? 200 : 401, headers).end('<title>Tollard C10</title>');
  });
  await new Promise<void>((resolve) => server.listen(httpPort, address, resolve));
  expect((server.address() as AddressInfo).port).toBe(httpPort);
  return { told, stop: () => new Promise((resolve) => server.close(() => resolve())) };
}

describe('a host that nobody has approved', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 108, only: ['quay-sw-1', 'quay-wlc-1', 'quay-ap-1', 'quay-rec-1', 'quay-base-1'] });
    await addWholeNetworks(scene.served.client, 108, ['quay-house'], false);
  });
  afterAll(() => scene?.end());
  const logins = (name: string): number =>
    name === 'quay-sw-1' ? scene.fleet.device(name).counters.logins : scene.fleet.fixture(name).counters.logins;
  const run = (...argv: string[]) => barrow(argv, { data: scene.data });

  it('gets no password in a discovery, and is named with what it shows; digest and SNMP do not wait', async () => {
    const ended = await discover(scene.served.client);
    expect(['quay-sw-1', 'quay-wlc-1', 'quay-base-1'].map(logins)).toEqual([0, 0, 0]);
    expect(logins('quay-rec-1')).toBeGreaterThan(0);
    const waits = ended.troubles.filter((t) => t.cause === 'awaiting-approval');
    expect(waits.map((t) => t.address).sort()).toEqual(expect.arrayContaining(['127.108.1.5']));
    const waiting = await scene.served.client.waitingHosts();
    expect(waiting.map((h) => h.name)).toEqual(['quay-base-1', 'quay-sw-1', 'quay-wlc-1']);
    const controller = await scene.served.client.device('quay-wlc-1');
    expect(waiting[2]).toMatchObject({ device: controller.id, family: controller.family, hostKey: controller.hostKey });
    expect(controller.hostKey).toMatch(/^SHA256:/);
    // By SNMP the switch has told everything; only a run would need its login.
    expect(await scene.served.client.device('quay-sw-1')).toMatchObject({ firmware: '4.2.1', approved: null });
    const told = await run('discover', '--last');
    expect(told.out).toContain('3 hosts get no password before you approve them');
  });

  it('gets none from a backup either, and the reason is named with what to do', async () => {
    const taken = await run('backup', 'take', 'quay-sw-1');
    expect(taken.code).not.toBe(0);
    expect(taken.err).toContain('ferry-ssh was not sent to 127.108.1.11');
    expect(taken.err).toContain('barrow device approve NAME');
    expect(logins('quay-sw-1')).toBe(0);
  });

  it('is approved as it was seen, by name or in groups, and read then', async () => {
    const { client } = scene.served;
    const [base] = await client.waitingHosts();
    const { device, address, family } = base!;
    const other = await client.approveHosts([{ device, address, family, hostKey: 'SHA256:of-somebody-else' }]);
    expect(other).toEqual({ approved: [], left: [{ device: 'quay-base-1', why: expect.stringContaining('it shows host key') as string }] });
    const slips = [
      [['device', 'approve'], 'No host was named'],
      [['device', 'approve', '--network', 'curlew'], 'No host of network curlew waits'],
    ] as const;
    for (const [argv, why] of slips) {
      const slip = await run(...argv);
      expect([slip.code, slip.err]).toEqual([2, expect.stringContaining(why)]);
    }
    const one = await run('device', 'approve', 'quay-sw-1');
    expect(one.out).toContain('1 host approved. Read them now with `barrow discover quay-house`.');
    const again = await run('device', 'approve', 'quay-sw-1');
    expect([again.code, again.err]).toEqual([2, expect.stringContaining('Passwords may go to quay-sw-1 already')]);
    // One that nobody has tried a password at may be approved ahead of that.
    expect((await run('device', 'approve', 'quay-rec-1')).out).toContain('1 host approved');
    expect((await run('backup', 'take', 'quay-sw-1')).code).toBe(0);
    expect((await run('device', 'waiting', '--network', 'quay-house')).out).toMatch(/quay-wlc-1 .*SHA256:/);
    expect((await run('device', 'approve', '--network', 'quay-house')).code).toBe(0);
    await discover(client);
    expect((await client.device('quay-wlc-1')).children.map((c) => c.name)).toEqual(['quay-ap-1']);
    expect(logins('quay-base-1')).toBeGreaterThan(0);
    expect(await client.waitingHosts()).toEqual([]);
    expect((await client.deviceHistory('quay-wlc-1')).map((h) => h.field)).toContain('approved for passwords');
    expect((await run('device', 'show', 'quay-wlc-1')).out).toMatch(/approved +by first admin/);
  });

  it('is told nothing, however well it greets', async () => {
    const [shell, page] = [await falseSwitch('127.108.1.30'), await falsePage('127.108.1.29')];
    try {
      await discover(scene.served.client);
      const waiting = await scene.served.client.waitingHosts();
      expect(waiting.map((h) => [h.address, h.family])).toEqual([
        ['127.108.1.29', 'tollard-base'],
        ['127.108.1.30', 'tarnbrook-access'],
      ]);
      expect([...shell.told, ...page.told]).toEqual([]);
      // Once it is approved it is told: the check is what kept it from hearing anything.
      expect((await run('device', 'approve', '--all')).code).toBe(0);
      await discover(scene.served.client);
      expect(shell.told).toContain(login.password);
      expect(page.told).toContain(`Basic ${Buffer.from(`${webLogin.user}:${webLogin.password}`).toString('base64')}`);
    } finally {
      await shell.stop();
      await page.stop();
    }
    // Another one at the address that was approved has not its key.
    const other = await falseSwitch('127.108.1.30');
    try {
      await discover(scene.served.client);
      expect(other.told).toEqual([]);
    } finally {
      await other.stop();
    }
  });

  it('is not needed where what is found is trusted, until that discovery has ended', async () => {
    const { client } = scene.served;
    expect((await run('network', 'trust', 'quay-house')).out).toContain('are approved. All others wait for approval');
    const page = await falsePage('127.108.1.28');
    try {
      await discover(client);
      expect(page.told).not.toEqual([]);
      expect((await client.networks())[0]).toMatchObject({ trustNow: false });
    } finally {
      await page.stop();
    }
    const later = await falsePage('127.108.1.27');
    try {
      await discover(client);
      expect(later.told).toEqual([]);
    } finally {
      await later.stop();
    }
  });

  it('may be approved by an operator, who may not say where credentials are tried', async () => {
    const { token } = await scene.served.client.addToken({ name: 'mate', role: 'operator' });
    const mate = new BarrowClient({ url: scene.served.url, token });
    const network = { name: 'mine', site: 'quay-house', ranges: ['127.108.9.1'] };
    const refused = await mate.addNetwork({ ...network, credentials: ['ferry-ssh'] }).catch((error: unknown) => error);
    expect(refused).toMatchObject({ problem: { status: 403, code: 'role-too-low' } });
    expect(await mate.changeNetwork('quay-house', { trustNow: true }).catch((error: unknown) => error)).toMatchObject({
      problem: { status: 403 },
    });
    const [page] = await mate.waitingHosts();
    expect(
      (await mate.approveHosts([{ device: page!.device, address: page!.address, hostKey: null, family: page!.family }])).approved,
    ).toEqual([page!.name]);
  });
});

describe('a key', () => {
  let scene: Scene;
  const passphrase = 'low-water';
  const pair = ssh2.utils.generateKeyPairSync('ecdsa', { bits: 256, passphrase, cipher: 'aes256-cbc' });
  beforeAll(async () => {
    authorizeKey(pair.public);
    scene = await setScene({ network: 109, only: ['quay-wlc-1', 'quay-ap-1'] });
    const { client } = scene.served;
    await client.addCredential({ name: 'snmp', kind: 'snmp-v2c', secret: community });
    await client.addCredential({ name: 'key', kind: 'ssh-key', user: login.user, secret: pair.private, second: passphrase });
    await client.addNetwork({
      name: 'keyed',
      site: 'quay-house',
      ranges: ['127.109.1.5'],
      credentials: ['snmp', 'key'],
      snmpPort,
      sshPort,
      probes: ['snmp', 'ssh'],
    });
  });
  afterAll(() => scene?.end());
  const causes = async () => (await discover(scene.served.client)).troubles.map((t) => `${t.cause}: ${t.detail}`);

  it('is shown to a host that nobody has approved, since it tells nothing', async () => {
    expect(await causes()).toEqual(['no-credential: credential key has no second word, which this family asks for']);
  });

  it('with a passphrase takes the second word beside it, which waits for an approval', async () => {
    const { client } = scene.served;
    const unfit = { name: 'snmp', kind: 'snmp-v2c' as const, secret: community, raise: raiseWord };
    expect(await client.replaceCredential(unfit).catch((error: unknown) => error)).toMatchObject({
      problem: { code: 'credential-raise-unfit' },
    });
    await client.replaceCredential({
      name: 'key',
      kind: 'ssh-key',
      user: login.user,
      secret: pair.private,
      second: passphrase,
      raise: raiseWord,
    });
    expect(await causes()).toEqual([expect.stringContaining('awaiting-approval: key was not sent to 127.109.1.5')]);
    expect((await barrow(['device', 'approve', '--all'], { data: scene.data })).code).toBe(0);
    expect(await causes()).toEqual([]);
    expect((await client.device('quay-wlc-1')).children.map((c) => c.name)).toEqual(['quay-ap-1']);
  });
});
