import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { serve } from './support/service.js';
import { addImagesAndTargets, addNetworks, loginsOf, type Scene, setScene } from './support/scene.js';
import { hasChromium, openBrowser } from './support/browser.js';

describe.skipIf(!hasChromium)('the console, in a browser', () => {
  let scene: Scene;
  let browser: Browser;
  let page: Page;
  const complaints: string[] = [];

  beforeAll(async () => {
    scene = await setScene({ network: 57, only: ['quay-sw-1', 'quay-sw-3', 'eelgate-sw-1', 'eelgate-sw-3', 'curlew-sw-1'] });
    await addNetworks(scene.served.client, scene.fleet);
    browser = await openBrowser();
    page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.setDefaultTimeout(90_000);
    page.on('pageerror', (error) => complaints.push(error.message));
    page.on('console', (message) => message.type() === 'error' && complaints.push(message.text()));
  });
  afterAll(async () => {
    await browser?.close();
    await scene?.end();
  });

  it('asks for a token, says why a wrong one is refused, and lets the right one in', async () => {
    await page.goto(scene.served.url);
    await page.getByLabel('Token').fill('barrow_wrong');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await expect.poll(() => page.getByRole('alert').innerText()).toContain('The token is not known to this service');
    await page.getByLabel('Token').fill(scene.served.token);
    await page.keyboard.press('Enter');
    await page.getByRole('heading', { name: 'Devices' }).waitFor();
    await page.getByText('first admin · admin').waitFor();
    complaints.length = 0;
  });

  it('says what to do while nothing is known, then discovers and shows the fleet', async () => {
    await page.getByText('No devices yet').waitFor();
    await page.getByRole('button', { name: 'Discover' }).click();
    await page.getByRole('link', { name: 'eelgate-sw-3' }).waitFor();
    await page.getByText('5 new').waitFor();
    await expect.poll(() => page.getByRole('row').count()).toBe(6);
    await addImagesAndTargets(scene.served.client, scene.images);
    // Live: nobody has loaded the page again.
    await page.getByRole('button', { name: 'behind 5' }).waitFor();
  });

  it('filters and sorts, by mouse and by keyboard', async () => {
    await page.getByRole('searchbox').fill('eelgate');
    await expect.poll(() => page.getByRole('row').count()).toBe(3);
    await page.getByRole('searchbox').fill('no such thing');
    await page.getByText('No device fits').waitFor();
    await page.getByRole('button', { name: 'Show all' }).click();
    await page.getByRole('button', { name: 'Serial' }).focus();
    await page.keyboard.press('Enter');
    await page.locator('th[aria-sort=ascending]', { hasText: 'Serial' }).waitFor();
    // Until the rows stand so: what is pressed while they move may be another one.
    const { items } = await scene.served.client.devicePage({ limit: 50 });
    const bySerial = [...items].sort((a, b) => (a.serial! < b.serial! ? -1 : 1)).map((d) => d.name);
    await expect.poll(() => page.locator('tbody .name').allInnerTexts()).toEqual(bySerial);
  });

  it('shows one device with its raw answers', async () => {
    await page.getByRole('link', { name: 'quay-sw-1' }).click();
    await page.getByRole('heading', { name: 'quay-sw-1' }).waitFor();
    await page.getByText('Tarnbrook TB-2424 switch, firmware 4.2.1').waitFor();
    await page.getByRole('link', { name: 'Devices' }).first().click();
  });

  it('plans in a dialog, shows the plan to be read, and begins on a press', async () => {
    const before = loginsOf(scene.fleet);
    await scene.served.client.setDevice('quay-sw-1', { tags: ['alarm'] });
    await page.getByRole('button', { name: 'Plan a rollout of 5' }).click();
    await page.getByLabel('Name').fill('from the browser');
    await page.getByLabel('Soak after a wave, minutes').fill('0');
    await page.getByRole('button', { name: 'Make the plan' }).click();
    await page.getByRole('heading', { name: 'from the browser' }).waitFor();
    await page.getByText('point of no return').waitFor();
    await page.getByText('from start to end').waitFor();
    // Who goes first is told by the picture, and by words for who goes through it by keys.
    const picture = page.getByRole('region', { name: 'Rehearsal' });
    await picture.getByRole('group', { name: /^5 devices over/ }).focus();
    await page.keyboard.press('ArrowDown');
    await picture.getByText(/^Wave 1: \+0 s to/).waitFor();
    await page.keyboard.press('End');
    await picture.getByText(/: begins \+.+; down \+.+ for .+; ends \+/).waitFor();
    await picture.getByRole('button', { name: '4 ×' }).click();
    expect(await picture.locator('[data-part=dark]').count()).toBeGreaterThan(4);
    expect(loginsOf(scene.fleet)).toEqual(before);
    scene.fleet.fault('quay-sw-1', 'damaged-in-transit');
    // What could hurt is read before, and accepted by a mark at each; without it, it does not begin.
    await page.getByRole('region', { name: 'What could hurt' }).getByText('is itself such (alarm): ask whoever answers for it').waitFor();
    await page.getByRole('button', { name: 'Start' }).click();
    const dialog = page.getByRole('dialog');
    await dialog.getByRole('button', { name: 'Accept and start' }).click();
    const mark = dialog.getByRole('checkbox', { name: /^Somebody may depend for their life/ });
    expect(await mark.evaluate((box: HTMLInputElement) => box.validity.valueMissing)).toBe(true);
    expect((await scene.served.client.rollouts())[0]!.phase).toBe('planned');
    await mark.check();
    await dialog.getByRole('button', { name: 'Accept and start' }).click();
    await page.getByText('running').first().waitFor();
  });

  it('shows it live until it is held, and names the cause and what to look at next', async () => {
    await page.getByText('Held by Barrow.').waitFor();
    await page.getByText('The device found the image damaged after it had been transferred.').first().waitFor();
    await page.getByText('Retry the transfer; if it repeats, test the link and the flash.').first().waitFor();
    await page.getByRole('row').getByRole('button', { name: 'quay-sw-1' }).click();
    await page.getByText('the file is damaged, digest differs').first().waitFor();
    await page.getByText('Conversations, secrets hidden').waitFor();
    const wave = page.getByRole('region', { name: 'Wave 2' });
    await wave.getByRole('img', { name: 'ended at step 3 of 9, transfer' }).waitFor();
  });

  it('survives a restart of the service, and goes on showing what happens', async () => {
    const { port } = new URL(scene.served.url);
    await scene.served.stop();
    await page.getByText(/is lost since .*: what is shown is\s+\d+ (s|min).* old/).waitFor();
    scene.served = await serve(scene.data, { scale: scene.scale, args: ['--listen', `127.0.0.1:${port}`] });
    await page.getByText('live', { exact: true }).waitFor();
    scene.fleet.fault('quay-sw-1', 'damaged-in-transit', false);
    await page
      .getByRole('row', { name: /quay-sw-1/ })
      .getByRole('button', { name: 'Retry' })
      .click();
    // What it will do, and to whom, is told before it is said.
    await page.getByText('quay-sw-1 is begun anew, from the first image that it was not verified on.').waitFor();
    await page.getByRole('dialog').getByRole('button', { name: 'Begin anew' }).click();
    await page.getByRole('dialog').waitFor({ state: 'detached' });
    await page.getByRole('button', { name: 'Continue' }).click();
    await page
      .getByRole('dialog')
      .getByText(/Accepts why it is held: .+ Goes on with \d+ devices? \(/)
      .waitFor();
    await page.getByRole('dialog').getByRole('button', { name: 'Go on' }).click();
    await page.getByText('4 of 5 verified, 1 not-begun').waitFor({ timeout: 90_000 });
    await page.getByText('The device has settings that were never saved').first().waitFor();
    for (const name of ['quay-sw-1', 'quay-sw-3', 'eelgate-sw-1', 'curlew-sw-1'])
      expect(scene.fleet.device(name).counters.activations, name).toBe(1);
  });

  it('opens the printable report', async () => {
    const [report] = await Promise.all([page.context().waitForEvent('page'), page.getByRole('button', { name: 'Report' }).click()]);
    await report.getByRole('heading', { name: 'Evidence, device by device' }).waitFor();
    expect(await report.title()).toBe('Report: from the browser');
    await report.close();
  });

  it('has who failed taken back on a press, and shows how far that is and what came of it', async () => {
    const { fleet, served } = scene;
    fleet.fault('eelgate-sw-3', 'drops-settings-on-new');
    await page.goto(served.url);
    await page.getByRole('button', { name: 'Plan a rollout of 1' }).click();
    await page.getByLabel('Name').fill('once more');
    await page.getByLabel('Settings on a device that nobody saved').selectOption('save');
    // Half a window is none.
    await page.getByLabel('Devices go down only from').fill('22:00');
    await page.getByRole('button', { name: 'Make the plan' }).click();
    expect(await page.getByLabel('until (empty: at any time)').evaluate((e) => (e as HTMLInputElement).validity.valueMissing)).toBe(true);
    await page.getByLabel('Devices go down only from').fill('');
    await page.getByLabel('Waves before all others, one on a line').fill('eelgate-sw-3');
    await page.getByText('A line is the name of the wave, a colon').waitFor();
    await page.getByLabel('Waves before all others, one on a line').fill('early: eelgate-sw-3');
    await page.getByLabel('Those that come after').selectOption('site');
    await page.getByRole('button', { name: 'Make the plan' }).click();
    await page
      .getByText('when you say so: waited for once more, then taken back by its other slot, then given its settings from before')
      .waitFor();
    await page.getByRole('region', { name: 'Wave 1' }).getByText('early').waitFor();
    await page.getByRole('button', { name: 'Start' }).click();
    await page.getByText('The configuration after the upgrade is not the one from before.').first().waitFor();
    await page.getByRole('button', { name: 'Take back' }).click();
    await page.getByRole('dialog').getByText('eelgate-sw-3 is taken back by its other slot, and looked at then.').waitFor();
    await page.getByRole('dialog').getByRole('button', { name: 'Take it back' }).click();
    await page.getByText('0 of 1 verified, 1 recovered').waitFor();
    await page.getByRole('row').getByRole('button', { name: 'eelgate-sw-3' }).click();
    await page.getByText('It is good again on 4.2.1, and not at its target.').waitFor();
    await page.getByText('back to 4.2.1: configuration').waitFor();
    expect(fleet.device('eelgate-sw-3').running.version).toBe('4.2.1');
    expect(fleet.device('eelgate-sw-3').counters).toMatchObject({ reboots: 2, restartsInWrite: 0 });
    fleet.fault('eelgate-sw-3', 'drops-settings-on-new', false);
  });

  it('plans what is left of a rollout anew, and offers the way back of what it brought', async () => {
    await page.getByRole('button', { name: 'Plan the rest' }).click();
    await page.getByRole('dialog', { name: 'Plan a rollout of 1 device' }).waitFor();
    await page.getByRole('button', { name: 'Make the plan' }).click();
    await page.getByRole('heading', { name: 'rest of once more' }).waitFor();
    await page.getByRole('link', { name: 'Rollouts' }).first().click();
    await page.getByRole('link', { name: 'from the browser' }).click();
    await page.getByRole('button', { name: 'Plan the way back' }).click();
    await page.getByRole('dialog', { name: 'Plan the way back of 4 devices' }).waitFor();
    await page.keyboard.press('Escape');
    await page.getByRole('dialog').waitFor({ state: 'hidden' });
  });

  it('is dark when asked, and remembers it', async () => {
    await page.getByRole('button', { name: 'Dark colours' }).click();
    await page.reload();
    expect(await page.evaluate(() => document.documentElement.dataset['mode'])).toBe('dark');
  });

  it('fits into 1280 by 800 without a horizontal scroll, and had nothing to complain about', async () => {
    for (const path of ['/', '/rollouts']) {
      await page.goto(`${scene.served.url}${path}`);
      await page.locator('table').waitFor();
      expect(await page.evaluate(() => document.documentElement.scrollWidth), path).toBeLessThanOrEqual(1280);
    }
    // A refused connection while the service was down is the browser's own line, and expected once.
    expect(
      complaints.filter((c) => !/ERR_CONNECTION_REFUSED|ERR_INCOMPLETE_CHUNKED|ERR_CONNECTION_RESET|ERR_EMPTY_RESPONSE/.test(c)),
    ).toEqual([]);
  });
});
