import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Page } from 'playwright-core';
import { hasChromium } from './support/browser.js';
import { showConsole, type Shown } from './support/console.js';
import type { Served } from './support/service.js';

/** One core at each of twelve sites, switches below it, and what hangs on those. */
const list = Array.from({ length: 1560 }, (_, i) => {
  const [site, at] = [Math.floor(i / 130), i % 130];
  const name = (n: number): string => `s${site}-${n === 0 ? 'core' : n < 6 ? `sw-${n}` : `cam-${n}`}`;
  const uplink = at === 0 ? '' : at < 6 ? `${name(0)}:${at}` : `${name(1 + (at % 5))}:${at}`;
  return { name: name(at), site: `site-${site}`, kind: at < 6 ? 'switch' : 'camera', serial: `S${i}`, uplink };
});

describe.skipIf(!hasChromium)('the console with many devices', () => {
  let shown: Shown;
  let served: Served;
  let page: Page;
  let faults: readonly string[];
  let open: Shown['open'];

  beforeAll(async () => {
    shown = await showConsole();
    ({ served, page, faults, open } = shown);
    const { written } = await served.client.importDevices('json', JSON.stringify(list), false);
    expect(written).toBe(1560);
  });
  afterAll(async () => {
    await shown?.end();
  });

  it('holds only the rows that are in view, wherever in the list that is', async () => {
    await open('/');
    await page.getByRole('status').getByText('1560 devices', { exact: true }).waitFor();
    const table = page.getByRole('grid', { name: 'Devices' });
    const rows = table.locator('tbody tr[data-index]');
    expect(await rows.count()).toBeLessThan(80);
    await rows.first().focus();
    await page.keyboard.press('End');
    await table.getByRole('link', { name: 's11-sw-5', exact: true }).waitFor();
    expect(await table.locator('tr:focus').getAttribute('aria-rowindex')).toBe('1561');
    expect(await rows.count()).toBeLessThan(80);
    // In another order others are at the end.
    await page.keyboard.press('Home');
    await table.getByRole('button', { name: 'Kind' }).click();
    await page.waitForURL(/sort=kind/);
    await rows.first().focus();
    await page.keyboard.press('End');
    await table.locator('tr[aria-rowindex="1561"]').getByTitle('switch').waitFor();
  });

  it('chooses also those that are not in view: a range of them, and all', async () => {
    await open('/');
    const table = page.getByRole('grid', { name: 'Devices' });
    await table.getByRole('link', { name: 's0-cam-6', exact: true }).waitFor();
    await table.locator('tbody tr[data-index="0"]').focus();
    await page.keyboard.press(' ');
    await page.getByText('1 device chosen').waitFor();
    await page.keyboard.press('End');
    await table.locator('tr:focus[aria-rowindex="1561"] .name').waitFor();
    await page.keyboard.press('Shift+ ');
    await page.getByText('1560 devices chosen').waitFor();
    await page.getByRole('button', { name: 'Choose none' }).click();
    await page.getByLabel('Find devices').fill('core');
    await page.getByText('12 of 1560 devices').waitFor();
    await page.getByRole('checkbox', { name: 'Choose all 12 that are shown' }).click();
    await page.getByText('12 devices chosen').waitFor();
    await page.getByRole('button', { name: 'Tag' }).click();
    await page.getByRole('textbox', { name: 'Tag' }).fill('trunk');
    await page.getByRole('button', { name: 'Set the tag' }).click();
    await page.getByText('12 devices tagged.').waitFor();
    expect((await served.client.devicePage({ tag: 'trunk' })).total).toBe(12);
    await page.getByRole('button', { name: 'Choose none' }).click();
  });

  it('paints the whole map, moves it by keys, shows what is looked for and pointed at, and opens it', async () => {
    await open('/map');
    await page.getByRole('button', { name: 'Draw all sites' }).click();
    const map = page.getByRole('application', { name: /^Map of 1560 devices at 12 sites/ });
    await map.waitFor();
    expect(await page.locator('*').count()).toBeLessThan(1000);
    /** How many of its pixels have the colour of what is meant. */
    const marked = () =>
      map.locator('canvas').evaluate((canvas: HTMLCanvasElement) => {
        const probe = document.createElement('canvas').getContext('2d')!;
        probe.fillStyle = getComputedStyle(canvas).getPropertyValue('--now').trim();
        probe.fillRect(0, 0, 1, 1);
        const [r, g, b] = probe.getImageData(0, 0, 1, 1).data;
        const { data } = canvas.getContext('2d')!.getImageData(0, 0, canvas.width, canvas.height);
        let found = 0;
        for (let i = 0; i < data.length; i += 4)
          if (data[i] === r && data[i + 1] === g && data[i + 2] === b && data[i + 3] === 255) found++;
        return found;
      });
    await expect.poll(marked).toBe(0);
    await page.getByLabel('Find on the map').fill('cam');
    await expect.poll(marked).toBeGreaterThan(5000);
    const far = await marked();
    await map.focus();
    for (let n = 0; n < 3; n++) await page.keyboard.press('+');
    await expect.poll(marked).not.toBe(far);
    await page.keyboard.press('Home');
    await expect.poll(marked).toBe(far);
    // Somewhere under the pointer there is a device: it is named, and a click leads to it.
    const box = (await map.boundingBox())!;
    const card = page.locator('aside.card h2');
    for (let at = 0; at < 200 && (await card.count()) === 0; at++)
      await page.mouse.move(box.x + box.width * (0.1 + 0.004 * at), box.y + box.height * (0.1 + 0.004 * at));
    const name = (await card.textContent())!.trim();
    await page.mouse.down();
    await page.mouse.up();
    await page.getByRole('heading', { level: 1, name }).waitFor();
    expect(faults).toEqual([]);
  });
});
