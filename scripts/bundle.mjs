// Makes one quick file of the command line's everyday commands: a command of a second must not load hundreds of files first.
import { join } from 'node:path';
import { rolldown } from 'rolldown';
import { root } from './prepare.mjs';

const cli = join(root, 'packages/cli');
const made = await rolldown({
  input: join(cli, 'dist/main.js'),
  platform: 'node',
  // Loaded from where they stand, and only by the commands that need them.
  external: (id) => /^node:/.test(id) || /^@barrow\/(service|standins|families)$/.test(id) || /[\\/]demo[\\/]/.test(id),
  makeAbsoluteExternalsRelative: true,
});
await made.write({ dir: join(cli, 'dist/bundle'), format: 'esm', cleanDir: true });
await made.close();
