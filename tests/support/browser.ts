import { existsSync } from 'node:fs';
import { chromium, type Browser } from 'playwright-core';

export const chromiumPath = '/usr/bin/chromium';
export const hasChromium = existsSync(chromiumPath);

export function openBrowser(): Promise<Browser> {
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
