import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { community, sites, snmpPort } from '@barrow/standins';
import { hasChromium, openBrowser } from './support/browser.js';
import { setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

describe.skipIf(!hasChromium)('looking around in the console', () => {
  let scene: Scene;
  let browser: Browser;
  let page: Page;
  const complaints: string[] = [];
  beforeAll(async () => {
    scene = await setScene({ network: 74, whole: true });
    browser = await openBrowser();
    page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.setDefaultTimeout(90_000);
    page.on('pageerror', (error) => complaints.push(error.message));
    page.on('console', (message) => message.type() === 'error' && complaints.push(message.text()));
    await page.goto(`${scene.served.url}/where#token=${scene.served.token}`);
    await page.getByText('live', { exact: true }).waitFor();
  });
  afterAll(async () => {
    await browser?.close();
    await scene?.end();
  });
  const open = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true }).click();

  it('takes a credential and a network, and shows no secret again', async () => {
    await page.getByText('No networks yet').waitFor();
    await page.getByRole('button', { name: 'Add a credential' }).click();
    await page.getByLabel('Name').fill('by-browser');
    await page.getByLabel('Community').fill(community);
    await page.getByRole('button', { name: 'Seal it' }).click();
    await page.getByRole('cell', { name: 'by-browser', exact: true }).waitFor();
    expect(await page.content()).not.toContain(community);
    await page.getByRole('button', { name: 'Add a network' }).click();
    await page.getByLabel('Name').fill('one');
    await page.getByLabel('Site').fill('quay-house');
    await page.getByLabel('Ranges').fill('127.74.1.999');
    await page.getByRole('checkbox', { name: 'by-browser' }).check();
    await page.getByText('Ports', { exact: true }).click();
    await page.getByLabel('SNMP', { exact: true }).fill(String(snmpPort));
    await page.getByRole('button', { name: 'Add it' }).click();
    await expect.poll(() => page.getByRole('alert').innerText()).toContain('is not an IPv4 address');
    await page.getByLabel('Ranges').fill('127.74.1.11');
    await page.getByRole('button', { name: 'Add it' }).click();
    await page.getByText('1 network, 1 address').waitFor();
    await page.getByRole('button', { name: 'Remove network one' }).click();
    await page.getByRole('dialog').getByText('The devices that it found stay known').waitFor();
    await page.getByRole('button', { name: 'Remove it' }).click();
    await page.getByText('No networks yet').waitFor();
  });

  it('shows a discovery while it goes on, and what came of it', async () => {
    await addWholeNetworks(scene.served.client, 74, sites, false);
    await open('Discovery');
    await page.getByText('Nothing was looked for yet').waitFor();
    await page.getByRole('button', { name: 'Discover' }).click();
    await page.getByRole('progressbar').waitFor();
    // Nobody approved anything yet: what only a login tells, and who hangs on a controller, is not known.
    const waiting = page.getByRole('region', { name: 'Waiting for approval' });
    await page.getByText(/ended .* by /).waitFor();
    await waiting.getByRole('row', { name: /quay-wlc-1.*fennwave-controller.*SHA256:/ }).waitFor();
    // All of them, and not only those that were told of when it ended.
    await waiting.getByText('23 hosts wait for approval').waitFor();
    expect(await waiting.getByRole('button', { name: 'Approve those ticked' }).isDisabled()).toBe(true);
    await waiting.getByRole('checkbox', { name: 'All' }).check();
    await waiting.getByRole('button', { name: /^Approve \d+ and read them$/ }).click();
    await page.getByText('73 devices, those behind a parent among them').waitFor();
    await waiting.waitFor({ state: 'detached' });
    const tile = (word: string) => page.locator('.tile', { hasText: word }).locator('b').innerText();
    expect(Number(await tile('new'))).toBeGreaterThan(10);
    expect(await tile('unrecognised')).toBe('2');
    await page.getByRole('region', { name: 'Could not be read' }).getByText('127.74.4.15').first().waitFor();
    await page.getByLabel('Which').selectOption('unrecognised');
    await expect.poll(() => page.getByRole('region', { name: 'Found' }).getByRole('row').count()).toBe(3);
  });

  it('lists only the rows in view, and reaches the last by scrolling', async () => {
    await open('Devices');
    await page.getByRole('status').getByText('73 devices', { exact: true }).waitFor();
    expect(await page.getByRole('row').count()).toBeLessThan(60);
    await page.locator('.scroll').evaluate((e) => e.scrollTo(0, e.scrollHeight));
    await page.getByRole('link', { name: 'sandpiper-sw-1' }).waitFor();
    await page.getByLabel('Kind').selectOption('access-point');
    await page.getByText('11 of 73 devices').waitFor();
    await page.getByText('through quay-wlc-1').first().waitFor();
    await page.getByLabel('Kind').selectOption('');
    await page.getByLabel('Only').selectOption('firmware-unknown');
    await page.getByText('4 of 73 devices').waitFor();
    await page.getByLabel('Only').selectOption('');
  });

  it('shows one device: what goes dark, what it hangs on, and what a family file would need', async () => {
    await page.getByRole('searchbox').fill('quay-sw-1');
    await page.getByRole('link', { name: 'quay-sw-1' }).click();
    const dark = page.getByRole('region', { name: 'What goes dark' });
    await dark.getByText('9 devices go dark').waitFor();
    await dark.getByRole('link', { name: 'quay-handset-2' }).waitFor();
    await page.getByRole('button', { name: 'Blink its light' }).click();
    await page.getByText('It blinks for 30 s.').waitFor();
    expect(scene.fleet.device('quay-sw-1').counters.located).toBe(1);
    const odd = (await scene.served.client.devices({ only: 'unrecognised' })).find((d) => d.name === 'gannet-odd-1')!;
    await page.goto(`${scene.served.url}/devices/${odd.id}`);
    await page.getByText('recognise by snmp.description: it answers "weather post, pier head"').waitFor();
  });

  it('sets by hand what probes cannot know', async () => {
    await page.getByRole('button', { name: 'Set by hand' }).click();
    await page.getByLabel('Fed by').fill('gannet-sw-2:port 12');
    await page.getByLabel('Tags').fill('pier weather');
    await page.getByRole('button', { name: 'Set it' }).click();
    await page.getByRole('region', { name: 'Record' }).getByText('pier weather').waitFor();
    await page.getByRole('region', { name: 'Links' }).getByText('by-hand').waitFor();
  });

  it('draws every device of every site, and tells what one hangs on when it is looked at, by mouse or keyboard', async () => {
    await open('Map');
    await page.getByText('73 devices, 75 links, 49 feeds').waitFor();
    expect(await page.locator('a.node').count()).toBe(73);
    // All of it stands in the window without moving it.
    const canvas = (await page.locator('.canvas').boundingBox())!;
    for (const box of await Promise.all((await page.locator('a.node').all()).map((n) => n.boundingBox()))) {
      expect(box!.x).toBeGreaterThanOrEqual(canvas.x);
      expect(box!.x + box!.width).toBeLessThanOrEqual(canvas.x + canvas.width + 1);
      expect(box!.y + box!.height).toBeLessThanOrEqual(canvas.y + canvas.height + 1);
    }
    await page.locator('a[aria-label^="quay-core-1"]').focus();
    const card = page.locator('.card');
    await card.getByText('quay-core-2 bundle 1').waitFor();
    await card.getByText('20 G, 2 bundled, named').waitFor();
    await card.getByText('Power from quay-pdu-1 outlet 2 (told)').waitFor();
    await page.getByRole('button', { name: 'Fold all sites' }).click();
    await expect.poll(() => page.locator('a.node').count()).toBe(0);
    await page.getByRole('button', { name: /quay-house/ }).click();
    await expect.poll(() => page.locator('a.node').count()).toBe(31);
  });

  it('fits into 1280 by 800 on every page, and had nothing to complain about', async () => {
    for (const path of ['/where', '/discovery', '/', '/map']) {
      await page.goto(scene.served.url + path);
      await page.getByRole('heading', { level: 1 }).waitFor();
      expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(1280);
    }
    // Refused on purpose: the malformed range, and the discovery that was not there yet.
    expect(complaints.filter((c) => !/status of (422|404)/.test(c))).toEqual([]);
  });
});
