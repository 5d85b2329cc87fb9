// Installs and builds what is missing or older than its sources, and nothing else. Used by the demo, the tests and the pictures.
import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { createRequire } from 'node:module';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

export const root = fileURLToPath(new URL('..', import.meta.url));

/** Runs a program in silence. Where it fails, what it said is printed. */
function quietly(command, args, cwd = root) {
  const child = spawn(command, args, { cwd, stdio: ['ignore', 'pipe', 'pipe'] });
  let said = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (chunk) => (said += chunk));
  return new Promise((resolve) => {
    child.once('error', (error) => {
      process.stderr.write(`\n${command} could not be started: ${error.message}\n`);
      process.exit(1);
    });
    child.once('close', (code, signal) => {
      if (code === 0) return resolve();
      process.stderr.write(`\n${said}\n${command} ${args.join(' ')} ended with ${code ?? signal}.\n`);
      process.exit(code ?? 1);
    });
  });
}
const aside = (script, args, cwd) => quietly(process.execPath, [script, ...args], cwd);

/** Says what is done, and afterwards for how long: on a terminal it counts the seconds meanwhile. */
export async function step(what, work) {
  const began = Date.now();
  const seconds = () => Math.round((Date.now() - began) / 1000);
  const { isTTY } = process.stderr;
  const counting = isTTY ? setInterval(() => process.stderr.write(`\r${what}… ${seconds()} s`), 1000) : null;
  process.stderr.write(isTTY ? `${what}…` : `${what}…\n`);
  const result = await work();
  if (counting !== null) clearInterval(counting);
  process.stderr.write(isTTY ? `\r${what}: done in ${seconds()} s\n` : `${what}: done in ${seconds()} s\n`);
  return result;
}

const stamps = join(root, 'node_modules', '.barrow');
const stampOf = (name) => (existsSync(join(stamps, name)) ? readFileSync(join(stamps, name), 'utf8') : '');
function stamp(name, value) {
  mkdirSync(stamps, { recursive: true });
  writeFileSync(join(stamps, name), value);
}

async function install() {
  const lock = createHash('sha256')
    .update(readFileSync(join(root, 'package-lock.json')))
    .digest('hex');
  if (stampOf('installed') === lock) return;
  await step('1. Installing packages (about a minute)', () => quietly('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error']));
  stamp('installed', lock);
}

function digestTree(folders) {
  const hash = createHash('sha256');
  const visit = (path) => {
    const about = statSync(path);
    if (about.isDirectory()) {
      for (const name of readdirSync(path).sort())
        if (name !== 'dist' && name !== 'node_modules' && name !== 'tests') visit(join(path, name));
    } else hash.update(`${path} ${about.size} `).update(readFileSync(path));
  };
  for (const folder of folders) visit(join(root, folder));
  return hash.digest('hex');
}

/** Two parts at a time: neither reads what the other makes. */
async function build() {
  const packages = readdirSync(join(root, 'packages'));
  const node = digestTree(
    packages
      .filter((p) => p !== 'console')
      .map((p) => `packages/${p}`)
      .concat('tsconfig.base.json', 'tsconfig.json', ...['bundle.mjs', 'quick.js', 'warm.mjs'].map((name) => `scripts/${name}`)),
  );
  const built = packages.filter((p) => p !== 'console').every((p) => existsSync(join(root, 'packages', p, 'dist', '.tsbuildinfo')));
  const service = async () => {
    if (stampOf('built-node') === node && built) return;
    await aside(join('node_modules', 'typescript', 'bin', 'tsc'), ['-b']);
    await aside(join('scripts', 'bundle.mjs'), []);
    stamp('built-node', node);
  };
  const console = digestTree(['packages/console', 'packages/core/src', 'packages/client/src']);
  const pages = async () => {
    if (stampOf('built-console') === console && existsSync(join(root, 'packages/console/dist/index.html'))) return;
    const vite = createRequire(join(root, 'packages/console/package.json')).resolve('vite/package.json');
    await aside(join(vite, '..', 'bin', 'vite.js'), ['build'], join(root, 'packages/console'));
    stamp('built-console', console);
  };
  const isBuilt =
    stampOf('built-node') === node &&
    built &&
    stampOf('built-console') === console &&
    existsSync(join(root, 'packages/console/dist/index.html'));
  if (!isBuilt) await step('2. Building the service and the console (about half a minute)', () => Promise.all([service(), pages()]));
}

export async function prepare() {
  const [major, minor] = process.versions.node.split('.').map(Number);
  if (major < 20 || (major === 20 && minor < 15)) {
    process.stderr.write(`Barrow needs Node.js 20.15 or newer; this is ${process.versions.node}.\n`);
    process.exit(2);
  }
  await install();
  await build();
}
