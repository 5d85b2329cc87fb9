import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { barrow, barrowProcess, folder, serve, type Ran } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** What a reader of the page sees, without its marks. */
const seen = (page: string): string =>
  page
    .replace(/<style>[\s\S]*?<\/style>/, '')
    .replace(/<[^>]+>/g, ' ')
    .replace(/\s+/g, ' ');

describe('the night on paper', () => {
  let scene: Scene;
  let id: string;
  const dir = folder();
  const sheets = join(dir.path, 'sheets');
  const cli = (...args: string[]): Promise<Ran> => barrow([...args, '--url', scene.served.url, '--token', scene.served.token]);
  beforeAll(async () => {
    scene = await setScene({ network: 134, only: ['gannet-sw-1', 'quay-sw-1'] });
    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale, args: ['--sheets', sheets] });
    await prepare(scene);
    const gate = { soakSeconds: 0, approval: true };
    id = (await scene.served.client.plan({ waves: [{ name: 'first', devices: ['gannet-sw-1'] }], wayBack: true, name: 'Friday', ...gate }))
      .id;
  });
  afterAll(async () => {
    await scene?.end();
    dir.remove();
  });

  it('tells who is there, the order, the way back, what could hurt, and what to type', async () => {
    const set = await cli('site', 'set', 'gannet-point', '--contact', 'pier watch <7031> & the "harbour office"');
    expect(set.out).toContain('who is there: pier watch <7031> & the "harbour office"');
    const asked = await cli('rollout', 'sheet', id);
    expect(asked).toMatchObject({ code: 0, err: '' });
    // What a person wrote is words, and no part of the page.
    expect(asked.out).toContain('pier watch &lt;7031&gt; &amp; the &quot;harbour office&quot;');
    const text = seen(asked.out);
    expect(text).toMatch(/Friday Night sheet of rollout r-\w+ , planned by first admin\. Written .+: it is planned\./);
    expect(text).toContain('quay-house nobody said 1 of its devices');
    expect(text).toMatch(/Wave 1 · first .+ ☐ 1 \d\d:\d\d gannet-sw-1 .+ 4\.2\.1 → 4\.3\.0 .+ After it: .+ A person has to say so: ____/);
    expect(text).toMatch(/Wave 2 · rest .+ ☐ 2 \d\d:\d\d quay-sw-1 .+ waited for once more, then taken back by its other slot/);
    expect(text).toContain('What could hurt Nobody knows what these hang on, or what hangs on them gannet-sw-1, quay-sw-1: no neighbour');
    expect(text).toMatch(/activate choose the image for the next boot type: tell slots type: choose slot ‹spare\.slot›/);
    expect(text).toMatch(/type: fetch ‹storeAddress› ‹storePort› tb24r?-4\.3\.0\.simg/);
    expect(asked.out).not.toContain('undefined');
  });

  it('is put into a file, and says when it cannot be', async () => {
    const file = join(dir.path, 'night.html');
    expect(await cli('rollout', 'sheet', id, '--output', file)).toMatchObject({ code: 0, out: '', err: `Written to ${file}.\n` });
    expect(readFileSync(file, 'utf8')).toContain('<title>Night sheet: Friday</title>');
    const nowhere = await cli('rollout', 'sheet', id, '--output', join(dir.path, 'none', 'night.html'));
    expect(nowhere).toMatchObject({ code: 2, err: expect.stringContaining('its folder is not there') as string });
    expect(await cli('rollout', 'sheet', 'r-none')).toMatchObject({ code: 2 });
  });

  it('lies in the folder when the service is killed, and tells who is done and who is not', async () => {
    const path = join(sheets, `${id}.html`);
    expect(existsSync(path)).toBe(false);
    await scene.served.client.say(id, 'start', { accept: ['all'] });
    await rolloutUntil(scene.served.client, id, (r) => r.totals.verified === 1);
    const told = (): string => (existsSync(path) ? seen(readFileSync(path, 'utf8')) : '');
    await expect.poll(told).toMatch(/it is running, 1 of 2 devices have ended/);
    await scene.served.kill();
    expect(told()).toMatch(/☑ 1 \d\d:\d\d gannet-sw-1 .+ verified .+ ☐ 2 \d\d:\d\d quay-sw-1/);
    expect(existsSync(`${path}.part`)).toBe(false);
  });

  it('is refused before the start of a service that cannot write it', async () => {
    const file = join(dir.path, 'a-file');
    writeFileSync(file, '');
    const args = ['serve', '--data', join(dir.path, 'data'), '--listen', '127.0.0.1:0', '--sheets', join(file, 'sheets')];
    const refused = await barrowProcess(args);
    expect(refused.code).not.toBe(0);
    expect(refused.err).toMatch(/The night sheets cannot be written[\s\S]*ENOTDIR[\s\S]*leave it out/);
  });
});
