import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BarrowClient } from '@barrow/client';
import { barrow } from './support/service.js';
import { discover, prepare, setScene, type Scene } from './support/scene.js';

/** What a person read off a device, and devices that are in no plan. */
describe('what a person enters of a device', () => {
  let scene: Scene;
  let client: BarrowClient;
  const cli = (...args: string[]) => barrow([...args, '--data', scene.data]);
  beforeAll(async () => {
    scene = await setScene({ network: 173, scale: 100, only: ['quay-sw-1', 'quay-sw-2'] });
    ({ client } = scene.served);
    await prepare(scene);
    await client.enterDevice({
      name: 'pier-sw',
      site: 'quay-house',
      kind: 'switch',
      family: 'tarnbrook-access',
      model: 'TB-2408',
      serial: 'PIER1',
    });
  });
  afterAll(() => scene?.end());

  it('is used, says who entered it, and is told as such', async () => {
    expect((await client.device('pier-sw')).standing).toBe('unknown');
    expect(
      await cli('device', 'set', 'pier-sw', '--firmware', 'V4.2.1 build 0419', '--hardware', 'A1', '--variant', 'plain'),
    ).toMatchObject({ code: 0 });
    const device = await client.device('pier-sw');
    expect(device).toMatchObject({ firmware: '4.2.1', hardwareRevision: 'A1', standing: 'behind' });
    expect(device.believedBy['firmware']).toMatch(/^entered by first admin on \d{4}-\d\d-\d\d$/);
    const [entry] = (await client.deeds({ most: 1 })).items;
    expect(entry).toMatchObject({ subject: 'pier-sw' });
    expect(await cli('device', 'set', 'pier-sw', '--firmware', 'nonsense')).toMatchObject({ code: 2 });
  });

  it('is replaced by what the device says', async () => {
    await client.setDevice('quay-sw-1', { firmware: '4.1.0' });
    expect((await client.device('quay-sw-1')).firmware).toBe('4.1.0');
    await discover(client);
    const device = await client.device('quay-sw-1');
    expect(device.firmware).toBe('4.2.1');
    expect(device.believedBy['firmware']).not.toContain('entered');
  });

  it('comes in by an import, and what an import ignores is said', async () => {
    const list = JSON.stringify([
      { name: 'pier-sw', serial: 'PIER1', firmware: '4.3.0', hardwareRevision: 'A2' },
      { name: 'quay-sw-2', serial: (await client.device('quay-sw-2')).serial, address: '127.40.1.999', mac: '06:00:00:00:00:01' },
    ]);
    const { rows } = await client.importDevices('json', list, false);
    expect(rows[0]).toMatchObject({ what: 'changed', detail: ['firmware 4.2.1 → 4.3.0', 'hardwareRevision A1 → A2'] });
    expect(rows[1]!.detail.join()).toMatch(
      /address "127\.40\.1\.999" is ignored: the device tells it .*mac "06:00:00:00:00:01" is ignored/,
    );
    expect(await client.device('pier-sw')).toMatchObject({ firmware: '4.3.0', hardwareRevision: 'A2' });
  });

  it('comes in from a list with semicolons; a second row for one device is refused', async () => {
    const { rows, written } = await client.importDevices('csv', 'name;serial;note\npier-sw;PIER1;by the pier\npier-sw;;twice\n', false);
    expect(rows[0]).toMatchObject({ what: 'changed', detail: ['note none → by the pier'] });
    expect([rows[1]!.what, rows[1]!.detail, written]).toEqual(['refused', ['row 1 is for the same device, pier-sw'], 1]);
  });

  it('has no address of its own, and is in no plan; no password is approved for it', async () => {
    await client.setDevice('pier-sw', { firmware: '4.2.1', hardwareRevision: 'A1' });
    const refused = await cli('rollout', 'plan', 'pier-sw');
    expect(refused.err).toContain('it has no address of its own');
    const { left } = await client.approveHosts([
      { device: (await client.device('pier-sw')).id, address: '', hostKey: null, family: 'tarnbrook-access' },
    ]);
    expect(left[0]!.why).toContain('no address of its own');
  });

  it('is retired: it stays in the records, has no target, and is in no plan', async () => {
    expect(await cli('device', 'set', 'quay-sw-2', '--retire')).toMatchObject({ code: 0 });
    expect(await client.device('quay-sw-2')).toMatchObject({ standing: 'no-target', retired: { by: 'first admin' } });
    expect((await cli('rollout', 'plan', 'quay-sw-2')).err).toContain('it was retired');
    const all = await client.plan({ site: 'quay-house' });
    expect(all.runs.map((r) => r.name)).toEqual(['quay-sw-1']);
    await discover(client);
    expect((await client.device('quay-sw-2')).retired).not.toBeNull();
    expect(await cli('device', 'set', 'quay-sw-2', '--in-service')).toMatchObject({ code: 0 });
    expect((await client.device('quay-sw-2')).standing).toBe('behind');
  });

  it('is chosen for a plan by model, kind and tag', async () => {
    await client.setDevice('quay-sw-2', { tags: ['night'] });
    const names = async (...args: string[]): Promise<string[]> => {
      const ran = await cli('rollout', 'plan', ...args, '--json');
      return ran.code === 0 ? (ran.json() as { runs: { name: string }[] }).runs.map((r) => r.name) : [];
    };
    expect(await names('--tag', 'night')).toEqual(['quay-sw-2']);
    const { model } = await client.device('quay-sw-1');
    expect(await names('--model', model!)).toContain('quay-sw-1');
    expect(await names('--kind', 'camera')).toEqual([]);
  });
});
