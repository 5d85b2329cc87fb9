#!/usr/bin/env node
import { statSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const made = (path) => statSync(fileURLToPath(new URL(path, import.meta.url)), { throwIfNoEntry: false })?.mtimeMs ?? 0;
const quick = '../dist/bundle/quick.js';
const parts = ['../dist', '../../client/dist', '../../core/dist'];
// The demo is loaded in its parts; so is all that was compiled after the quick file was made.
const whole = process.argv.includes('demo');
const isQuick = !whole && parts.every((part) => made(`${part}/.tsbuildinfo`) < made(quick));
import(isQuick ? quick : '../dist/main.js').catch((error) => {
  process.stderr.write(
    error?.code === 'ERR_MODULE_NOT_FOUND'
      ? 'Barrow is not built: the compiled command is missing.\nWhy: this is a fresh clone.\nWhat to do: npm ci && npm run build\n'
      : `${error?.stack ?? error}\n`,
  );
  process.exit(2);
});
