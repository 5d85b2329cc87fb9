import { expect, it } from 'vitest';

/** A module that throws as it is read fails the files that import it, which is no test of anything; this one is. */
it('can be read', async () => {
  expect(Object.keys(await import('@barrow/core'))).toContain('rolloutEventSchema');
});
