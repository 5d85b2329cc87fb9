import { existsSync } from 'node:fs';
import { chromium, type Browser, type BrowserContext, type BrowserContextOptions, type Page } from 'playwright-core';

export const chromiumPath = '/usr/bin/chromium';
export const hasChromium = existsSync(chromiumPath);

/** Of this process, for all the tests that it runs one after the other; it ends with the process. */
let running: Promise<Browser> | null = null;

function launch(): Promise<Browser> {
  return chromium.launch({
    executablePath: chromiumPath,
    args: [
      '--headless',
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
}

export interface OpenBrowser {
  /** A page as a person sees it who has seen nothing yet: what it keeps is its own. */
  readonly newPage: (options: BrowserContextOptions) => Promise<Page>;
  /** Closes all its pages. */
  readonly close: () => Promise<void>;
}

export async function openBrowser(): Promise<OpenBrowser> {
  const browser = await (running ??= launch());
  const contexts: BrowserContext[] = [];
  return {
    newPage: async (options) => {
      const context = await browser.newContext(options);
      contexts.push(context);
      return context.newPage();
    },
    close: async () => {
      await Promise.all(contexts.map((context) => context.close()));
    },
  };
}
