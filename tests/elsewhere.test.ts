import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { demoCredentials, demoPorts } from '../packages/cli/dist/demo/data.js';
import { writeScenarioLibrary } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { barrow } from './support/service.js';
import { addImagesAndTargets, discover, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** An upgrade after which a device is at another address: it is found by what it is, and by nothing else. */
describe('a device that comes back at another address', () => {
  let scene: Scene;
  let client: BarrowClient;
  let rollout: Rollout;
  const runOf = (name: string): RunView => rollout.runs.find((r) => r.name === name)!;
  const returned = async (name: string): Promise<Record<string, unknown>> => {
    const { events } = await client.run(rollout.id, runOf(name).id);
    const done = events.map((e) => e.event).findLast((e) => e.kind === 'step-done' && e.step === 'return');
    return done?.kind === 'step-done' ? (done.facts ?? {}) : {};
  };

  beforeAll(async () => {
    scene = await setScene({
      network: 148,
      scale: 100,
      only: ['quay-rt-1', 'quay-core-1', 'quay-sw-1', 'quay-sw-2', 'quay-cam-1', 'eelgate-sw-1'],
    });
    ({ client } = scene.served);
    for (const one of demoCredentials) await client.addCredential(one);
    const network = { credentials: demoCredentials.map((c) => c.name), ...demoPorts, packetsPerSecond: 4000, trustNow: true };
    await client.addNetwork({ ...network, name: 'quay-house', site: 'quay-house', ranges: ['127.148.1.1-200'] });
    // The other address is none of its network.
    await client.addNetwork({ ...network, name: 'eelgate', site: 'eelgate', ranges: ['127.148.2.1-40'] });
    await discover(client);
    const library = await writeScenarioLibrary(`${scene.data}/../library`);
    for (const batch of await batchesOf(library.add, false)) await takeBatch(client, batch, {});
    await addImagesAndTargets(client, scene.images);
    await client.setTarget({ family: 'owlpane-camera', model: 'OC-400', version: '2.12.0' });
    for (const name of ['quay-sw-1', 'quay-cam-1', 'eelgate-sw-1']) await scene.fleet.fault(name, 'returns-elsewhere');
    const planned = await client.plan({
      devices: ['quay-sw-1', 'quay-sw-2', 'quay-cam-1', 'eelgate-sw-1'],
      first: 0,
      atOnce: 9,
      failureLimit: 9,
    });
    expect(planned.leftOut).toEqual([]);
    await client.say(planned.id, 'start', { accept: ['all'] });
    rollout = await rolloutUntil(client, planned.id, isAtRest);
  });
  afterAll(() => scene?.end());

  it('is found by its engine ID or its hardware address, proves itself by its serial, and is verified there', async () => {
    expect(runOf('quay-sw-1')).toMatchObject({ outcome: 'verified' });
    const engine = { address: '127.148.1.111', was: '127.148.1.11', how: expect.stringMatching(/^its (SNMP engine ID|hardware address) /) };
    expect((await returned('quay-sw-1'))['foundAt']).toEqual(engine);
    expect((await client.device('quay-sw-1')).address).toBe('127.148.1.111');
    expect((await client.deviceHistory('quay-sw-1')).find((h) => h.field === 'address')).toMatchObject({
      before: '127.148.1.11',
      after: '127.148.1.111',
    });
    expect(scene.fleet.device('quay-sw-1').counters).toMatchObject({ activations: 1, reboots: 1 });
  });

  it('is found without SNMP, too', async () => {
    expect(runOf('quay-cam-1')).toMatchObject({ outcome: 'verified' });
    expect((await returned('quay-cam-1'))['foundAt']).toMatchObject({
      address: '127.148.1.121',
      how: expect.stringMatching(/^its hardware address 06:/),
    });
  });

  it('is not looked for where nobody was told to look, and says so', async () => {
    expect(runOf('eelgate-sw-1')).toMatchObject({ outcome: 'failed', cause: { code: 'never-returned' } });
    expect(runOf('eelgate-sw-1').detail).toContain('it was found at no other address of its network');
    expect((await client.device('eelgate-sw-1')).address).toBe('127.148.2.11');
  });

  it('has a page for who stands before it: first what must not be done, then what to do', async () => {
    const page = await barrow(['rollout', 'page', rollout.id, 'eelgate-sw-1', '--url', scene.served.url, '--token', scene.served.token]);
    expect(page.code).toBe(0);
    for (const words of [
      '<meta name="viewport"',
      'Find it: eelgate-sw-1, a Tarnbrook TB-2424, serial TB244285',
      'take its power away for ten seconds',
      'kept as backup',
      'Then tell first admin',
      'found at no other address of its network',
    ])
      expect(page.out).toContain(words);
    const fine = await client.atSite(rollout.id, 'quay-sw-2');
    expect(fine).toContain('Nothing is to be done here:');
    expect(fine).not.toContain('take its power away');
    const none = await barrow(['rollout', 'page', rollout.id, 'nobody', '--url', scene.served.url, '--token', scene.served.token]);
    expect(none.err).toContain('nobody');
    expect(none.code).not.toBe(0);
  });

  it('leaves alone who came back where it was', async () => {
    expect(runOf('quay-sw-2')).toMatchObject({ outcome: 'verified' });
    expect((await returned('quay-sw-2'))['foundAt']).toBeUndefined();
  });

  it('is told to whoever follows, and stands in the report', async () => {
    const shown = await barrow([
      'rollout',
      'show',
      rollout.id,
      '--device',
      'quay-sw-1',
      '--url',
      scene.served.url,
      '--token',
      scene.served.token,
    ]);
    expect(shown.out).toMatch(/address +passed +127\.148\.1\.11 +127\.148\.1\.111 +found by its /);
  });
});
