// Loads the file beside this one with what the engine made of it at the last build, so that nothing is compiled anew at each start.
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Script } from 'node:vm';

const file = fileURLToPath(new URL('index.cjs', import.meta.url));
const kept = `${file}.cache`;

function read(path) {
  try {
    return readFileSync(path);
  } catch {
    return undefined;
  }
}

// Another version of Node, or other flags: the engine leaves what was kept aside, and compiles.
const args = ['exports', 'require', 'module', '__filename', '__dirname', 'importFrom'];
const script = new Script(`(function (${args.join()}) {${readFileSync(file, 'utf8')}\n})`, { filename: file, cachedData: read(kept) });
const module = { exports: {} };
const importFrom = (name) => import(name);
script.runInThisContext().call(module.exports, module.exports, createRequire(file), module, file, dirname(file), importFrom);

export const quick = module.exports;
/** Whether what was kept was of no use, or not there. */
export const refused = script.cachedDataRejected ?? true;
/** What the engine made of it until now, functions that were called among it. */
export const made = () => script.createCachedData();
