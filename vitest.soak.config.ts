import { defineConfig } from 'vitest/config';

// `npm run soak`: what takes too long for `npm test`.
export default defineConfig({ test: { include: ['packages/*/soak/**/*.soak.ts'], testTimeout: 7_200_000, maxWorkers: 1, pool: 'forks' } });
