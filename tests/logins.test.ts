import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { community, login, snmpPort, sshPort } from '@barrow/standins';
import { addImagesAndTargets, discover, isEnded, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** What is tried at a device, and what is left alone, so that no account is locked by trying. */
describe('the logins of a device', () => {
  let scene: Scene;
  const name = 'sandpiper-sw-1';
  const refused = (): number => scene.fleet.device(name).counters.refusedLogins;
  beforeAll(async () => {
    scene = await setScene({ network: 117, only: [name] });
    const { client } = scene.served;
    await client.addCredential({ name: 'snmp', kind: 'snmp-v2c', secret: community });
    await client.addCredential({ name: 'old-word', kind: 'ssh-password', user: login.user, secret: 'from-last-year' });
    await client.addCredential({ name: 'word', kind: 'ssh-password', user: login.user, secret: login.password });
    const ranges = [scene.fleet.device(name).options.address];
    const credentials = ['snmp', 'old-word', 'word'];
    await client.addNetwork({ name: 'sandpiper', site: 'sandpiper', ranges, credentials, snmpPort, sshPort, trustNow: true });
    await discover(client);
    await addImagesAndTargets(client, scene.images);
  });
  afterAll(() => scene?.end());

  it('are tried in their order, and the one that opened it goes first from then on', async () => {
    const { client } = scene.served;
    const before = refused();
    // The ruggedised switch is told from its twin by its own word, so that the discovery has logged in.
    expect(before).toBe(1);
    await client.takeBackup(name);
    expect(refused()).toBe(before);
  });

  it('that were refused there lately are left alone, also when the right one is refused', async () => {
    const { client } = scene.served;
    const before = refused();
    await scene.fleet.fault(name, 'refuses-login');
    await expect(client.takeBackup(name)).rejects.toMatchObject({ problem: { code: 'login-refused' } });
    expect(refused()).toBe(before + 1);
  });

  it('that had worked are tried again by the next word of a person, and are good again', async () => {
    const { client } = scene.served;
    await scene.fleet.fault(name, 'refuses-login', false);
    const before = refused();
    const planned = await client.plan({ devices: [name], first: 0 });
    await client.say(planned.id, 'start');
    const done = await rolloutUntil(client, planned.id, isEnded);
    expect(done.runs[0]).toMatchObject({ outcome: 'verified' });
    expect(refused()).toBe(before);
  });
});
