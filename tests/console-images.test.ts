import { readFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { writeScenarioLibrary, type Library } from '@barrow/standins';
import { demoTargets } from '../packages/cli/dist/demo/data.js';
import { hasChromium, openBrowser } from './support/browser.js';
import { discover, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

describe.skipIf(!hasChromium)('images and standing in the console', () => {
  let scene: Scene;
  let library: Library;
  let browser: Browser;
  let page: Page;
  const complaints: string[] = [];
  beforeAll(async () => {
    scene = await setScene({ network: 77, whole: true });
    library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    await addWholeNetworks(scene.served.client, 77);
    await discover(scene.served.client);
    browser = await openBrowser();
    page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.setDefaultTimeout(90_000);
    page.on('pageerror', (error) => complaints.push(error.message));
    page.on('console', (message) => message.type() === 'error' && complaints.push(message.text()));
    await page.goto(`${scene.served.url}/images#token=${scene.served.token}`);
    await page.getByText('live', { exact: true }).waitFor();
  });
  afterAll(async () => {
    await browser?.close();
    await scene?.end();
  });
  const open = (name: string) => page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name, exact: true }).click();

  it('takes files that are dropped on the page, with their notes, and shows how far each is', async () => {
    await page.getByText('The store is empty').waitFor();
    const dropped = library.add.filter((f) => /tb36|tb48|archive|tollard|\.zip/.test(f));
    const data = await page.evaluateHandle(
      (files) => {
        const transfer = new DataTransfer();
        for (const { name, base64 } of files) transfer.items.add(new File([Uint8Array.from(atob(base64), (c) => c.charCodeAt(0))], name));
        return transfer;
      },
      dropped.map((f) => ({ name: basename(f), base64: readFileSync(f).toString('base64') })),
    );
    await page.getByRole('region', { name: 'Add images' }).dispatchEvent('drop', { dataTransfer: data });
    const going = page.getByRole('list', { name: 'Uploads' });
    await going.getByText('tb48-6.2.0.zip was unpacked: 6 files').waitFor();
    await going.getByText('tollard-winter.tar.gz was unpacked: 10 files').waitFor();
    await expect.poll(() => going.locator('li[data-state=taken]').count()).toBe(6);
    await page.getByRole('link', { name: 'tb36-6.1.2.simg' }).first().waitFor();
    await page.getByText('9 images').waitFor();
  });

  it('shows why a file is refused, and takes the others', async () => {
    await page
      .getByLabel('Image files')
      .setInputFiles([library.wrongDigest.file, library.wrongDigest.checksums, ...library.add.filter((f) => /fc20|fa110|fa310/.test(f))]);
    const going = page.getByRole('list', { name: 'Uploads' });
    const refused = going.locator('li[data-state=refused]');
    await refused.getByText(/d40-3\.0\.3\.simg: its SHA-256 is [0-9a-f]{64}, published was/).waitFor();
    await refused.getByText('The file was damaged or replaced on its way.').waitFor();
    await expect.poll(() => going.locator('li[data-state=taken]').count()).toBe(10);
    expect((await scene.served.client.images()).length).toBe(13);
  });

  it('finds images, reads the store again, and names what has rotted', async () => {
    await page.getByRole('searchbox').fill('fc20');
    await expect.poll(() => page.getByRole('table').getByRole('link').count()).toBe(2);
    await page.getByRole('searchbox').fill('');
    await page.getByRole('button', { name: 'Read the store again' }).click();
    await page.getByText('All 13 images are as they were added.').waitFor();
  });

  it('shows the fleet against its targets as a picture, narrowed by a press, and what the store lacks', async () => {
    for (const target of demoTargets) await scene.served.client.setTarget(target);
    await open('Standing');
    const picture = page.getByRole('region', { name: 'The fleet by family and version' });
    await picture.getByRole('button', { name: /^9\.4\.1 7 .*of fennwave-ap: 1 image away/ }).click();
    await page.getByText('7 devices, chosen from 73').waitFor();
    await expect.poll(() => page.getByText('quay-wlc-1 first:').count()).toBe(7);
    await picture.getByRole('button', { name: '2.8.1 17, of tollard-desk: 2 or more images away' }).click();
    await page.getByText('17 devices, chosen from 73').waitFor();
    await page.getByRole('button', { name: 'Show all' }).click();
    await picture.getByRole('button', { name: /^blocked/ }).focus();
    await page.keyboard.press('Enter');
    await page
      .getByRole('gridcell', { name: /the store has no image of 4\.3\.0/ })
      .first()
      .waitFor();
    const lacking = page.getByRole('region', { name: 'What the store lacks' });
    await lacking.getByText('an image of 4.3.0 for TB-2424, hardware A2').waitFor();
  });

  it('sets a target and a pin in dialogs, and says why one is refused', async () => {
    await page.getByRole('button', { name: 'Set a target' }).click();
    const dialog = page.getByRole('dialog');
    await dialog.getByRole('combobox').first().selectOption('tollard-desk');
    await dialog.getByLabel('Version').fill('newest');
    await dialog.getByLabel('Tag').fill('pilot');
    await dialog.getByRole('button', { name: 'Set it' }).click();
    await expect.poll(() => dialog.getByRole('alert').innerText()).toContain('cannot read the version "newest"');
    await dialog.getByLabel('Version').fill('2.9.0');
    await dialog.getByRole('button', { name: 'Set it' }).click();
    await page.getByRole('button', { name: '18 targets' }).click();
    await page.getByRole('region', { name: 'Targets' }).getByRole('cell', { name: 'tag pilot' }).waitFor();
    await page.getByRole('button', { name: 'Pin a device' }).click();
    await dialog.getByLabel('Device').fill('quay-phone-1');
    await dialog.getByLabel('Ask again after').fill('2027-03-31');
    await dialog.getByLabel('Reason').fill('the harbour office is on the line');
    await dialog.getByRole('button', { name: 'Pin it' }).click();
    await page.getByRole('cell', { name: 'the harbour office is on the line' }).waitFor();
    expect(await scene.served.client.pins()).toMatchObject([{ name: 'quay-phone-1', version: '2.8.1' }]);
    await page.getByRole('button', { name: 'Let quay-phone-1 go' }).click();
    await page.getByRole('button', { name: '18 targets', exact: true }).waitFor();
  });

  it('shows one image: who may run it, what it breaks; its notes run nothing; and it can be withdrawn', async () => {
    const { client } = scene.served;
    const { note } = await client.image('fc20-9.6.0.simg');
    await client.setNote('fc20-9.6.0.simg', {
      ...note,
      notes: '**bold** <img src=x onerror="window.hurt=1"> [go](javascript:window.hurt=1) ![p](http://192.0.2.1/x.png)',
    });
    await open('Images');
    await page.getByRole('link', { name: 'fc20-9.6.0.simg' }).first().click();
    await page.getByText('no joining of access points older than 9.4 afterwards: FA-110: 4 devices').waitFor();
    const notes = page.getByRole('region', { name: 'Release notes' });
    await notes.locator('strong', { hasText: 'bold' }).waitFor();
    expect(await notes.locator('img, a[href^="javascript"]').count()).toBe(0);
    expect(await page.evaluate(() => (window as { hurt?: number }).hurt)).toBeUndefined();
    await page.getByRole('button', { name: 'Withdraw' }).click();
    await page.getByLabel('Why').fill('it forgets its access points');
    await page.getByRole('button', { name: 'Withdraw it' }).click();
    await page.getByText('it forgets its access points. It is never staged').waitFor();
    await open('Standing');
    await page
      .getByRole('region', { name: 'The fleet by family and version' })
      .getByRole('button', { name: /^9\.4\.1 7.*of fennwave-ap: blocked/ })
      .waitFor();
  });

  it('takes an advisory, asks what its products are, and shows the devices that it touches', async () => {
    await open('Advisories');
    await page.getByText('No advisories yet').waitFor();
    await page.getByLabel('Advisory files').setInputFiles(library.advisories.filter((f) => f.includes('tld')));
    await page.getByText('1 product to be confirmed').waitFor();
    await page.getByRole('link', { name: /TLD-2026-011/ }).click();
    await page.getByText('perhaps tollard-desk D40').waitFor();
    await page.getByRole('button', { name: 'Say what it is' }).click();
    await page.getByRole('button', { name: 'Confirm' }).click();
    await page.getByText('17 exposed').first().waitFor();
    await page
      .getByRole('gridcell', { name: /3\.0\.2, 2 images away/ })
      .first()
      .waitFor();
    await page.getByRole('link', { name: 'The fleet, most exposed first' }).click();
    await page.getByRole('region', { name: 'The fleet, most exposed first' }).getByRole('link', { name: 'quay-phone-6' }).waitFor();
  });

  it('fits into 1280 by 800 without a horizontal scroll, and had nothing to complain about', async () => {
    for (const path of ['/images', '/standing', '/advisories']) {
      await page.goto(`${scene.served.url}${path}`);
      await page.locator('table').first().waitFor();
      expect(await page.evaluate(() => document.documentElement.scrollWidth), path).toBeLessThanOrEqual(1280);
    }
    // The refusals are answered with 422, which the browser notes by itself.
    expect(complaints.filter((c) => !/status of 422/.test(c))).toEqual([]);
  });
});
