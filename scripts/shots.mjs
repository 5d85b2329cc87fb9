// `npm run shots`: makes every picture in docs/screenshots from the demo data, at 1280x800. Needs Chromium; the terminal
// pictures also need Xvfb, xterm and ImageMagick (apt-get install xvfb xterm imagemagick).
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium } from 'playwright-core';
import { prepare, root } from './prepare.mjs';

await prepare();
const { BarrowClient } = await import('@barrow/client');
const folder = mkdtempSync(join(tmpdir(), 'barrow-shots-'));
const out = (name) => join(root, 'docs/screenshots', `${name}.png`);
const demo = spawn(
  process.execPath,
  [
    join(root, 'packages/cli/bin/barrow.js'),
    ...[
      'demo',
      '--folder',
      folder,
      '--scale',
      '10',
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
      '--http-store-listen',
      '127.0.0.1:0',
      '--control-port',
      '0',
    ],
    ...['--fault', 'gannet-sw-1=damaged-in-transit'],
  ],
  { cwd: root, stdio: ['ignore', 'pipe', 'inherit'] },
);
let said = '';
await new Promise((resolve, reject) => {
  demo.stdout.on('data', (data) => {
    said += data;
    if (said.includes('Ctrl-C')) resolve();
  });
  demo.once('exit', () => reject(new Error('the demo did not start')));
});
const data = join(folder, 'data');
const url = readFileSync(join(data, 'address'), 'utf8').trim();
const control = /happened to them: (\S+)/.exec(said)[1];
const token = readFileSync(join(data, 'token'), 'utf8').trim();
const barrow = new BarrowClient({ url, token });

const browser = await chromium.launch({
  executablePath: '/usr/bin/chromium',
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
async function shoot(name, path, { dark = false, ready, act } = {}) {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme: dark ? 'dark' : 'light' });
  await page.goto(`${url}${path}#token=${token}`);
  await page.getByText('live', { exact: true }).waitFor();
  if (ready) await page.getByText(ready).first().waitFor();
  if (act) await act(page);
  await page.evaluate(() => document.fonts.ready);
  await page.screenshot({ path: out(name) });
  await page.close();
}
async function until(so) {
  for (;;) {
    const found = await so();
    if (found) return found;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

const terminalTools = ['/usr/bin/Xvfb', '/usr/bin/xterm', '/usr/bin/import'].every(existsSync);
async function terminal(name, command) {
  if (!terminalTools) return process.stderr.write(`${name}: no Xvfb, xterm or ImageMagick here, the old picture stays\n`);
  const display = ':97';
  const xvfb = spawn('Xvfb', [display, '-screen', '0', '1280x800x24'], { stdio: 'ignore' });
  const marker = join(folder, `${name}.done`);
  const env = {
    ...process.env,
    DISPLAY: display,
    BARROW_DATA: data,
    PATH: `${join(root, 'node_modules/.bin')}:${process.env.PATH}`,
    PS1: '$ ',
  };
  await until(() => existsSync('/tmp/.X11-unix/X97'));
  const xterm = spawn(
    'xterm',
    [
      '-fa',
      'DejaVu Sans Mono',
      '-fs',
      '9.5',
      '-geometry',
      '156x46+0+0',
      '-bg',
      '#14181c',
      '-fg',
      '#e4e8ea',
      '-b',
      '12',
      '-e',
      'bash',
      '-c',
      `echo "$ ${command}"; ${command}; touch ${marker}; sleep 60`,
    ],
    { env, cwd: root, stdio: 'ignore' },
  );
  await until(() => existsSync(marker));
  await new Promise((resolve) => setTimeout(resolve, 400));
  spawnSync('import', ['-window', 'root', out(name)], { env });
  xterm.kill();
  xvfb.kill();
  await new Promise((resolve) => xvfb.once('exit', resolve));
}

try {
  // Something to tell: one phone falls silent, and one camera's clock is wrong and not told.
  for (const fault of ['eelgate-phone-2/silent', 'quay-cam-1/wrong-clock', 'quay-cam-1/hides-clock'])
    await fetch(`${control}/${fault}`, { method: 'PUT' });
  await shoot('discovery', '/discovery', {
    act: async (page) => {
      await page.getByRole('button', { name: 'Discover' }).click();
      await page.waitForFunction(() => {
        const tile = [...document.querySelectorAll('.tile')].find((t) => t.textContent.includes('as before'));
        return document.querySelector('[role=progressbar]') !== null && Number(tile?.querySelector('b')?.textContent) >= 12;
      });
    },
  });
  await until(async () => (await barrow.discovery()).state !== 'running');
  for (const fault of ['eelgate-phone-2/silent', 'quay-cam-1/wrong-clock', 'quay-cam-1/hides-clock'])
    await fetch(`${control}/${fault}`, { method: 'DELETE' });
  await barrow.discover();
  await until(async () => (await barrow.discovery()).state !== 'running');
  await shoot('devices', '/', { ready: '73 devices' });
  await shoot('map', '/map', {
    ready: '73 devices',
    act: async (page) => page.locator('.svelte-flow__edge').first().waitFor({ state: 'attached' }),
  });
  await shoot('device', `/devices/${(await barrow.device('quay-sw-1')).id}`, { ready: 'If this reboots' });
  await shoot('standing', '/standing', { ready: 'The image store lacks' });
  await shoot('images', '/images', { ready: 'tb36-6.1.2.simg' });
  await shoot('image', '/images/oc400r2-2.12.0.simg', { ready: 'Who may run it' });
  await shoot('advisories', '/advisories/OWP-2026-002', { ready: 'Cameras show their picture' });
  // A vessel's slow link, one device behind a firewall, one that asks in capital letters.
  for (const fault of ['eelgate-sw-1/replies-dropped', 'eelgate-sw-2/asks-in-capitals', 'quay-sw-4/stalls'])
    await fetch(`${control}/${fault}`, { method: 'PUT' });
  const rugged = await barrow.deliver({ image: 'tb24r-4.3.0.simg', devices: ['curlew-sw-1', 'sandpiper-sw-1'], place: 'device' });
  const wrong = await barrow.deliver({
    image: 'tb24-4.3.0.simg',
    devices: ['eelgate-sw-1', 'eelgate-sw-2', 'quay-sw-4', 'quay-sw-1'],
    place: 'device',
  });
  await until(async () =>
    (await barrow.transfers(50)).some((t) => t.state === 'moving' && t.deviceName === 'curlew-sw-1' && t.rates.length > 8),
  );
  // And the one that stands still is known to do so.
  await until(async () => (await barrow.transfers(50)).some((t) => t.deviceName === 'quay-sw-4' && t.cause !== null));
  await shoot('transfers', '/transfers', { ready: 'under way' });
  const ended = async (all) => {
    const now = (await barrow.deliveries()).filter((d) => all.some((m) => m.id === d.id));
    return now.every((d) => d.endedAt !== null) && now;
  };
  await until(() => ended(wrong));
  await shoot('staging', '/staging', { ready: 'Brought ahead' });
  const stalled = (await barrow.transfers(50)).find((t) => t.deviceName === 'quay-sw-4');
  await shoot('transfer', `/transfers/${stalled.id}`, { ready: 'asks to read' });
  await terminal('terminal-transfer', `barrow transfer show ${stalled.id} --packets 20`);
  await until(() => ended(rugged));
  for (const fault of ['eelgate-sw-1/replies-dropped', 'eelgate-sw-2/asks-in-capitals', 'quay-sw-4/stalls'])
    await fetch(`${control}/${fault}`, { method: 'DELETE' });
  // One version leaks and one has a port that comes and goes, beside twins that nobody touched; the third is merely busier.
  const ailing = { 'eelgate-sw-1': 'leaks-on-new', 'eelgate-sw-2': 'flaps-on-new', 'dunmoor-rt-1': 'busier-on-new' };
  for (const [name, fault] of Object.entries(ailing)) await fetch(`${control}/${name}/${fault}`, { method: 'PUT' });
  const early = await barrow.plan({
    name: 'Autumn trial',
    devices: [...Object.keys(ailing), 'sandpiper-sw-1'],
    waves: [{ name: 'early', devices: Object.keys(ailing) }],
    atOnce: 4,
    soakSeconds: 75,
  });
  await barrow.say(early.id, 'start', { accept: ['all'] });
  await until(async () => (await barrow.rollout(early.id)).phase === 'held');
  await shoot('soak', `/rollouts/${early.id}`, {
    ready: 'got worse',
    act: async (page) => page.locator('.soak').evaluate((e) => e.closest('section').scrollIntoView({ block: 'start' })),
  });
  await barrow.say(early.id, 'stop');
  await until(async () => (await barrow.rollout(early.id)).phase === 'ended');
  for (const [name, fault] of Object.entries(ailing)) await fetch(`${control}/${name}/${fault}`, { method: 'DELETE' });
  const plan = await barrow.plan({ name: 'Winter round', atOnce: 4, soakSeconds: 3, unsaved: 'hold' });
  await shoot('rollout-plan', `/rollouts/${plan.id}`, { ready: 'from start to end' });
  await shoot('rollout-timeline', `/rollouts/${plan.id}`, {
    ready: 'from start to end',
    act: async (page) => {
      await page.locator('.timeline').evaluate((e) => e.scrollIntoView({ block: 'center' }));
      await page.locator('.timeline .box').focus();
      for (let n = 0; n < 6; n++) await page.keyboard.press('ArrowDown');
    },
  });
  await terminal('terminal-plan', 'barrow rollout rehearse latest --chart');
  await barrow.say(plan.id, 'start', { accept: ['all'] });
  await until(async () => {
    const r = await barrow.rollout(plan.id);
    return r.totals.verified >= 5 && r.runs.some((x) => x.percent !== null && x.percent > 30);
  });
  await shoot('rollout-live', `/rollouts/${plan.id}`, { ready: 'verified' });
  await until(async () => {
    const r = await barrow.rollout(plan.id);
    return r.phase === 'held' && r.totals['under-way'] === r.runs.filter((x) => x.phase === 'ready' || x.phase === 'parked').length;
  });
  await shoot('rollout-held', `/rollouts/${plan.id}`, {
    ready: 'Held by Barrow.',
    act: async (page) => {
      await page.locator('tr.run', { hasText: 'gannet-sw-1' }).getByRole('button', { name: 'gannet-sw-1' }).click();
      await page.getByText('Conversations, secrets hidden').waitFor();
    },
  });
  await barrow.say(plan.id, 'continue');
  await until(async () => (await barrow.rollout(plan.id)).phase === 'ended');
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  await page.setContent(await barrow.reportAs(plan.id, 'html'));
  await page.screenshot({ path: out('report') });
  await page.close();
} finally {
  await browser.close();
  demo.kill('SIGTERM');
  await new Promise((resolve) => demo.once('exit', resolve));
  rmSync(folder, { recursive: true, force: true });
}
