// `npm test`: installs what is missing, builds, and checks everything: form, rules, types, and behaviour.
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { prepare, root } from './prepare.mjs';

/** Debian's programs that the tests use as referees, and the browser of the console's tests. */
const wanted = {
  chromium: '/usr/bin/chromium',
  snmp: '/usr/bin/snmpwalk',
  snmpd: '/usr/sbin/snmpd',
  'tftp-hpa': '/usr/bin/tftp',
  atftp: '/usr/bin/atftp',
  'tftpd-hpa': '/usr/sbin/in.tftpd',
  curl: '/usr/bin/curl',
  'openssh-server': '/usr/sbin/sshd',
  'openssh-client': '/usr/bin/ssh-keygen',
};

function programs() {
  const missing = Object.entries(wanted).filter(([, path]) => !existsSync(path));
  if (missing.length === 0) return;
  const names = missing.map(([name]) => name);
  if (process.getuid?.() !== 0 || !existsSync('/usr/bin/apt-get')) {
    process.stderr.write(`Not here, so that their tests are skipped: ${names.join(', ')}.\n`);
    return;
  }
  process.stderr.write(`Installing ${names.join(', ')}…\n`);
  const apt = (...args) =>
    spawnSync('apt-get', ['-qq', ...args], {
      stdio: ['ignore', 'ignore', 2],
      // What is installed is only run by tests: no service of it begins by itself.
      env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive', RUNLEVEL: '1' },
    });
  apt('update');
  if (apt('install', '-y', '--no-install-recommends', ...names).status !== 0) process.stderr.write('apt-get could not install them all.\n');
}

await prepare();
programs();

let passed = 0;
let failed = 0;
const bin = (name) => join(root, 'node_modules', '.bin', name);
/** One part of the whole in a process of its own, in silence until it has ended: what it said stands together. */
function step(name, command, args) {
  // They make much that is short-lived: a sixth of a check's work is collecting it, where little of it may stand at once.
  const env = { ...process.env, NODE_OPTIONS: `${process.env.NODE_OPTIONS ?? ''} --max-semi-space-size=64` };
  const child = spawn(command, args, { cwd: root, env, stdio: ['ignore', 'pipe', 'pipe'] });
  let said = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (chunk) => (said += chunk));
  return new Promise((resolve) =>
    child.once('close', (status) => {
      if (status === 0) passed++;
      else {
        failed++;
        process.stdout.write(`${said}✕ ${name} failed\n`);
      }
      resolve();
    }),
  );
}
const only = process.argv.slice(2);
if (only.length === 0) {
  const steps = [
    ['lint and import rules', bin('eslint'), ['.']],
    ['formatting', bin('prettier'), ['--check', '--log-level', 'warn', '.']],
    ['types of the tests', bin('tsc'), ['-p', 'tsconfig.tests.json']],
    [
      'types of the console',
      bin('svelte-check'),
      ['--workspace', 'packages/console', '--tsconfig', 'tsconfig.json', '--fail-on-warnings', '--output', 'machine'],
    ],
  ];
  // Two at a time, as the tests themselves.
  const next = async () => {
    for (let of = steps.shift(); of; of = steps.shift()) await step(...of);
  };
  await Promise.all([next(), next()]);
}
const out = mkdtempSync(join(tmpdir(), 'barrow-vitest-'));
const file = join(out, 'result.json');
const { status } = spawnSync(bin('vitest'), ['run', '--reporter=default', '--reporter=json', `--outputFile.json=${file}`, ...only], {
  cwd: root,
  stdio: 'inherit',
});
let skipped = 0;
if (existsSync(file)) {
  const result = JSON.parse(readFileSync(file, 'utf8'));
  passed += result.numPassedTests;
  failed += result.numFailedTests + (result.numFailedTests === 0 && status !== 0 ? 1 : 0);
  skipped = result.numPendingTests;
} else failed++;
rmSync(out, { recursive: true, force: true });
process.stdout.write(`\n${passed} passed, ${failed} failed${skipped > 0 ? `, ${skipped} skipped` : ''}\n`);
process.exit(failed === 0 ? 0 : 1);
