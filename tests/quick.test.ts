import { execFile } from 'node:child_process';
import { copyFileSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { promisify } from 'node:util';
import { afterAll, beforeEach, describe, expect, it } from 'vitest';
import { folder, program } from './support/service.js';

const run = promisify(execFile);
const loader = new URL('../scripts/quick.js', import.meta.url);

/** What a build makes: one file, what loads it, and what the engine made of it; the last may be missing, old or torn. */
describe('a program that is loaded with what the engine made of it before', () => {
  const dir = folder();
  const [file, kept] = [join(dir.path, 'index.cjs'), join(dir.path, 'index.cjs.cache')];
  const source = `exports.sum = (a, b) => a + b;\nexports.where = __filename;\nexports.os = importFrom('node:os');\n`;
  beforeEach(async () => {
    copyFileSync(loader, join(dir.path, 'quick.mjs'));
    writeFileSync(file, source);
    writeFileSync(kept, await called('(quick.sum(1, 1), Buffer.from(made()).toString("base64"))').then((s) => Buffer.from(s, 'base64')));
  });
  afterAll(() => dir.remove());
  /** In a process of its own, as each start is one. */
  const called = async (what: string, ...flags: string[]): Promise<string> => {
    const script = `const { quick, made, refused } = await import(${JSON.stringify(pathToFileURL(join(dir.path, 'quick.mjs')).href)}); console.log(String(await ${what}));`;
    return (await run(process.execPath, [...flags, '--input-type=module', '-e', script])).stdout.trim();
  };

  it('takes it, and knows where it stands and what it loads besides', async () => {
    expect(await called('[refused, quick.sum(20, 22), quick.where, typeof (await quick.os).hostname]')).toBe(`false,42,${file},function`);
  });

  it.each<[string, () => void]>([
    ['is of other sources', () => writeFileSync(file, `${source}exports.more = 1;\n`)],
    ['is torn', () => writeFileSync(kept, readFileSync(kept).subarray(0, 300))],
    ['is something else', () => writeFileSync(kept, 'nothing of the kind')],
    ['is empty', () => writeFileSync(kept, '')],
  ])('does without it where it %s', async (_, spoil) => {
    spoil();
    expect(await called('[refused, quick.sum(20, 22)]')).toBe('true,42');
  });

  it('does without it where the engine runs otherwise', async () => {
    expect(await called('[refused, quick.sum(20, 22)]', '--no-lazy')).toBe('true,42');
  });
});

it('the command itself starts with what was made at the build', async () => {
  const built = (name: string) => pathToFileURL(join(program, '../../../', name, 'dist/bundle/quick.js')).href;
  const script = `const { refused } = await import(${JSON.stringify(built('service'))}); console.log(refused);`;
  expect((await run(process.execPath, ['--input-type=module', '-e', script])).stdout.trim()).toBe('false');
  expect((await run(process.execPath, [program, '--version'])).stderr).toBe('');
});
