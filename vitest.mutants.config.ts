import { fileURLToPath } from 'node:url';
import { defineConfig } from 'vitest/config';

/** Core's own tests, on its source as it is changed, mutant by mutant. */
export default defineConfig({
  resolve: { alias: { '@barrow/core': fileURLToPath(new URL('packages/core/src/index.ts', import.meta.url)) } },
  test: { include: ['packages/core/tests/**/*.test.ts'], testTimeout: 120_000 },
});
