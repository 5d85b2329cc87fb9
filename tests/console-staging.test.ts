import { readFileSync } from 'node:fs';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { hasChromium, openBrowser } from './support/browser.js';
import { delivered, prepare, setScene, type Scene } from './support/scene.js';

describe.skipIf(!hasChromium)('staging and transfers in the console', () => {
  let scene: Scene;
  let browser: Browser;
  let page: Page;
  const complaints: string[] = [];
  beforeAll(async () => {
    scene = await setScene({ network: 80, only: ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'eelgate-sw-1', 'eelgate-sw-2'] });
    await prepare(scene);
    browser = await openBrowser();
    page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.setDefaultTimeout(90_000);
    page.on('pageerror', (error) => complaints.push(error.message));
    page.on('console', (message) => message.type() === 'error' && complaints.push(message.text()));
    await page.goto(`${scene.served.url}/transfers#token=${scene.served.token}`);
    await page.getByText('live', { exact: true }).waitFor();
  });
  afterAll(async () => {
    await browser?.close();
    await scene?.end();
  });
  const open = (name: string) => page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name, exact: true }).click();
  const last = async (device: string) => (await scene.served.client.transfers(1, { device }))[0]!;

  it('says what to do while nothing has moved and nothing is staged', async () => {
    await page.getByText('Nothing has moved yet').waitFor();
    await open('Staging');
    await page.getByText('Nothing was brought ahead yet').waitFor();
    await page.getByText('Nothing is offered').waitFor();
  });

  it('tries the stores', async () => {
    await page.getByRole('button', { name: 'Check the stores' }).click();
    const found = page.getByRole('status', { name: 'Stores' });
    await found.getByText('TFTP store').waitFor();
    expect(await found.getByText('a file was fetched from it').count()).toBe(2);
  });

  it('looks before it stages, stages from a dialog, and shows it done', async () => {
    await page.getByRole('button', { name: 'Stage an image…' }).click();
    const dialog = page.getByRole('dialog');
    await dialog.locator('select').selectOption({ label: 'tb24-4.3.0.simg' });
    await dialog.getByPlaceholder('names, addresses or serials').fill('quay-sw-1, quay-sw-2');
    await dialog.getByLabel('on each device, now').check();
    await dialog.getByRole('button', { name: 'Look what would happen' }).click();
    await dialog.getByText('can take it').first().waitFor();
    await dialog.getByRole('button', { name: 'Stage it' }).click();
    await dialog.waitFor({ state: 'hidden' });
    const ahead = page.getByRole('region', { name: 'Brought ahead' });
    await expect.poll(() => ahead.getByText('verified', { exact: true }).count()).toBe(2);
    expect(scene.fleet.device('quay-sw-1').persistent.store[1]).toMatchObject({ version: '4.3.0' });
  });

  it('shows in the dialog why a staging is refused, and keeps what was typed', async () => {
    await page.getByRole('button', { name: 'Stage an image…' }).click();
    const dialog = page.getByRole('dialog');
    await dialog.locator('select').selectOption({ label: 'tb24r-4.3.0.simg' });
    await dialog.getByPlaceholder('names, addresses or serials').fill('quay-sw-3');
    await dialog.getByRole('button', { name: 'Stage it' }).click();
    await dialog.getByText('tb24r-4.3.0.simg is not for quay-sw-3').waitFor();
    expect(await dialog.getByPlaceholder('names, addresses or serials').inputValue()).toBe('quay-sw-3');
    await dialog.getByRole('button', { name: 'Leave' }).click();
  });

  it('limits the link of a site, and shows what moves over it and how long it will take', async () => {
    await page
      .getByRole('row', { name: /^eelgate/ })
      .getByRole('button', { name: 'Change…' })
      .click();
    const dialog = page.getByRole('dialog');
    await dialog.getByLabel('Link, in kilobits a second').fill('16');
    await dialog.getByRole('button', { name: 'Keep' }).click();
    await page.getByRole('row', { name: /^eelgate.*16 kbit\/s/ }).waitFor();
    await scene.served.client.deliver({ image: 'tb24-4.3.0.simg', devices: ['eelgate-sw-1'], place: 'device' });
    await page.getByRole('row', { name: /^eelgate .*KiB|^eelgate .*MiB/ }).waitFor();
    await open('Transfers');
    const now = page.getByRole('region', { name: 'Under way' });
    await now.getByText('moving').waitFor();
    await now.getByRole('img', { name: /^Rate: at most/ }).waitFor();
    await now
      .getByText(/^\d+ s|^\d+ min/)
      .first()
      .waitFor();
    await scene.served.client.setSite('eelgate', { linkKilobits: null });
  });

  it('shows a transfer that is stuck while it is, with its cause and what to do, and then its story', async () => {
    scene.fleet.fault('quay-sw-3', 'stalls');
    const [d] = await scene.served.client.deliver({ image: 'tb24-4.3.0.simg', devices: ['quay-sw-3'], place: 'device' });
    await page.getByText('The transfer moved and then stood still').first().waitFor();
    await delivered(scene.served.client, [d!.id]);
    scene.fleet.fault('quay-sw-3', 'stalls', false);
    await page.getByRole('region', { name: 'Ended' }).getByRole('link', { name: 'quay-sw-3' }).click();
    await page
      .getByRole('region', { name: 'What was found' })
      .getByText(/It stands at block \d+/)
      .waitFor();
    await page.getByText('asks to read "tb24-4.3.0.simg" in octet, with blksize 1428, windowsize 4, tsize 0').waitFor();
    await page.getByText(/⋮ \d+ more passed here/).waitFor();
    const saved = page.waitForEvent('download');
    await page.getByRole('button', { name: 'Packets as pcapng' }).click();
    const file = await (await saved).path();
    expect(readFileSync(file).readUInt32LE(0)).toBe(0x0a0d0d0a);
    expect((await last('quay-sw-3')).cause?.code).toBe('transfer-stalled');
  });

  it('lets a person say whose request was refused', async () => {
    scene.fleet.fault('eelgate-sw-2', 'asks-from-elsewhere');
    const [d] = await scene.served.client.deliver({ image: 'tb24-4.3.0.simg', devices: ['eelgate-sw-2'], place: 'device' });
    await delivered(scene.served.client, [d!.id]);
    await open('Transfers');
    await page.getByRole('button', { name: 'That was this device…' }).first().click();
    const dialog = page.getByRole('dialog');
    await dialog.getByLabel('Device, by name').fill('eelgate-sw-2');
    await dialog.getByRole('button', { name: 'It was' }).click();
    await dialog.waitFor({ state: 'hidden' });
    await open('Staging');
    await page
      .getByRole('row', { name: /eelgate-sw-2/ })
      .getByRole('button', { name: 'Again' })
      .click();
    // The click is on its way: until it has come, the delivery is what it was.
    await expect.poll(async () => (await scene.served.client.deliveries()).find((one) => one.id === d!.id)?.state).toBe('verified');
  });

  it('fits into 1280 by 800 and had nothing to complain about', async () => {
    for (const path of ['/staging', '/transfers', `/transfers/${(await last('quay-sw-1')).id}`]) {
      await page.goto(`${scene.served.url}${path}`);
      await page.getByText('live', { exact: true }).waitFor();
      await page.getByRole('heading', { level: 1 }).waitFor();
      expect(await page.evaluate(() => document.documentElement.scrollWidth), path).toBeLessThanOrEqual(1280);
      expect(await page.locator('main').evaluate((m) => m.scrollWidth - m.clientWidth), path).toBeLessThanOrEqual(0);
    }
    // The browser itself tells of the staging that was refused.
    expect(complaints.filter((c) => !c.includes('422'))).toEqual([]);
  });
});
