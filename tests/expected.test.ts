import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { hasChromium } from './support/browser.js';
import { openPage } from './support/console.js';
import { tellTwice } from './support/twice.js';
import { barrow, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** A version that brings settings of its own: looked at once, and not told of each of forty devices. */
describe('settings that come with a version', () => {
  let scene: Scene;
  let client: BarrowClient;
  let id = '';
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  const upgraded = async (name: string): Promise<[Rollout, RunView]> => {
    const planned = await client.plan({ devices: [name], first: 0, unsaved: 'save' });
    await client.say(planned.id, 'start', { accept: ['all'] });
    const done = await rolloutUntil(client, planned.id, isAtRest);
    return [done, done.runs[0]!];
  };
  const configurationOf = async (rollout: Rollout) =>
    (await client.run(rollout.id, rollout.runs[0]!.id)).checks.find((c) => c.name === 'configuration')!;

  beforeAll(async () => {
    scene = await setScene({ network: 149, scale: 100, only: ['quay-sw-1', 'quay-sw-2', 'gannet-sw-1', 'quay-rt-1'] });
    ({ client } = scene.served);
    await prepare(scene);
    for (const device of scene.fleet.devices) device.faults.add('adds-settings-on-new');
  });
  afterAll(() => scene?.end());

  it('are told of the first device, line by line, and accepted by nobody but a person', async () => {
    const [done, run] = await upgraded('quay-sw-1');
    ({ id } = done);
    expect(run).toMatchObject({ outcome: 'failed', cause: { code: 'settings-changed' } });
    const seen = await cli('rollout', 'expect', id, 'quay-sw-1');
    expect(seen.out).toContain('2 lines of tarnbrook-access from 4.2.1 to 4.3.0 are otherwise:\n  +guard storms on\n  +guard loops on');
    expect(seen.out).toContain('Nothing was accepted.');
    expect((await cli('family', 'expected')).out).toContain(
      'No difference of settings, and no complaint of a log, is expected of any version.',
    );
    // Settings are full of secrets: what was otherwise stands sealed in the journal.
    const { events } = await client.run(id, run.id);
    const failed = events.map((e) => e.event).find((e) => e.kind === 'step-failed')!;
    expect(JSON.stringify(failed.kind === 'step-failed' && failed.facts!['settingsDiffer'])).not.toContain('guard');
    expect((await configurationOf(done)).after).toBe('0 lines gone, 2 new');
  });

  it.skipIf(!hasChromium)('are shown in the console, where they can be accepted too', async () => {
    const { page, end } = await openPage(scene.served, `/rollouts/${id}`);
    await page.getByRole('button', { name: 'Differences' }).click();
    const dialog = page.getByRole('dialog');
    await dialog.getByText('tarnbrook-access, from 4.2.1 to 4.3.0').waitFor();
    expect(await dialog.locator('pre').textContent()).toBe('+guard storms on\n+guard loops on');
    await dialog.getByRole('button', { name: 'Accept them' }).click();
    await dialog.waitFor({ state: 'detached' });
    await page.goto(`${scene.served.url}/families`);
    const section = page.getByRole('region', { name: 'What comes with a version' });
    await section.getByText('+guard storms on').waitFor();
    await section.getByRole('button', { name: 'Forget' }).click();
    await section.waitFor({ state: 'detached' });
    expect(await client.expected()).toEqual([]);
    // Who was taken back by two rungs was looked at twice, by checks of the same names.
    await tellTwice(page);
    await page.goto(`${scene.served.url}/rollouts/${id}`);
    await page.getByRole('button', { name: 'quay-sw-1', exact: true }).last().click();
    const { checks } = await client.run(id, 'quay-sw-1');
    const table = page.getByRole('table').filter({ hasText: 'serial' });
    await expect.poll(() => table.getByText(/^[✓✕] /).count()).toBe(2 * checks.length);
    expect(await end()).toEqual([]);
  });

  it('are expected of this version step once a person says so, and the device is content', async () => {
    const said = await cli('rollout', 'expect', id, 'quay-sw-1', '--yes');
    expect(said.out).toContain('2 lines of tarnbrook-access from 4.2.1 to 4.3.0 are expected from now on');
    expect((await cli('family', 'expected')).out).toMatch(
      /^tarnbrook-access from 4\.2\.1 to 4\.3\.0, accepted by first admin at .*\n {2}\+guard storms on\n {2}\+guard loops on/,
    );
    await client.sayRun(id, 'quay-sw-1', 'retry');
    const again = (await rolloutUntil(client, id, isAtRest)).runs[0]!;
    expect(again).toMatchObject({
      outcome: 'verified',
      detail: 'an earlier attempt brought 4.3.0; all that is compared was compared again',
    });
  });

  it('are not told of the next one; only what else is otherwise is', async () => {
    const [good, run] = await upgraded('quay-sw-2');
    expect(run.outcome).toBe('verified');
    expect(await configurationOf(good)).toMatchObject({ result: 'passed', after: 'the same, but 2 expected lines' });
    scene.fleet.device('gannet-sw-1').faults.add('drops-settings-on-new');
    const [bad, other] = await upgraded('gannet-sw-1');
    expect(other).toMatchObject({ outcome: 'failed', cause: { code: 'settings-changed' } });
    const check = await configurationOf(bad);
    expect(check.after).toBe('2 lines gone, 0 new besides 2 expected lines');
    expect(check.evidence.filter((l) => /^[+-]/.test(l)).every((l) => l.startsWith('-'))).toBe(true);
  });

  it('are told again where a person takes that back, and bad words are refused', async () => {
    const none = await cli('family', 'expected', '--forget', 'tarnbrook-access', '--from', '4.0.0', '--to', '4.3.0');
    expect([none.code, none.err]).toEqual([2, expect.stringContaining('no difference was accepted')]);
    expect((await cli('family', 'expected', '--forget', 'tarnbrook-access')).err).toContain('Which version step is meant is not said.');
    expect((await cli('family', 'expected', '--forget', 'tarnbrook-access', '--from', '4.2.1', '--to', '4.3.0')).out).toContain(
      'No difference',
    );
    const refused = await cli('rollout', 'expect', (await client.rollouts())[1]!.id, 'quay-sw-2');
    expect(refused.err).toContain('The settings of quay-sw-2 were not found to be otherwise in this rollout.');
    const [, router] = await upgraded('quay-rt-1');
    expect(router).toMatchObject({ outcome: 'failed', cause: { code: 'settings-changed' } });
  });
});
