import { parentPort } from 'node:worker_threads';

type Tests = Record<string, (document: unknown) => Promise<{ isValid?: boolean; errors?: { instancePath: string; message?: string }[] }>>;

/** `mandatoryTest_6_1_27_1` as the standard numbers it. */
const numberOf = (name: string): string => name.replace(/^mandatoryTest_/, '').replaceAll('_', '.');

const tests = (await import('@secvisogram/csaf-validator-lib/mandatoryTests.js')) as unknown as Tests;

async function failedTests(document: unknown): Promise<string[]> {
  const failed: string[] = [];
  for (const [name, test] of Object.entries(tests)) {
    if (!name.startsWith('mandatoryTest_')) continue;
    try {
      const { isValid, errors = [] } = await test(document);
      if (isValid !== false && errors.length === 0) continue;
      const [first] = errors;
      const where = first ? `, at ${first.instancePath || '/'}: ${first.message ?? 'not as the standard asks'}` : '';
      failed.push(`§${numberOf(name)}${where}${errors.length > 1 ? ` (and ${errors.length - 1} more)` : ''}`);
    } catch {
      failed.push(`§${numberOf(name)}: the document lacks what this test looks at`);
    }
  }
  return failed;
}

parentPort!.on('message', ({ id, document }: { id: number; document: unknown }) => {
  void failedTests(document).then((failed) => parentPort!.postMessage({ id, failed }));
});
