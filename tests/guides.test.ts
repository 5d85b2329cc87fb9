import { afterEach, describe, expect, it } from 'vitest';
import { readdirSync } from 'node:fs';
import { scenario, scenarioFixtures } from '@barrow/standins';
import { isUpgradable, loadFamilies } from '@barrow/families';
import { playPage, readPage, startDemo, type Demo } from './support/guide.js';

/** Each page is followed word by word, on a demo that was just started. */
const guides: readonly (readonly [page: string, network: number, bare: boolean])[] = [
  ['README.md', 181, true],
  ['docs/plan-a-rollout.md', 182, false],
  ['docs/recover-a-device.md', 183, false],
  ['docs/maintenance-windows.md', 184, false],
  ['docs/demo-faults.md', 185, false],
  ['docs/reports.md', 186, false],
  ['docs/images.md', 188, false],
  ['docs/staging.md', 189, false],
  ['docs/discovery.md', 190, false],
  ['docs/teach-a-device-family.md', 191, false],
  ['docs/notifications.md', 193, false],
  ['docs/when-nothing-moves.md', 194, false],
];

describe('a page, followed word by word', () => {
  let demo: Demo | null = null;
  afterEach(async () => {
    await demo?.end();
    demo = null;
  });
  it.each(guides)('%s does what it says', async (page, network, bare) => {
    demo = await startDemo(network, bare);
    await playPage(readPage(page), demo);
  });
});

describe('the front page', () => {
  const page = readPage('README.md');
  it('fits 150 lines, and each guide too', () => {
    expect(page.split('\n').length).toBeLessThanOrEqual(151);
    for (const [guide] of guides) expect(readPage(guide).split('\n').length, guide).toBeLessThanOrEqual(151);
  });
  it('tells the numbers as they are', () => {
    const families = loadFamilies();
    const upgradable = [...families.values()].filter(isUpgradable).map((f) => f.family);
    expect(page).toContain(`${scenario.length + scenarioFixtures.length} simulated devices`);
    expect(page).toContain(`The demo has ${families.size} made-up device families. Barrow upgrades ${upgradable.length} of them,`);
    expect([...page.matchAll(/^\| `([a-z-]+)` \|/gm)].map((m) => m[1]).sort()).toEqual(upgradable.sort());
  });
  it('leads to every page', () => {
    const contents = readPage('docs/README.md');
    for (const file of readdirSync(new URL('../docs', import.meta.url)).filter((f) => f.endsWith('.md') && f !== 'README.md'))
      expect(contents, file).toContain(`(${file})`);
  });
});
