import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    include: ['packages/*/tests/**/*.test.ts', 'tests/**/*.test.ts'],
    // Real services, sockets and simulated devices: a test ends by an event, and this is only how long it may take at worst.
    testTimeout: 600_000,
    hookTimeout: 600_000,
    expect: { poll: { timeout: 60_000 } },
    // They wait more than they work: five share two cores well.
    maxWorkers: 5,
    pool: 'forks',
    // What is imported is imported once by each of the five, and not by each of the files: a quarter of all work.
    isolate: false,
    // What is compiled is loaded as it is, and not taken apart anew.
    server: { deps: { external: [/packages\/\w+\/dist\//] } },
  },
});
