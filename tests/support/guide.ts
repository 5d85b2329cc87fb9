import { execFile } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect } from 'vitest';
import { connect } from '../../packages/cli/dist/connect.js';
import { Loaded, loadSecondDay, loadStaging } from '../../packages/cli/dist/demo/data.js';
import { openControl, writeScenarioLibrary, writeUnpackedImage } from '@barrow/standins';
import { setScene, type Scene } from './scene.js';
import { barrow, program } from './service.js';
import { addWholeNetworks } from './whole.js';

/** The demo as `npm run demo` starts it, at addresses of this test alone. */
export interface Demo {
  readonly scene: Scene;
  /** What a page says, as it is here: addresses, ports and folders. */
  readonly put: (text: string) => string;
  readonly folder: string;
  readonly end: () => Promise<void>;
}

/** @param bare networks and credentials only, as `--bare` */
export async function startDemo(network: number, bare: boolean): Promise<Demo> {
  const scene = await setScene({ network, scale: 100, whole: true });
  const folder = join(scene.data, '..', 'demo');
  mkdirSync(folder, { recursive: true });
  const library = await writeScenarioLibrary(join(folder, 'images', 'library'));
  writeUnpackedImage(join(folder, 'unpacked'));
  const { url, server } = await openControl(scene.fleet);
  await addWholeNetworks(scene.served.client, network);
  if (!bare) {
    const loaded = new Loaded(scene.data);
    const barrow = connect({ data: scene.data });
    await loadSecondDay(
      barrow,
      loaded,
      scene.images.filter((i) => !/\/(damaged|other)\//.test(i)),
      library,
    );
    await loadStaging(barrow, loaded);
  }
  const put = (text: string): string =>
    text
      .replaceAll('http://127.0.0.1:8471', url)
      .replaceAll('127.40.', `127.${network}.`)
      .replaceAll('.barrow-demo/images/library', join(folder, 'images', 'library'))
      .replaceAll('.barrow-demo/images', join(scene.images[0]!, '..'))
      .replaceAll('.barrow-demo/data', scene.data);
  return {
    scene,
    put,
    folder,
    end: async () => {
      server.close();
      await scene.end();
    },
  };
}

/** One block of commands of a page, with what it must print. */
interface Step {
  readonly line: string;
  /** The exit code that stands behind the command as `# exit N`. */
  readonly code: number;
}

/** What a page has to do, in order: commands, and what stands in the output of the block before. */
type Part =
  | { readonly kind: 'run'; readonly steps: readonly Step[] }
  | { readonly kind: 'output'; readonly lines: readonly string[] }
  | { readonly kind: 'file'; readonly name: string; readonly text: string };

/**
 * Reads a page: `sh` blocks are executed, a `text` block behind one is what it prints, in part and in order, `…` standing for
 * anything. A block named after a file is written to that file. `sh real-network` and `text at-the-device` are not executed.
 */
export function partsOf(page: string): Part[] {
  return [...page.matchAll(/^```(\S+)(?: (\S+))?\n([\s\S]*?)^```$/gm)].flatMap(([, what, more, text]): Part[] => {
    if (what === 'sh' && more === undefined)
      return [
        {
          kind: 'run',
          steps: text!
            .split('\n')
            .filter((l) => l.trim() !== '' && !l.startsWith('#'))
            .map((l) => {
              const [command, comment = ''] = l.split(/\s+# /);
              return { line: command!.trim(), code: Number(/^exit (\d)/.exec(comment)?.[1] ?? 0) };
            }),
        },
      ];
    if (what === 'text' && more === undefined) return [{ kind: 'output', lines: text!.split('\n').filter((l) => l.trim() !== '') }];
    if (more !== undefined && /\.(yaml|json)$/.test(more)) return [{ kind: 'file', name: more, text: text! }];
    return [];
  });
}

/** Whether a line of a page stands in what was printed: spaces count as one, `…` stands for anything. */
const stands = (line: string, printed: string): boolean => {
  const plain = (text: string): string => text.replaceAll(/\s+/g, ' ').trim();
  const pattern = plain(line)
    .split(/\s*…\s*/)
    .map((part) => part.replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&'))
    .join('.*');
  return new RegExp(pattern).test(plain(printed));
};

/** A command line in words, with quotes as a shell reads them. */
const wordsOf = (line: string): string[] => (line.match(/'[^']*'|"[^"]*"|\S+/g) ?? []).map((w) => w.replace(/^(['"])(.*)\1$/, '$2'));

/** Does what a page says, in order, in a folder of its own. @returns all that was said */
export async function playPage(page: string, demo: Demo): Promise<string> {
  const { put, scene } = demo;
  const env = { ...process.env, BARROW_DATA: scene.data, BARROW: program, NODE: process.execPath };
  const work = join(demo.folder, 'work');
  mkdirSync(work, { recursive: true });
  const all: string[] = [];
  let last = '';
  const shell = (line: string): Promise<{ code: number; out: string }> =>
    new Promise((resolve) =>
      execFile(
        'bash',
        ['-c', `set -o pipefail; npx() { shift; "$NODE" "$BARROW" "$@"; }; ${line}`],
        { cwd: work, env },
        (error, out, err) => resolve({ code: error ? Number(error.code ?? 1) : 0, out: `${out}${err}` }),
      ),
    );
  const here = process.cwd();
  process.chdir(work);
  try {
    for (const part of partsOf(page)) {
      if (part.kind === 'file') {
        writeFileSync(part.name, put(part.text));
        continue;
      }
      if (part.kind === 'output') {
        for (const line of part.lines) expect(stands(put(line), last), `"${put(line)}" is not in what was printed:\n${last}`).toBe(true);
        continue;
      }
      last = '';
      for (const { line, code } of part.steps) {
        const [first, second, ...words] = wordsOf(put(line));
        // The demo runs already, and the variable is set.
        if (line.startsWith('export ') || line.startsWith('npm ')) continue;
        const isPlain = first === 'npx' && second === 'barrow' && !/[|><&;]|\$\(/.test(line.replaceAll(/'[^']*'/g, ''));
        const ran = isPlain
          ? await barrow(words, { data: scene.data }).then((r) => ({ code: r.code, out: `${r.out}${r.err}` }))
          : await shell(put(line));
        all.push(`$ ${line}\n${ran.out}`);
        last += ran.out;
        expect(ran.code, all.slice(-3).join('\n')).toBe(code);
      }
    }
  } finally {
    process.chdir(here);
  }
  return all.join('\n');
}

export const readPage = (path: string): string => readFileSync(new URL(`../../${path}`, import.meta.url), 'utf8');
