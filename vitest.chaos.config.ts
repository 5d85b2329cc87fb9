import { defineConfig } from 'vitest/config';

// `npm run chaos`: many nights in which anything happens; how many, and from which seed on, is told to it.
export default defineConfig({
  test: { include: ['tests/chaos/**/*.chaos.ts'], testTimeout: 36_000_000, hookTimeout: 600_000, maxWorkers: 1, pool: 'forks' },
});
