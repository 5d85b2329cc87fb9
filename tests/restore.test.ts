import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import type { StandIn } from '@barrow/standins';
import { barrow, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** Settings that were lost are put back: by a rung, or by a person's word; the device is asked what it truly has. */
describe('settings that were lost', () => {
  let scene: Scene;
  let client: BarrowClient;
  const device = (name: string): StandIn => scene.fleet.device(name);
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const over = (id: string): Promise<Rollout> => rolloutUntil(client, id, isAtRest);
  const upgraded = async (name: string, wayBack = true): Promise<RunView> => {
    const planned = await client.plan({ devices: [name], first: 0, wayBack, unsaved: 'save' });
    await client.say(planned.id, 'start', { accept: ['all'] });
    return (await over(planned.id)).runs[0]!;
  };

  beforeAll(async () => {
    scene = await setScene({ network: 133, scale: 100, only: ['gannet-sw-1', 'quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-rt-1'] });
    ({ client } = scene.served);
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('and the login with them: it is met as after a reset, taken back, and given what was saved', async () => {
    const sw = device('gannet-sw-1');
    const settings = [...sw.persistent.keptSettings, ...sw.unsavedSettings.added];
    sw.faults.add('returns-as-delivered');
    const planned = await client.plan({ devices: ['gannet-sw-1'], first: 0, wayBack: true, unsaved: 'save' });
    await client.say(planned.id, 'start', { accept: ['all'] });
    const done = await over(planned.id);
    const [run] = done.runs;
    sw.faults.clear();
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'recovered', cause: { code: 'login-lost' } });
    expect(run!.tried.map((t) => [t.means, t.step, t.cause.code])).toEqual([['other-slot', 'checks', 'login-refused']]);
    expect(sw.running.version).toBe('4.2.1');
    expect([...sw.settings].sort()).toEqual([...settings].sort());
    expect(sw.persistent.keptSettings).toEqual(sw.settings);
    expect(sw.persistent.delivered).toBe(false);
    // One word was told to it that nobody else may read.
    const { conversations, events } = await client.run(done.id, run!.id);
    const said = JSON.stringify([conversations, events, await client.report(done.id)]);
    expect(said).toContain('the settings, kept sealed as a backup');
    expect(said).not.toContain('tide-gannet-sw-1-7731');
    expect(said).not.toContain('as-delivered');
  });

  it('fails where the device refuses a line, and prints it', async () => {
    const sw = device('quay-sw-1');
    sw.faults.add('returns-as-delivered');
    sw.faults.add('refuses-a-setting');
    const run = await upgraded('quay-sw-1');
    sw.faults.clear();
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'failed' });
    // What it had to be brought by an image again is tried last, and ends in the same way.
    expect(run.tried.map((t) => [t.means, t.cause.code])).toContainEqual(['restore', 'settings-changed']);
  });

  it('are not put back on another version than wrote them', async () => {
    const sw = device('quay-sw-2');
    const backup = await client.takeBackup('quay-sw-2');
    expect((await upgraded('quay-sw-2')).outcome).toBe('verified');
    const refused = await cli('backup', 'restore', backup.id, '--yes');
    expect(refused).toMatchObject({ code: 4 });
    expect(refused.err).toContain('The backup was written by 4.2.1, and quay-sw-2 runs 4.3.0');
    expect(sw.running.version).toBe('4.3.0');
    // Nor by a record that is older than what the device runs: a backup is of the version that wrote it.
    sw.running = { ...sw.running, version: '4.2.1' };
    expect((await client.device('quay-sw-2')).firmware).toBe('4.3.0');
    const old = await client.takeBackup('quay-sw-2');
    expect(old.firmware).toBe('4.2.1');
    sw.settings = sw.settings.filter((line) => !line.startsWith('port 4'));
    const back = await client.restoreBackup(old.id, { look: false });
    expect(back).toMatchObject({ same: true });
    expect((await client.backups('quay-sw-2')).find((b) => b.id === back.before)).toMatchObject({ firmware: '4.2.1' });
  });

  it('are looked at before, put back by a word, and what was there is kept', async () => {
    const sw = device('quay-sw-3');
    const backup = await client.takeBackup('quay-sw-3');
    const settings = [...sw.settings];
    expect((await cli('backup', 'restore', backup.id)).out).toBe('quay-sw-3 has these settings already: nothing was changed.\n');
    sw.settings = sw.settings.filter((line) => !line.startsWith('watchword') && !line.startsWith('port 4'));
    const changed = [...sw.settings];
    const look = await cli('backup', 'restore', backup.id);
    expect(look.out).toMatch(/0 lines would go, \d+ would come:/);
    expect(look.out).toContain('+watchword ‹hidden›');
    expect(look.out).toContain(`Nothing was changed. To put them back: \`barrow backup restore ${backup.id} --yes\`.`);
    expect(sw.settings).toEqual(changed);
    sw.faults.add('refuses-a-setting');
    const part = await cli('backup', 'restore', backup.id, '--yes');
    sw.faults.clear();
    expect(part).toMatchObject({ code: 1 });
    expect(part.out).toContain('quay-sw-3 did not take all of it.');
    expect(part.out).toContain('It refused:\n  end');
    const done = await cli('backup', 'restore', backup.id, '--yes');
    expect(done, done.err).toMatchObject({ code: 0 });
    expect(sw.settings).toEqual(settings);
    expect(sw.persistent.keptSettings).toEqual(settings);
    const [, kept] = /kept as backup (b-\w+)/.exec(part.out)!;
    expect((await client.backup(kept!)).text.split('\n').filter((l) => l !== '' && !l.startsWith('!'))).toEqual(changed);
    // Who is being upgraded is left alone.
    const planned = await client.plan({ devices: ['quay-sw-3'], first: 0, unsaved: 'save' });
    await client.say(planned.id, 'start', { accept: ['all'] });
    expect(await cli('backup', 'restore', backup.id, '--yes')).toMatchObject({
      code: 4,
      err: expect.stringContaining('is in the rollout'),
    });
    await over(planned.id);
    // A family that does not say how.
    const other = await client.takeBackup('quay-rt-1');
    expect(await cli('backup', 'restore', other.id)).toMatchObject({ code: 4, err: expect.stringContaining('does not say how') });
    await expect(client.restoreBackup('b-nothing', { look: true })).rejects.toThrow();
  });
});
