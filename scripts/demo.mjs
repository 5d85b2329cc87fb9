// `npm run demo`: installs and builds what is missing, then starts service, simulated fleet and demo data.
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { prepare, root } from './prepare.mjs';

await prepare();
const child = spawn(process.execPath, [join(root, 'packages/cli/bin/barrow.js'), 'demo', ...process.argv.slice(2)], {
  cwd: root,
  stdio: 'inherit',
});
// Ctrl-C reaches both; the demo ends by itself, in its own time.
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => signal === 'SIGTERM' && child.kill(signal));
child.on('exit', (code, signal) => process.exit(code ?? (signal ? 1 : 0)));
