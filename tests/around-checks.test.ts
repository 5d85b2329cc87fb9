import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Check, Rollout } from '@barrow/core';
import type { BarrowClient } from '@barrow/client';
import { aroundFaults, writeScenarioLibrary } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { discover, isEnded, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { demoCredentials, demoPorts } from '../packages/cli/dist/demo/data.js';
import { addWholeNetworks } from './support/whole.js';

/** What ails a device once it runs its new version: the check that finds it, the cause that it names, and what it tells. */
const found: Record<(typeof aroundFaults)[number]['fault'], [check: Check['name'], evidence: string | RegExp]> = {
  'port-down-on-new': ['ports', /^port \d+ was up and is down$/],
  'no-power-on-new': ['power', 'port 4 delivered power and does not'],
  'bundle-apart-on-new': ['aggregates', /was in bundle 1 and is in none$/],
  'routes-lost-on-new': ['routes', /^of \d at least \d were to come back$/],
  'tunnel-down-on-new': ['tunnels', 'tunnel 1 was up and is down'],
  'forwards-nothing-on-new': ['forwarding', ''],
  'clock-lost-on-new': ['clock', ''],
  'snmp-shut-on-new': ['doors', 'SNMP answered before and no longer does'],
  'picture-lost-on-new': ['picture', ''],
  'unregistered-on-new': ['calls', ''],
  'hears-nobody-on-new': ['neighbours', /^\S+ was heard on port \d+ and is not$/],
  'other-root-on-new': ['spanning tree', ''],
  'unrecorded-on-new': ['recording', /was recorded and is not$/],
  'radios-lost-on-new': ['children', /was with it and is not$/],
  'ring-open-on-new': ['ring', 'port 2 blocked, and forwards'],
  'onvif-login-lost-on-new': ['logins', 'ONVIF let its login in and does not'],
  'older-loader-on-new': ['boot loader', ''],
  'fallback-lost-on-new': ['boot list', 'it had 2 to start from, and has 1'],
  'starts-from-works-on-new': ['settings source', ''],
  'right-lost-on-new': ['licences', 'many-lans was there and is not'],
  'complains-on-new': ['log', 'lamp driver is of another release'],
};
const table = aroundFaults.map(({ device, fault, cause }) => [device, fault, found[fault][0], cause, found[fault][1]] as const);
const good = ['quay-sw-3', 'dunmoor-cam-1'];

/** An upgrade that brings the version and takes something else away: nothing of it may end verified. */
describe('what is around a device after its upgrade, against what was before', () => {
  let scene: Scene;
  let client: BarrowClient;
  let rollouts: Rollout[];
  /** Alone, since others that restart meanwhile open the ring as well. */
  const alone = ['quay-sw-2'];
  const rolloutOf = (name: string) => rollouts[alone.includes(name) ? 1 : 0]!;
  const runOf = (name: string) => rolloutOf(name).runs.find((r) => r.name === name)!;

  beforeAll(async () => {
    scene = await setScene({ network: 145, scale: 100, whole: true, more: 6, recorded: { 'quay-rec-1': ['quay-cam-1', 'quay-cam-2'] } });
    ({ client } = scene.served);
    // The cameras' version needs it.
    scene.fleet.fixture('quay-rec-1').facts.firmware = '3.9.1';
    await addWholeNetworks(client, 145);
    const credentials = demoCredentials.map((c) => c.name);
    await client.addNetwork({ name: 'more', site: 'quay-house', ranges: ['127.145.100.1-6'], credentials, ...demoPorts, trustNow: true });
    await discover(client);
    const library = await writeScenarioLibrary(`${scene.data}/../library`);
    for (const batch of await batchesOf([...scene.images.filter((i) => !/damaged|other/.test(i)), ...library.add], false))
      await takeBatch(client, batch, {});
    await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
    await client.setTarget({ family: 'wendlock-branch', version: 'R7.04' });
    await client.setTarget({ family: 'tarnbrook-core', model: 'TB-4812', version: '6.2.0' });
    await client.setTarget({ family: 'owlpane-camera', model: 'OC-400', version: '2.12.0' });
    await client.setTarget({ family: 'fennwave-controller', version: '9.5.2' });
    await client.setTarget({ family: 'tollard-desk', version: '3.0.2' });
    for (const [device, ailment] of table) await scene.fleet.fault(device, ailment);
    await scene.fleet.fault('more-sw-6', 'complains-on-new');
    const all = [...table.map(([device]) => device), ...good];
    rollouts = [];
    for (const devices of [all.filter((d) => !alone.includes(d)), alone]) {
      const plan = await client.plan({ devices, first: 0, atOnce: 20, failureLimit: 100, soakSeconds: 0 });
      expect(plan.leftOut).toEqual([]);
      await client.say(plan.id, 'start', { accept: ['all'] });
      rollouts.push(await rolloutUntil(client, plan.id, isEnded));
    }
  });
  afterAll(() => scene?.end());

  it.each(table)('%s with %s fails in its %s, and is told as %s', async (device, _ailment, name, cause, evidence) => {
    const run = runOf(device);
    expect({ outcome: run.outcome, cause: run.cause?.code, detail: run.detail }).toMatchObject({ outcome: 'failed', cause });
    const { checks } = await client.run(rolloutOf(device).id, run.id);
    // With several legs each check is named by the version that its leg brought.
    const check = checks.findLast((c) => c.name === name || c.name.endsWith(`: ${name}`))!;
    expect(check).toMatchObject({ result: 'failed', cause });
    if (evidence !== '') expect(check.evidence.join('\n')).toMatch(evidence instanceof RegExp ? new RegExp(evidence, 'm') : evidence);
    // Its version is the new one: what failed is what else was to be as before.
    expect(checks.findLast((c) => c.name.endsWith('version'))!.result).toBe('passed');
  });

  it('tries a login that is refused now twice, and not until an account is locked', () => {
    expect(scene.fleet.fixture('eelgate-cam-1').counters.refusedLogins).toBe(2);
  });

  it('compares of every device what it showed before, and nothing else', async () => {
    const namesOf = async (name: string) => (await client.run(rolloutOf(name).id, runOf(name).id)).checks.map((c) => c.name);
    expect(runOf('quay-sw-3').outcome).toBe('verified');
    expect(await namesOf('quay-sw-3')).toEqual([
      ...['serial', 'version', 'restart', 'next boot', 'boot loader', 'configuration'],
      ...[
        'doors',
        'ports',
        'power',
        'neighbours',
        'forwarding',
        'spanning tree',
        'clock',
        'boot list',
        'settings source',
        'licences',
        'log',
      ],
    ]);
    // It is read over SSH, and takes its image by its pages.
    const { checks } = await client.run(rolloutOf('quay-wlc-1').id, runOf('quay-wlc-1').id);
    expect(checks.find((c) => c.name.endsWith('logins'))).toMatchObject({ result: 'passed', before: 'HTTP', after: 'HTTP' });
    expect(runOf('dunmoor-cam-1').outcome).toBe('verified');
    expect(await namesOf('dunmoor-cam-1')).toEqual([
      'serial',
      'version',
      'restart',
      'configuration',
      'doors',
      'logins',
      'clock',
      'picture',
    ]);
  });

  it('looks at all of it anew when it is begun anew: what ails it still fails it, and what was mended is told to stand as before', async () => {
    const { id } = rolloutOf('quay-sw-1');
    const again = async () => {
      await client.sayRun(id, 'quay-sw-1', 'retry');
      const { runs } = await rolloutUntil(client, id, isEnded);
      return runs.find((r) => r.name === 'quay-sw-1')!;
    };
    const checked = async (name: string) => (await client.run(id, 'quay-sw-1')).checks.filter((c) => c.name === name);
    const { reboots } = scene.fleet.device('quay-sw-1').counters;
    for (let time = 0; time < 2; time++)
      expect(await again()).toMatchObject({ outcome: 'failed', step: 'preflight', cause: { code: 'ports-down' } });
    expect(await checked('ports')).toMatchObject([{ result: 'failed', cause: 'ports-down' }]);
    await scene.fleet.fault('quay-sw-1', 'port-down-on-new', false);
    const mended = await again();
    expect(mended).toMatchObject({ outcome: 'verified', detail: expect.stringContaining('compared again') as string });
    expect(await checked('ports')).toMatchObject([{ result: 'passed', cause: null }]);
    expect(await checked('restart')).toMatchObject([{ result: 'passed' }]);
    expect(scene.fleet.device('quay-sw-1').counters.reboots).toBe(reboots);
  });

  it('goes on with what its log complains of, once a person has accepted that for this version', async () => {
    const { id } = rolloutOf('more-sw-5');
    const line = 'log: lamp driver is of another release';
    expect(await client.expect(id, 'more-sw-5', { accept: false })).toMatchObject({ lines: [line], accepted: false });
    expect(await client.expect(id, 'more-sw-5', { accept: true })).toMatchObject({ lines: [line], accepted: true });
    const plan = await client.plan({ devices: ['more-sw-6'], soakSeconds: 0 });
    await client.say(plan.id, 'start', { accept: ['all'] });
    const { runs } = await rolloutUntil(client, plan.id, isEnded);
    expect(runs[0]).toMatchObject({ name: 'more-sw-6', outcome: 'verified' });
    const { checks } = await client.run(plan.id, runs[0]!.id);
    expect(checks.find((c) => c.name === 'log')).toMatchObject({ result: 'passed', after: '2 grave, 1 of them expected' });
  });
});
