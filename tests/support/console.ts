import type { Page } from 'playwright-core';
import { openBrowser } from './browser.js';
import { folder, serve, type Served } from './service.js';

/** A service with nothing in it, and its console as an admin sees it. */
export interface Shown {
  readonly served: Served;
  readonly page: Page;
  /** What went wrong on its pages. */
  readonly faults: string[];
  readonly open: (path: string) => Promise<void>;
  readonly end: () => Promise<void>;
}

/** A page of the console of a service that runs already. `end`: closes it, and tells what went wrong on it. */
export async function openPage(served: Pick<Served, 'url' | 'token'>, path: string): Promise<{ page: Page; end: () => Promise<string[]> }> {
  const browser = await openBrowser();
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.setDefaultTimeout(90_000);
  const faults: string[] = [];
  page.on('pageerror', (e) => faults.push(e.message));
  await page.goto(`${served.url}${path}#token=${served.token}`);
  const end = async (): Promise<string[]> => {
    await browser.close();
    return faults;
  };
  return { page, end };
}

export async function showConsole(): Promise<Shown> {
  const data = folder();
  const served = await serve(data.path);
  const browser = await openBrowser();
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 }, acceptDownloads: true })).newPage();
  page.setDefaultTimeout(90_000);
  const faults: string[] = [];
  page.on('pageerror', (e) => faults.push(e.message));
  const open = async (path: string): Promise<void> => {
    await page.goto(`${served.url}${path}`);
    await page.getByRole('heading', { level: 1 }).waitFor();
  };
  await open(`/where#token=${served.token}`);
  const end = async (): Promise<void> => {
    await browser.close();
    await served.stop();
    data.remove();
  };
  return { served, page, faults, open, end };
}
