import type { Browser, Page } from 'playwright-core';
import { afterAll, afterEach, describe, expect, it } from 'vitest';
import { addNetworks, type Scene, setScene } from './support/scene.js';
import { hasChromium, openBrowser } from './support/browser.js';

/** From a service that knows only where to look and how to log in, to devices that were upgraded and proven, with nothing but what the pages say. */
describe.skipIf(!hasChromium)('who has never seen it', () => {
  let scene: Scene | null = null;
  let browser: Browser | null = null;
  const begin = async (network: number): Promise<{ page: Page; image: string }> => {
    scene = await setScene({ network, only: ['quay-sw-1', 'quay-sw-2'] });
    await addNetworks(scene.served.client, scene.fleet);
    browser ??= await openBrowser();
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.setDefaultTimeout(90_000);
    await page.goto(`${scene.served.url}/#token=${scene.served.token}`);
    await page.getByRole('heading', { name: 'Before the first upgrade' }).waitFor();
    return { page, image: scene.images.find((i) => i.endsWith('images/tb24-4.3.0.simg'))! };
  };
  const proven = async (page: Page): Promise<void> => {
    await page.getByText('2 of 2 verified').first().waitFor();
    for (const device of scene!.fleet.devices) expect(device.running.version, device.options.name).toBe('4.3.0');
  };
  afterEach(async () => {
    await scene?.end();
    scene = null;
  });
  afterAll(() => browser?.close());

  it('gets there by the mouse in ten actions', async () => {
    const { page, image } = await begin(124);
    const open = (name: string | RegExp) => page.getByRole('link', { name }).first().click();
    const press = (name: string | RegExp) => page.getByRole('button', { name }).last().click();
    const actions: (() => Promise<unknown>)[] = [
      () => open('Discover what is there'),
      () => press('Discover'),
      () => open('Devices'),
      () => open('Take in the firmware files'),
      () => page.getByLabel('Image files').setInputFiles(image),
      () => press('Make 4.3.0 the target'),
      () => open('Those that are behind'),
      () => press('Plan a rollout of 2'),
      async () => {
        await page.getByLabel('Soak after a wave, minutes').fill('0');
        await press('Make the plan');
      },
      () => press('Start'),
    ];
    for (const act of actions) await act();
    expect(actions.length).toBeLessThanOrEqual(10);
    await proven(page);
    // And how it went beside what was rehearsed, read device by device.
    await page.getByText('Beside its rehearsal').click();
    const picture = page.getByRole('group', { name: /^2 devices over / });
    await picture.waitFor();
    await picture.focus();
    await picture.press('End');
    await page.getByText(/^quay-sw-\d: begun \+.+; down \+.+; ended \+.+; rehearsed \+.+ to \+/).waitFor();
    await page.getByText(/; it ended\s.+, rehearsed /).waitFor();
  });

  it('gets there by the keyboard in sixty keys', async () => {
    const { page, image } = await begin(125);
    let keys = 0;
    const key = async (...names: string[]): Promise<void> => {
      for (const name of names) {
        await page.keyboard.press(name);
        keys++;
      }
    };
    const at = () => page.evaluate(() => document.activeElement?.textContent?.trim().replace(/\s+/g, ' ') ?? '');
    /** On to what is called so, as somebody does who reads what has the focus. */
    const to = async (name: string): Promise<void> => {
      for (let n = 0; (await at()) !== name; n++) {
        expect(n, `${name} is not within ten stops; the last is ${await at()}`).toBeLessThan(10);
        await key('Tab');
      }
      await key('Enter');
    };
    await key('Tab');
    expect(await at()).toBe('Skip to the content');
    await key('Enter');
    await to('Discover');
    await page.getByRole('link', { name: 'Take in the firmware files' }).waitFor();
    await page.getByText(/^Discovery ended/).waitFor();
    await to('Take in the firmware files');
    await expect.poll(at).toBe('Images');
    const choosing = page.waitForEvent('filechooser');
    await to('Choose files');
    await (await choosing).setFiles(image);
    await page.getByRole('button', { name: 'Make 4.3.0 the target' }).waitFor();
    await to('Make 4.3.0 the target');
    await page.getByRole('link', { name: 'Those that are behind' }).waitFor();
    await to('Those that are behind');
    await expect.poll(at).toBe('Devices');
    await page.getByRole('button', { name: 'Plan a rollout of 2' }).waitFor();
    await to('Plan a rollout of 2');
    await page.getByRole('dialog').waitFor();
    await expect.poll(() => page.evaluate(() => document.activeElement?.tagName)).toBe('INPUT');
    // Its name, who goes first, how many then, and how long it soaks.
    await key('Tab', 'Tab', 'Tab', '0', 'Enter');
    await page.getByRole('button', { name: 'Start' }).waitFor();
    await to('Start');
    await proven(page);
    expect(keys).toBeLessThanOrEqual(60);
  });
});
