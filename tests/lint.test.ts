import { ESLint } from 'eslint';
import { fileURLToPath } from 'node:url';
import { join } from 'node:path';
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
