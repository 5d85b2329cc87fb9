import { defineConfig } from 'vitest/config';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

/** Which of the tests of the whole take longest, longest first: minutes each, most of them waiting. */
const longest = [
  ...['chaos', 'friday', 'guides', 'way-back', 'power', 'kill', 'access', 'ways', 'console-frame', 'soak', 'console-rung', 'whole-fleet'],
  ...['staging', 'images', 'faults', 'by-hand', 'around-checks', 'journey', 'odd-ways'],
];

/** What takes longest begins first, so that nothing long is waited for alone at the end; the others by their size. */
class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const rank = ({ moduleId }: TestSpecification): number => {
      const at = longest.findIndex((name) => moduleId.endsWith(`/tests/${name}.test.ts`));
      return at < 0 ? longest.length : at;
    };
    return [...(await super.sort(files))].sort((a, b) => rank(a) - rank(b));
  }
}

export default defineConfig({
  test: {
    include: ['packages/*/tests/**/*.test.ts', 'tests/**/*.test.ts'],
    // Real services, sockets and simulated devices: a test ends by an event, and this is only how long it may take at worst.
    testTimeout: 600_000,
    hookTimeout: 600_000,
    expect: { poll: { timeout: 60_000 } },
    sequence: { sequencer: LongestFirst },
    // They wait more than they work: six share two cores well.
    maxWorkers: 6,
    pool: 'forks',
    // They end before what is optimised early has paid for itself.
    execArgv: ['--interrupt-budget=600000'],
    // What is imported is imported once by each of the six, and not by each of the files: a quarter of all work.
    isolate: false,
    // What is compiled is loaded as it is, and not taken apart anew.
    server: { deps: { external: [/packages\/\w+\/dist\//] } },
  },
});
