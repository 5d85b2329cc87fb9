// Starts the service once by its own command, and keeps what the engine has compiled for it: every later start is quicker by that.
import { chmodSync, existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as later } from 'node:timers/promises';
import { pathToFileURL } from 'node:url';
import { root } from './prepare.mjs';

const data = mkdtempSync(join(tmpdir(), 'barrow-build-'));
process.once('exit', () => rmSync(data, { recursive: true, force: true }));
const anywhere = ['--listen', '--tftp-listen', '--http-store-listen'].flatMap((name) => [name, '127.0.0.1:0']);
process.argv = [process.argv[0], 'barrow', 'serve', '--data', data, '--log', 'warn', ...anywhere];

const bundles = ['cli', 'service'].map((name) => join(root, 'packages', name, 'dist/bundle'));
const load = (folder) => import(pathToFileURL(join(folder, 'quick.js')));
await load(bundles[0]);
const address = join(data, 'address');
while (!existsSync(address)) await later(20);
const [url, token] = [address, join(data, 'token')].map((file) => readFileSync(file, 'utf8').trim());
for (const path of ['/api/v1/health', '/api/v1/devices', '/api/v1/rollouts'])
  await (await fetch(url + path, { headers: { authorization: `Bearer ${token}` } })).text();
for (const folder of bundles) {
  const kept = join(folder, 'index.cjs.cache');
  writeFileSync(kept, (await load(folder)).made());
  // A service keeps all that it writes to itself; this is for everybody.
  chmodSync(kept, 0o644);
}
process.kill(process.pid, 'SIGTERM');
