import { dirname, join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Check, Rollout } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { login, snmpUser, writeScenarioLibrary } from '@barrow/standins';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { barrow } from './support/service.js';

/** A release that resets settings and logins and drops a protocol, each accepted by name: it ends verified, or asks a person. */
describe('a risk that was accepted', () => {
  let scene: Scene;
  let client: BarrowClient;
  const upgrade = async (device: string): Promise<Rollout> => {
    const plan = await client.plan({ devices: [device], first: 0, soakSeconds: 0, unsaved: 'save' });
    expect(plan.hazards.map((h) => h.code)).toEqual(expect.arrayContaining(['resets', 'drops']));
    const reason = 'agreed with the harbour office <5 Dec>';
    const started = await barrow(['rollout', 'start', plan.id, '--accept', 'resets,drops', '--reason', reason, '--data', scene.data]);
    expect([started.code, started.err]).toEqual([0, '']);
    return plan;
  };
  const checksOf = async (rollout: Rollout, device: string): Promise<readonly Check[]> =>
    (await client.report(rollout.id)).runs.find((r) => r.name === device)!.checks as readonly Check[];

  beforeAll(async () => {
    scene = await setScene({ network: 172, scale: 100, only: ['gannet-sw-1', 'gannet-sw-2', 'quay-sw-1'] });
    ({ client } = scene.served);
    await prepare(scene);
    const { name: user, authKey, privKey, auth } = snmpUser;
    await client.addCredential({ name: 'ferry-snmp3', kind: 'snmp-v3', user, secret: authKey, second: privKey, auth });
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    for (const { site } of [{ site: 'gannet-point' }, { site: 'quay-house' }]) {
      const { credentials } = (await client.networks()).find((n) => n.name === site)!;
      await client.changeNetwork(site, { credentials: [...credentials, 'ferry-snmp3'] });
    }
    expect(await barrow(['image', 'add', dirname(library.major[0]!), '--data', scene.data])).toMatchObject({ code: 0 });
    await client.setTarget({ family: 'tarnbrook-access', version: '5.0.0' });
  });
  afterAll(() => scene?.end());

  it('is no failure: the device is set up again by its factory login, and verified', async () => {
    const device = scene.fleet.device('gannet-sw-1');
    const before = [...device.settings];
    const plan = await upgrade('gannet-sw-1');
    const ended = await rolloutUntil(client, plan.id, isAtRest);
    expect(ended.runs[0]!.detail).toBeNull();
    expect(ended.runs).toMatchObject([{ outcome: 'verified', target: '5.0.0' }]);
    expect(device.running.version).toBe('5.0.0');
    expect(device.persistent.delivered).toBe(false);
    expect(device.settings.filter((l) => l !== 'end')).toEqual(expect.arrayContaining(before.filter((l) => l.startsWith('port '))));
    expect(device.counters.reboots).toBe(1);
    const checks = await checksOf(ended, 'gannet-sw-1');
    expect(checks.every((c) => c.result === 'passed')).toBe(true);
    // It answers by SNMP v3 now, and what is asked that way is compared as before.
    expect(checks.map((c) => c.name)).toEqual(expect.arrayContaining(['configuration', 'doors', 'spanning tree']));
    // The report says who accepted which risk, and why.
    expect((await client.report(plan.id)).accepted).toMatchObject(
      ['resets', 'drops'].map((hazard) => ({ hazard, by: 'first admin', reason: 'agreed with the harbour office <5 Dec>' })),
    );
    expect(await client.reportAs(plan.id, 'html')).toContain('agreed with the harbour office &lt;5 Dec&gt;');
    const { credentials } = await client.device('gannet-sw-1');
    expect(JSON.stringify(credentials)).not.toContain('ferry-snmp"');
  });

  it('lets nothing else be gone', async () => {
    await scene.fleet.fault('gannet-sw-2', 'snmp-shut-on-new', true);
    await scene.fleet.fault('gannet-sw-2', 'port-down-on-new', true);
    const plan = await upgrade('gannet-sw-2');
    const ended = await rolloutUntil(client, plan.id, isAtRest);
    // SNMP as a whole is gone: only its version 2c was to go; what was asked by it cannot be compared.
    const doors = (await checksOf(ended, 'gannet-sw-2')).find((c) => c.name === 'doors')!;
    expect(doors.evidence.join()).toContain('SNMP');
  });

  it('waits for a person where the factory login is another one, and goes on at its word', async () => {
    await scene.fleet.fault('quay-sw-1', 'returns-with-other-key', true);
    const device = scene.fleet.device('quay-sw-1');
    device.factoryPassword = 'on-the-label';
    const plan = await upgrade('quay-sw-1');
    const asked = await rolloutUntil(client, plan.id, (r) => r.runs[0]!.asks !== null || isAtRest(r));
    expect(asked.runs[0]!.asks).toContain('the factory login is refused');
    expect(asked.phase).toBe('running');
    // Nothing but the factory login was tried: the device has not shown yet that it is the one.
    expect(device.counters.refusedLogins).toBeGreaterThan(0);
    expect(device.refusedUsers).not.toContain(login.user);
    // A person sets the login of the network by hand.
    device.persistent.delivered = false;
    await client.sayRun(plan.id, 'quay-sw-1', 'answer', { answer: 'done' });
    const ended = await rolloutUntil(client, plan.id, isAtRest);
    expect(ended.runs[0]!.detail).toBeNull();
    expect(ended.runs).toMatchObject([{ outcome: 'verified', target: '5.0.0' }]);
  });
});
