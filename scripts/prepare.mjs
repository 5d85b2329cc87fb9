// Installs and builds what is missing or older than its sources, and nothing else. Used by the demo, the tests and the pictures.
import { spawn, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { createRequire } from 'node:module';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

export const root = fileURLToPath(new URL('..', import.meta.url));

export function run(command, args, options = {}) {
  const result = spawnSync(command, args, { cwd: root, stdio: 'inherit', ...options });
  if (result.error) throw result.error;
  if (result.status !== 0) {
    process.stderr.write(`\n${command} ${args.join(' ')} ended with ${result.status ?? result.signal}.\n`);
    process.exit(result.status ?? 1);
  }
}

/** Runs a script of Node beside others; what it prints goes where messages go. */
function aside(script, args, cwd = root) {
  const child = spawn(process.execPath, [script, ...args], { cwd, stdio: ['ignore', 2, 2] });
  return new Promise((resolve) =>
    child.once('exit', (code, signal) => {
      if (code === 0) return resolve();
      process.stderr.write(`\n${script} ${args.join(' ')} ended with ${code ?? signal}.\n`);
      process.exit(code ?? 1);
    }),
  );
}

const stamps = join(root, 'node_modules', '.barrow');
const stampOf = (name) => (existsSync(join(stamps, name)) ? readFileSync(join(stamps, name), 'utf8') : '');
function stamp(name, value) {
  mkdirSync(stamps, { recursive: true });
  writeFileSync(join(stamps, name), value);
}

function install() {
  const lock = createHash('sha256')
    .update(readFileSync(join(root, 'package-lock.json')))
    .digest('hex');
  if (stampOf('installed') === lock) return;
  process.stderr.write('Installing packages…\n');
  run('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error'], { stdio: ['ignore', 2, 2] });
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
    process.stderr.write('Building the service…\n');
    await aside(join('node_modules', 'typescript', 'bin', 'tsc'), ['-b']);
    await aside(join('scripts', 'bundle.mjs'), []);
    stamp('built-node', node);
  };
  const console = digestTree(['packages/console', 'packages/core/src', 'packages/client/src']);
  const pages = async () => {
    if (stampOf('built-console') === console && existsSync(join(root, 'packages/console/dist/index.html'))) return;
    process.stderr.write('Building the console…\n');
    const vite = createRequire(join(root, 'packages/console/package.json')).resolve('vite/package.json');
    await aside(join(vite, '..', 'bin', 'vite.js'), ['build'], join(root, 'packages/console'));
    stamp('built-console', console);
  };
  await Promise.all([service(), pages()]);
}

export async function prepare() {
  const [major, minor] = process.versions.node.split('.').map(Number);
  if (major < 20 || (major === 20 && minor < 15)) {
    process.stderr.write(`Barrow needs Node.js 20.15 or newer; this is ${process.versions.node}.\n`);
    process.exit(2);
  }
  install();
  await build();
}
