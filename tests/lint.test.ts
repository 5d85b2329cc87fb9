import { readdirSync, readFileSync } from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { ESLint } from 'eslint';
import ts from 'typescript';
import { describe, expect, it } from 'vitest';

const root = fileURLToPath(new URL('..', import.meta.url));
const lint = new ESLint({ cwd: root });

/** Faults planted into each room, which the rules must see; the last ones are allowed and must pass. */
const planted: [room: string, code: string, caught: boolean][] = [
  ['core', "import { readFile } from 'node:fs';\nreadFile;", true],
  ['core', "export const f = () => import('node:fs');", true],
  ['core', 'export const now = Date.now();', true],
  ['core', 'export const chance = Math.random();', true],
  ['core', "import { TftpServer } from '@barrow/wire';\nTftpServer;", true],
  ['wire', "import { decide } from '@barrow/core';\ndecide;", true],
  ['families', "import { startService } from '@barrow/service';\nstartService;", true],
  ['service', "import { Fleet } from '@barrow/standins';\nFleet;", true],
  ['client', "import { startService } from '@barrow/service';\nstartService;", true],
  ['console', "export const f = () => import('@barrow/service');", true],
  ['standins', "import { SnmpClient } from '@barrow/wire';\nSnmpClient;", true],
  ['cli', "import { decide } from '@barrow/core/dist/scheduler/decide.js';\ndecide;", true],
  ['cli', "import { decide } from '../../core/src/index.js';\ndecide;", true],
  ['service', "import { decide } from '@barrow/core';\ndecide;", false],
  ['cli', "import { Fleet } from '@barrow/standins';\nFleet;", false],
];

describe('the rule of who may import whom', () => {
  it.each(planted)('in %s: %s', async (room, code, caught) => {
    const [result] = await lint.lintText(code, { filePath: join(root, 'packages', room, 'src', 'planted.ts') });
    const told = result!.messages.filter((m) => m.ruleId === 'no-restricted-imports' || m.ruleId === 'no-restricted-syntax');
    expect(told.length > 0, JSON.stringify(result!.messages)).toBe(caught);
  });
});

/** Every file of the packages, and which of its own package it imports, types too. */
function importsOf(): Map<string, string[]> {
  const files: string[] = [];
  const walk = (folder: string): void => {
    for (const entry of readdirSync(folder, { withFileTypes: true })) {
      const path = join(folder, entry.name);
      if (entry.isDirectory()) walk(path);
      else if (/\.(ts|svelte)$/.test(entry.name)) files.push(path);
    }
  };
  for (const name of readdirSync(join(root, 'packages'))) walk(join(root, 'packages', name, 'src'));
  const known = new Set(files);
  return new Map(
    files.map((file) => {
      const { importedFiles } = ts.preProcessFile(readFileSync(file, 'utf8'), true, true);
      const own = importedFiles.map(({ fileName }) => resolve(dirname(file), fileName).replace(/\.js$/, '.ts'));
      return [file, own.filter((f) => known.has(f))];
    }),
  );
}

/** The files that import each other in a circle, smallest circle of each first found. */
function circlesIn(imports: ReadonlyMap<string, readonly string[]>): string[][] {
  const done = new Set<string>();
  const way: string[] = [];
  const found: string[][] = [];
  const visit = (file: string): void => {
    const at = way.indexOf(file);
    if (at >= 0) return void found.push(way.slice(at));
    if (done.has(file)) return;
    way.push(file);
    for (const other of imports.get(file) ?? []) visit(other);
    way.pop();
    done.add(file);
  };
  for (const file of imports.keys()) visit(file);
  return found;
}

describe('the imports of files', () => {
  it('go round in no circle', () => {
    const imports = importsOf();
    expect(imports.size).toBeGreaterThan(200);
    expect(circlesIn(imports).map((c) => c.map((f) => f.slice(root.length)))).toEqual([]);
  });

  it('would be caught going round in one', () => {
    const round = new Map([
      ['a', ['b']],
      ['b', ['c', 'd']],
      ['c', ['a']],
      ['d', []],
    ]);
    expect(circlesIn(round)).toEqual([['a', 'b', 'c']]);
  });
});

/** The rooms of the service from the top down; those on one line may import each other, and all may import what is below them. */
const floors = [
  ['http'],
  ['report', 'runner', 'staging', 'discovery'],
  ['images', 'standing', 'advisories', 'devices', 'map'],
  ['touch'],
  ['data', 'context.ts'],
  ['live.ts', 'errors.ts', 'steady.ts', 'windows.ts'],
];
const floorOf = (path: string): number => floors.findIndex((rooms) => rooms.includes(path.split('/')[0]!));

/** Imports of the service that go up. */
function upward(imports: ReadonlyMap<string, readonly string[]>): string[] {
  const of = (file: string): string => relative(join(root, 'packages/service/src'), file);
  return [...imports].flatMap(([file, others]) =>
    others.flatMap((other) => {
      const [from, to] = [floorOf(of(file)), floorOf(of(other))];
      // What puts all of it together stands above every room.
      return from >= 0 && (to < 0 ? of(other) !== 'parts.ts' || from > 0 : to < from) ? [`${of(file)} imports ${of(other)}`] : [];
    }),
  );
}

describe('the rooms of the service', () => {
  it('import what is below them, and nothing above', () => {
    const own = [...importsOf()].filter(([file]) => file.includes('/service/src/'));
    expect(own.length).toBeGreaterThan(80);
    expect(upward(new Map(own))).toEqual([]);
  });

  it('would be caught importing what is above', () => {
    const at = (path: string): string => join(root, 'packages/service/src', path);
    expect(upward(new Map([[at('touch/touch.ts'), [at('runner/runner.ts')]]]))).toEqual(['touch/touch.ts imports runner/runner.ts']);
    expect(upward(new Map([[at('staging/check.ts'), [at('parts.ts')]]]))).toEqual(['staging/check.ts imports parts.ts']);
    expect(upward(new Map([[at('http/app.ts'), [at('parts.ts'), at('data/seal.ts')]]]))).toEqual([]);
  });
});
