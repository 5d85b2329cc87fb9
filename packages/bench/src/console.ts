/// <reference lib="dom" />
import { existsSync, mkdtempSync, openAsBlob, readFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { basename, join } from 'node:path';
import { chromium, type Page } from 'playwright-core';
import { writeScenarioImages } from '@barrow/standins';
import { percentile, type Measured } from './measure.js';
import { serveForBench } from './serve.js';

const browserPath = '/usr/bin/chromium';
const [perSite, perSwitch] = [250, 24];

/** Sites of a core, access switches below it, and what hangs on those. */
function fleet(sites: number): string {
  const switches = Math.ceil(perSite / (perSwitch + 1));
  return JSON.stringify(
    Array.from({ length: sites * perSite }, (_, i) => {
      const [site, at] = [Math.floor(i / perSite), i % perSite];
      const name = (n: number): string => `site${site}-${n === 0 ? 'core' : n <= switches ? `sw-${n}` : `cam-${n}`}`;
      const isSwitch = at <= switches;
      return {
        name: name(at),
        site: `site-${String(site).padStart(2, '0')}`,
        kind: isSwitch ? 'switch' : 'camera',
        family: isSwitch ? 'tarnbrook-access' : 'owlpane-camera',
        address: `127.160.${i >> 8}.${i & 255}`,
        serial: `SN${100_000 + i}`,
        maker: isSwitch ? 'Tarnbrook' : 'Owlpane',
        model: isSwitch ? 'TB-24' : 'OC-400',
        firmware: isSwitch ? ['4.1.7', '4.2.1', '4.3.0'][i % 3] : `2.${i % 9}.0`,
        uplink: at === 0 ? '' : at <= switches ? `${name(0)}:${at}` : `${name(1 + (at % switches))}:${at % 48}`,
        tags: i % 7 === 0 ? ['lab'] : [],
      };
    }),
  );
}

async function timed(work: () => Promise<unknown>): Promise<number> {
  const from = performance.now();
  await work();
  return performance.now() - from;
}

/** From a key to the frame in which what it does is painted, for each key, in milliseconds. */
async function typing(page: Page, label: string, text: string): Promise<number[]> {
  await page.getByLabel(label, { exact: true }).focus();
  await page.evaluate(() => {
    const found = ((window as unknown as { keyed: number[] }).keyed = [] as number[]);
    document.addEventListener(
      'keydown',
      (event) => requestAnimationFrame(() => setTimeout(() => found.push(performance.now() - event.timeStamp))),
      { capture: true },
    );
  });
  for (const key of text) await page.keyboard.press(key, { delay: 60 });
  await page.waitForFunction((keys) => (window as unknown as { keyed: number[] }).keyed.length === keys, text.length);
  return page.evaluate(() => (window as unknown as { keyed: number[] }).keyed);
}

/** The console at ten thousand devices, in a real browser. */
export async function benchConsole(sites = 40): Promise<Measured[]> {
  if (!existsSync(browserPath)) {
    process.stderr.write(`The console is not measured: there is no browser at ${browserPath}; npm test installs it.\n`);
    return [];
  }
  const service = await serveForBench();
  const { client } = service;
  const browser = await chromium.launch({
    executablePath: browserPath,
    args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
  });
  const results: Measured[] = [];
  const tell = (what: string, value: number, unit: string, most: number, detail: string): void =>
    void results.push({
      what: `console at ${sites * perSite} devices: ${what}`,
      value,
      unit,
      aim: `at most ${most}`,
      met: value <= most,
      detail,
    });
  try {
    const taken = await client.importDevices('json', fleet(sites), false);
    if (taken.written !== sites * perSite) throw new Error(`only ${taken.written} devices were taken in`);
    const images = writeScenarioImages(mkdtempSync(join(tmpdir(), 'barrow-bench-images-')));
    for (const file of images.filter((i) => /\/tb24-4\.3\.0\.simg$/.test(i) && !/\/(damaged|other)\//.test(i)))
      await client.addImage({ file: basename(file), body: await openAsBlob(file) });
    await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
    await client.deviceCounts();
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
    const page = await context.newPage();
    const token = readFileSync(join(service.data, 'token'), 'utf8').trim();
    await page.goto(`${client.url}/where#token=${token}`);
    await page.getByRole('heading', { level: 1 }).waitFor();

    /** From an address to a page that can be used, fresh each time; the median of three. */
    const opened = async (path: string, ready: (page: Page) => Promise<unknown>): Promise<number> => {
      const times: number[] = [];
      for (let i = 0; i < 3; i++) {
        await page.goto('about:blank');
        times.push(await timed(() => page.goto(`${client.url}${path}`).then(() => ready(page))));
      }
      return percentile(times, 0.5) / 1000;
    };
    const nodes = (): Promise<number> => page.evaluate(() => document.querySelectorAll('*').length);
    const rows = (p: Page): Promise<unknown> => p.locator('tbody tr[data-index="5"] .name').waitFor();
    tell('Devices ready', await opened('/', rows), 's', 1.5, `${await nodes()} nodes`);
    const keys: number[] = [];
    for (let i = 0; i < 3; i++) {
      keys.push(...(await typing(page, 'Find devices', 'site7 cam-99')));
      await opened('/', rows);
    }
    tell(
      'typing to paint',
      percentile(keys, 0.95),
      'ms',
      50,
      `${keys.length} keys, 95th percentile; slowest ${Math.max(...keys).toFixed(1)} ms`,
    );
    tell('Standing ready', await opened('/standing', rows), 's', 1.5, `${await nodes()} nodes`);

    // What one changed note brings to an open page.
    await opened('/', rows);
    let octets = 0;
    const session = await context.newCDPSession(page);
    await session.send('Network.enable');
    session.on('Network.loadingFinished', ({ encodedDataLength }) => (octets += encodedDataLength));
    const [one] = (await client.devicePage({ limit: 3 })).items.slice(2);
    const answered = ['/api/v1/devices?', '/api/v1/device-counts'].map((part) => page.waitForResponse((r) => r.url().includes(part)));
    await client.setDevice(one!.id, { note: 'looked at' });
    for (const answer of answered) await (await answer).finished();
    await page.waitForTimeout(300);
    tell('a changed note', octets / 1000, 'kB', 20, 'as it goes over the wire');

    tell(
      'map, folded',
      await opened('/map', (p) =>
        p
          .getByText(`site-${String(sites - 1).padStart(2, '0')}`)
          .first()
          .waitFor(),
      ),
      's',
      2,
      `${await nodes()} nodes`,
    );
    const drawn = await timed(async () => {
      await page.getByRole('button', { name: 'Draw all sites' }).click();
      await page.getByRole('application').waitFor({ timeout: 120_000 });
      // Painted with the frame after it stands.
      await page.evaluate(() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(done)))));
    });
    tell('map, all of it drawn', drawn / 1000, 's', 5, `${await nodes()} nodes`);
    if (process.env['BARROW_BENCH_SHOT']) await page.screenshot({ path: process.env['BARROW_BENCH_SHOT'] });
    return results;
  } finally {
    await browser.close();
    await service.end();
  }
}
