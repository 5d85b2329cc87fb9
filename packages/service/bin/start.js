// The service as one quick file, or in its parts where something was compiled after that was made.
import { statSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const made = (path) => statSync(fileURLToPath(new URL(path, import.meta.url)), { throwIfNoEntry: false })?.mtimeMs ?? 0;
const quick = '../dist/bundle/quick.js';
const parts = ['..', '../../core', '../../wire', '../../families'];
const isQuick = parts.every((part) => made(`${part}/dist/.tsbuildinfo`) < made(quick));
export const { startService, StartFailure } = isQuick ? (await import(quick)).quick : await import('../dist/index.js');
