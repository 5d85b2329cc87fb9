// What the build makes beside the compiled sources, so that a start is quick.
import { spawnSync } from 'node:child_process';
import { copyFileSync, readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { rolldown } from 'rolldown';
import { root } from './prepare.mjs';

/** What looks for something beside itself finds it from the one file as well. */
const ours = /[\\/]packages[\\/]\w+[\\/]dist[\\/]/;
const fromWhereItStood = (bundle) => ({
  name: 'from-where-it-stood',
  transform: (code, id) =>
    ours.test(id) && code.includes('import.meta.url')
      ? { code: code.replaceAll('import.meta.url', `new URL(${JSON.stringify(relative(bundle, id))}, import.meta.url).href`) }
      : null,
});

/** The one that carries out migrations brings a command line of its own, which nobody calls here: a fifth of the whole. */
const unasked = {
  name: 'unasked',
  load: (id) => (/[\\/]umzug[\\/]lib[\\/]cli\.js$/.test(id) ? 'exports.UmzugCLI = undefined;' : null),
};

/** What is not in the one file, and loaded where it is needed: by who loads the file, since a script of its own cannot. */
const fromOutside = { name: 'from-outside', renderChunk: (code) => code.replaceAll(/\bimport\((?=["'`])/g, 'importFrom(') };

/** One file, and beside it what loads it. */
async function write(bundle, dir) {
  await bundle.write({
    dir,
    format: 'cjs',
    entryFileNames: 'index.cjs',
    codeSplitting: false,
    cleanDir: true,
    // Names stay as they were written, so that a trace can be read. What only takes time to be read over goes.
    minify: { compress: false, mangle: false, codegen: { removeWhitespace: true } },
  });
  await bundle.close();
  copyFileSync(join(root, 'scripts/quick.js'), join(dir, 'quick.js'));
}

// One file of the command line's everyday commands: a command of a second must not load hundreds of files first.
const cli = join(root, 'packages/cli');
const made = await rolldown({
  input: join(cli, 'dist/main.js'),
  platform: 'node',
  // Loaded from where they stand, and only by the commands that need them.
  external: (id) => /^node:/.test(id) || /^@barrow\/(service|standins|families)$/.test(id) || /[\\/]demo[\\/]/.test(id),
  makeAbsoluteExternalsRelative: true,
  plugins: [fromWhereItStood(join(cli, 'dist/bundle')), fromOutside],
});
await write(made, join(cli, 'dist/bundle'));

// One file of the service: hundreds of files take longer to load than all else that a start does. What has parts of its own
// that are no JavaScript stays where it is.
const service = join(root, 'packages/service');
const bundle = join(service, 'dist/bundle');
const whole = await rolldown({
  input: join(service, 'dist/index.js'),
  platform: 'node',
  external: (id) => /^node:/.test(id) || /^(libsql|ssh2)$/.test(id),
  plugins: [unasked, fromWhereItStood(bundle), fromOutside],
  // Databases that Barrow does not use, of which a library knows: they are not here, and never asked for.
  onLog: (level, log, tell) => void (log.code === 'UNRESOLVED_IMPORT' || tell(level, log)),
});
await write(whole, bundle);

// The families that ship, read and checked once for all.
const { parseFamily, shippedFamilies, writeCompiled } = await import(join(root, 'packages/families/dist/index.js'));
const files = readdirSync(shippedFamilies).filter((name) => name.endsWith('.yaml'));
writeCompiled(
  files.map((name) => {
    const text = readFileSync(join(shippedFamilies, name), 'utf8');
    return [text, parseFamily(text, name)];
  }),
);

// What the engine makes of both is kept. Without it they start as well, and take longer.
const { status } = spawnSync(process.execPath, [join(root, 'scripts/warm.mjs')], {
  stdio: ['ignore', 'ignore', 'inherit'],
  timeout: 180_000,
});
if (status !== 0) process.stderr.write('The service could not be started once beforehand: each start will take longer.\n');
