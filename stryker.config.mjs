/**
 * `npm run mutants`: changes the checks one operator at a time, and counts how many of these changes core's own tests notice.
 * Other files: `npm run mutants -- --mutate 'packages/core/src/scheduler/*.ts'`.
 * @type {import('@stryker-mutator/api/core').PartialStrykerOptions}
 */
export default {
  testRunner: 'vitest',
  vitest: { configFile: 'vitest.mutants.config.ts', related: false },
  plugins: ['@stryker-mutator/vitest-runner'],
  mutate: ['packages/core/src/checks/*.ts'],
  coverageAnalysis: 'perTest',
  // Only these stand where mutants live; the rest of the checkout is not copied.
  ignorePatterns: [
    '*',
    '!package.json',
    '!vitest.mutants.config.ts',
    '!tsconfig.base.json',
    '!packages',
    '!packages/core',
    '!packages/core/**',
  ],
  concurrency: 2,
  tempDirName: '.mutants',
  reporters: ['clear-text', 'progress-append-only'],
  clearTextReporter: { allowColor: false, logTests: false },
  thresholds: { high: 95, low: 90, break: 90 },
};
