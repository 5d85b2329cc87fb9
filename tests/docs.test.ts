import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { describe, expect, it } from 'vitest';
import { causes, stepNames } from '@barrow/core';
import { faultNames } from '@barrow/standins';
import { barrow } from './support/service.js';

const root = fileURLToPath(new URL('..', import.meta.url));
const read = (path: string) => readFileSync(join(root, path), 'utf8');
const readme = read('README.md');

/** The command lines in fenced blocks and back-ticks of a text, without their comments. */
function commandsIn(text: string): string[][] {
  const found = [...text.matchAll(/(?:npx )?barrow ((?:[a-z][\w-]*)(?: [^`\n#…]*)?)/g)].map((m) => m[1]!.trim().split(/\s+/));
  return found.filter(([first]) =>
    /^(serve|demo|network|credential|token|discover|map|device|standing|target|family|image|staging|transfer|backup|rollout|upgrade|report)$/.test(
      first!,
    ),
  );
}

describe.each(['README.md', 'docs/discovery.md'])('%s', (file) => {
  it('names only commands and options that exist', async () => {
    const commands = commandsIn(read(file));
    expect(commands.length).toBeGreaterThan(12);
    const seen = new Map<string, string>();
    for (const words of commands) {
      // The command is its leading words, as far as the help knows them.
      const path = [words[0]!];
      for (;;) {
        const key = path.join(' ');
        if (!seen.has(key)) seen.set(key, (await barrow([...path, '--help'])).out);
        const next = words[path.length];
        if (!next || !new RegExp(`^ {2}${next}\\b`, 'm').test(seen.get(key)!) || next.startsWith('-')) break;
        path.push(next);
      }
      const help = seen.get(path.join(' '))!;
      expect(help, words.join(' ')).toContain('Usage: barrow');
      for (const option of words.filter((w) => /^--[a-z]/.test(w)).map((w) => w.replace(/=.*/, '')))
        if (!['--json', '--url', '--token', '--data'].includes(option)) expect(help, `${words.join(' ')}: ${option}`).toContain(option);
    }
  });
});

describe('the README', () => {
  it('names every fault, and no other', () => {
    const [, list] = /The faults: ([\s\S]*?)\.\n/.exec(readme)!;
    expect([...list!.matchAll(/`([a-z-]+)`/g)].map((m) => m[1])).toEqual([...faultNames]);
  });

  it('tells the exit codes as they are', async () => {
    const { exit } = await import('@barrow/cli');
    expect([...readme.matchAll(/^\| (\d) \|/gm)].map((m) => Number(m[1]))).toEqual(Object.values(exit));
  });
});

describe('every page', () => {
  const pages = [
    'README.md',
    ...readdirSync(join(root, 'docs'))
      .filter((f) => f.endsWith('.md'))
      .map((f) => `docs/${f}`),
  ];
  it.each(pages)('%s links only to what is there', (page) => {
    for (const [, target] of read(page).matchAll(/\]\((?!https?:)([^)#]+)/g))
      expect(existsSync(join(root, dirname(page), target!)), target).toBe(true);
  });
  it('every picture is linked', () => {
    const all = pages.map(read).join();
    const pictures = readdirSync(join(root, 'docs/screenshots'));
    expect(pictures.length).toBeLessThan(20);
    for (const picture of pictures) expect(all, picture).toContain(picture);
  });
});

describe('the lifecycle page', () => {
  it('walks through every step in order', () => {
    const page = read('docs/rollout-lifecycle.md');
    expect([...page.matchAll(/^\| \d \| `([a-z-]+)` \|/gm)].map((m) => m[1])).toEqual([...stepNames]);
  });
});

describe('the page of causes', () => {
  it('is the catalogue, word for word', () => {
    const page = read('docs/causes.md');
    for (const cause of causes) for (const text of [`\`${cause.code}\``, cause.what, cause.next]) expect(page, cause.code).toContain(text);
    expect([...page.matchAll(/^\| `/gm)].length).toBe(causes.length);
  });
});

describe('the page of dependencies', () => {
  it('says of every package what it is for', () => {
    const page = read('docs/dependencies.md');
    const folders = ['.', ...readdirSync(join(root, 'packages')).map((p) => `packages/${p}`)];
    const names = new Set(
      folders.flatMap((f) => {
        const { dependencies = {}, devDependencies = {} } = JSON.parse(read(`${f}/package.json`)) as Record<string, Record<string, string>>;
        return Object.keys({ ...dependencies, ...devDependencies });
      }),
    );
    for (const name of names) {
      if (name.startsWith('@barrow/') || name.startsWith('@types/')) continue;
      expect(page.includes(name) || page.includes(name.split('/').pop()!), name).toBe(true);
    }
  });
});
