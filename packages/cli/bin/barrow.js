#!/usr/bin/env node
import('../dist/main.js').catch((error) => {
  process.stderr.write(
    error?.code === 'ERR_MODULE_NOT_FOUND'
      ? 'Barrow is not built: the compiled command is missing.\nWhy: this is a fresh clone.\nWhat to do: npm ci && npm run build\n'
      : `${error?.stack ?? error}\n`,
  );
  process.exit(2);
});
