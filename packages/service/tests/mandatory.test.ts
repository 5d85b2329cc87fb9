import { libraryAdvisories } from '@barrow/standins';
import { afterAll, describe, expect, it } from 'vitest';
import { MandatoryTests } from '../dist/advisories/mandatory.js';

const tests = new MandatoryTests();
const failedTests = (document: unknown): Promise<string[]> => tests.failed(document);
afterAll(() => tests.stop());

interface Document {
  document: { tracking: { version: string; status: string } };
  vulnerabilities: { product_status: Record<string, string[]>; scores?: unknown[] }[];
}
const [first] = libraryAdvisories();
const changed = (change: (document: Document) => void): Promise<string[]> => {
  const document = JSON.parse(first!.text) as Document;
  change(document);
  return failedTests(document);
};

describe('the mandatory tests of an advisory', () => {
  it.each(libraryAdvisories().map((a) => [a.file, a.text]))('are passed by %s', async (_, text) =>
    expect(await failedTests(JSON.parse(text))).toEqual([]),
  );
  it('fail for a product that is both affected and fixed', async () => {
    const failed = await changed((d) => {
      const status = d.vulnerabilities[0]!.product_status;
      status['known_affected'] = [...(status['known_affected'] ?? []), ...(status['fixed'] ?? [])];
    });
    expect(failed[0]).toMatch(/^§6\.1\.6, at \/vulnerabilities\/0\/product_status/);
  });
  it('fail for a product that is used and not defined', async () => {
    const failed = await changed((d) => d.vulnerabilities[0]!.product_status['fixed']!.push('P-99'));
    expect(failed[0]).toMatch(/^§6\.1\.1, at /);
  });
  it('fail for an edition that the history does not end with', async () => {
    expect((await changed((d) => (d.document.tracking.version = '7')))[0]).toMatch(/^§6\.1\.16/);
  });
  it('fail, and throw nothing, for what is no document at all', async () => {
    for (const nothing of [{}, [], null, { vulnerabilities: [{}] }]) expect(await failedTests(nothing)).toBeInstanceOf(Array);
  });
});
