import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { writeScenarioImages } from '@barrow/standins';
import { hasChromium } from './support/browser.js';
import { showConsole, type Shown } from './support/console.js';
import type { Served } from './support/service.js';

describe.skipIf(!hasChromium)('what the command line can do, in the console', () => {
  let shown: Shown;
  const files = mkdtempSync(join(tmpdir(), 'barrow-acts-'));
  let served: Served;
  let page: Page;
  let faults: readonly string[];
  let open: Shown['open'];
  const dialog = () => page.getByRole('dialog');

  beforeAll(async () => {
    shown = await showConsole();
    ({ served, page, faults, open } = shown);
  });
  afterAll(async () => {
    await shown?.end();
    rmSync(files, { recursive: true });
  });

  it('takes a list of devices in, and shows before what that would change', async () => {
    const list = join(files, 'list.csv');
    writeFileSync(list, 'name,site,kind,serial\nquay-sw-1,quay-house,switch,S1\nquay-sw-2,quay-house,switsch,S2\n');
    await open('/');
    await page.getByRole('button', { name: 'take a list in' }).click();
    await dialog().getByLabel('File').setInputFiles(list);
    await dialog().getByRole('button', { name: 'Show what it would change' }).click();
    await dialog().getByText('1 device new, 0 changed, 0 as they are, 1 refused.').waitFor();
    await dialog().getByText('switsch').waitFor();
    expect(await served.client.devices()).toEqual([]);
    await dialog().getByRole('button', { name: 'Take it in' }).click();
    await page.getByRole('grid', { name: 'Devices' }).getByRole('link', { name: 'quay-sw-1' }).waitFor();
    expect((await served.client.devices()).map((d) => d.name)).toEqual(['quay-sw-1']);
    // What is no list is said, and the dialog stays.
    writeFileSync(list, 'name,colour\nx,red\n');
    await page.getByRole('button', { name: 'Take a list in' }).click();
    await dialog().getByLabel('File').setInputFiles(list);
    await dialog().getByRole('button', { name: 'Show what it would change' }).click();
    await dialog().getByText('There is no column "colour"').waitFor();
  });

  it('looks for devices by words of single columns, which stand in the address', async () => {
    const gear = [
      ['eelgate-sw-9', 'eelgate', 'TB-2424', '4.2.1'],
      ['quay-sw-8', 'quay-house', 'TB-2408', '4.2.1'],
      ['quay-sw-9', 'quay-house', 'TB-2424', '4.3.0'],
    ] as const;
    for (const [name, site, model, firmware] of gear)
      await served.client.enterDevice({ name, site, kind: 'switch', maker: 'Tarnbrook', model, firmware });
    await open('/');
    const grid = page.getByRole('grid', { name: 'Devices' });
    const names = () => grid.locator('tbody .name').allTextContents();
    await page.getByRole('button', { name: 'By column' }).click();
    await grid.getByLabel('Maker, model has').fill('tarnbrook TB');
    await expect.poll(names).toEqual(gear.map(([name]) => name));
    await grid.getByLabel('Firmware has').fill('4.2');
    await expect.poll(names).toEqual(['eelgate-sw-9', 'quay-sw-8']);
    await grid.getByLabel('Site has').fill('quay');
    await expect.poll(names).toEqual(['quay-sw-8']);
    await page.reload();
    await expect.poll(names).toEqual(['quay-sw-8']);
    expect(await grid.getByLabel('Maker, model has').inputValue()).toBe('tarnbrook TB');
    // Where nobody fits, what is looked for can still be changed.
    await grid.getByLabel('Firmware has').fill('5');
    await page.getByText('No device fits').waitFor();
    await grid.getByLabel('Firmware has').press('Home');
    expect(await grid.getByLabel('Firmware has').evaluate((e) => e === document.activeElement)).toBe(true);
    await grid.getByLabel('Firmware has').fill('');
    await expect.poll(names).toEqual(['quay-sw-8', 'quay-sw-9']);
    await page.getByRole('button', { name: 'By column: clear' }).click();
    await expect.poll(async () => (await names()).length).toBe((await served.client.devices()).length);
    expect(new URL(page.url()).search).toBe('');
  });

  it('takes back a target that was set or removed, but not over the head of another', async () => {
    const targets = async () => (await served.client.targets()).map((t) => t.version);
    const undo = page.getByRole('button', { name: 'Undo', exact: true });
    await served.client.setTarget({ family: 'tarnbrook-access', version: '4.2.1' });
    await open('/standing');
    await page.getByRole('button', { name: 'Set a target' }).click();
    await dialog().getByLabel('Family').first().selectOption('tarnbrook-access');
    await dialog().getByLabel('Version').first().fill('4.3.0');
    await dialog().getByRole('button', { name: 'Set it' }).click();
    await page
      .getByRole('status')
      .getByText(/is 4\.3\.0 now, it was 4\.2\.1/)
      .waitFor();
    await expect.poll(targets).toEqual(['4.3.0']);
    await undo.click();
    await expect.poll(targets).toEqual(['4.2.1']);
    await expect.poll(() => undo.count()).toBe(0);
    await page.getByRole('button', { name: '1 target' }).click();
    await page.getByRole('button', { name: /^Remove the target 4\.2\.1/ }).click();
    await expect.poll(targets).toEqual([]);
    await served.client.setTarget({ family: 'tarnbrook-access', version: '4.4.0' });
    await undo.click();
    await page.getByText('That is not taken back: first admin has set it to 4.4.0 since.').waitFor();
    expect(await targets()).toEqual(['4.4.0']);
    await page.getByRole('button', { name: 'Leave it so' }).click();
    await served.client.removeTarget((await served.client.targets())[0]!.id);
  });

  it('changes the note of an image, and says what is wrong with one', async () => {
    const image = writeScenarioImages(files).find((f) => f.endsWith('/tb24-4.3.0.simg'))!;
    await open('/images');
    await page.locator('input[type=file]').first().setInputFiles(image);
    await page.getByRole('table').getByRole('link', { name: 'tb24-4.3.0.simg' }).click();
    await page.getByRole('button', { name: 'Change its note' }).click();
    const text = dialog().getByLabel('Note');
    const note = JSON.parse(await text.inputValue()) as { fixes: string[]; reboots: number };
    await text.fill(JSON.stringify({ ...note, reboots: 99 }));
    await dialog().getByRole('button', { name: 'Put this in its place' }).click();
    await dialog().getByText('The note was not taken').waitFor();
    await text.fill(JSON.stringify({ ...note, fixes: ['the lamp on port 24 stays dark'] }));
    await dialog().getByRole('button', { name: 'Put this in its place' }).click();
    await page.getByText('the lamp on port 24 stays dark').waitFor();
  });

  it('saves the images to one archive, and takes one in', async () => {
    await open('/images');
    const saving = page.waitForEvent('download');
    await page.getByRole('button', { name: 'save all to one archive' }).click();
    const archive = join(files, 'all.tar');
    await (await saving).saveAs(archive);
    expect(readFileSync(archive).length).toBeGreaterThan(10_000);
    const [image] = await served.client.images();
    await served.client.removeImage(image!.sha256);
    await page.getByText('The store is empty').waitFor();
    await page.getByLabel('An archive').setInputFiles(archive);
    await page.getByText('1 of 1 images were new').waitFor();
    expect((await served.client.image(image!.sha256)).fixes.map((f) => f.text)).toEqual(['the lamp on port 24 stays dark']);
  });

  it('replaces the secret of a credential, and nothing else of it', async () => {
    await served.client.addCredential({ name: 'ferry', kind: 'ssh-password', user: 'barrow', secret: 'old-word' });
    await open('/where');
    await page.getByRole('button', { name: 'New secret' }).click();
    await dialog().getByText('Replace the secret of ferry').waitFor();
    expect(await dialog().getByLabel('User').inputValue()).toBe('barrow');
    expect(await dialog().getByLabel('Name').isDisabled()).toBe(true);
    await dialog().getByRole('textbox', { name: 'Password' }).fill('new-word');
    const sent = page.waitForRequest((r) => r.method() === 'PUT' && r.url().includes('/credentials/'));
    await dialog().getByRole('button', { name: 'Seal it' }).click();
    expect((await sent).postDataJSON()).toMatchObject({ kind: 'ssh-password', user: 'barrow', secret: 'new-word' });
    await dialog().waitFor({ state: 'detached' });
  });

  it('stages on those that were chosen in a list', async () => {
    await open('/');
    await page.getByRole('checkbox', { name: 'Choose quay-sw-1' }).click();
    await page.getByRole('link', { name: 'Stage' }).last().click();
    await dialog().getByText('Stage an image').waitFor();
    expect(await dialog().getByRole('textbox', { name: 'Devices' }).inputValue()).toBe('quay-sw-1');
    await dialog().getByRole('button', { name: 'Leave' }).click();
    expect(faults).toEqual([]);
  });
});
