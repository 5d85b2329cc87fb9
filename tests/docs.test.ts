import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { describe, expect, it } from 'vitest';
import {
  hazardCodes,
  hazardKinds,
  causes,
  imageNoteJsonSchema,
  imageNoteSchema,
  PathBook,
  readNote,
  firstSteps,
  transferFaults,
  type PathImage,
  type PathPartner,
} from '@barrow/core';
import { parse } from 'yaml';
import { familyJsonSchema, givenValues, givenWords, referenceOf, type SchemaNode } from '@barrow/families';
import { aroundFaults, faultNames, upgradeFaults } from '@barrow/standins';
import { exit, runCli } from '@barrow/cli';
import { folder, serve } from './support/service.js';

const root = fileURLToPath(new URL('..', import.meta.url));
const read = (path: string) => readFileSync(join(root, path), 'utf8');

/** The command lines in fenced blocks and back-ticks of a text, without their comments. */
function commandsIn(text: string): string[][] {
  const found = [...text.matchAll(/(?:npx )?barrow ((?:[a-z][\w-]*)(?: [^`\n#…]*)?)/g)].map((m) => m[1]!.trim().split(/\s+/));
  return found.filter(([first]) =>
    /^(serve|demo|network|credential|token|discover|site|map|device|standing|target|family|image|staging|transfer|backup|rollout|upgrade|report|advisory|notice|deeds)$/.test(
      first!,
    ),
  );
}

/** What a command says of itself; asked in this process, because hundreds of commands stand in the pages. */
async function helpOf(path: readonly string[]): Promise<string> {
  let out = '';
  let err = '';
  const io = { out: (t: string) => void (out += t), err: (t: string) => void (err += t), terminal: false, width: 100 };
  expect(await runCli([...path, '--help'], io), `${path.join(' ')}: ${err}`).toBe(exit.done);
  return out;
}

describe.each([
  'README.md',
  'docs/discovery.md',
  'docs/images.md',
  'docs/upgrade-paths.md',
  'docs/staging.md',
  'docs/when-nothing-moves.md',
  'docs/plan-a-rollout.md',
  'docs/recover-a-device.md',
  'docs/maintenance-windows.md',
  'docs/notifications.md',
  'docs/reports.md',
  'docs/real-network.md',
  'docs/configuration.md',
])('%s', (file) => {
  it('names only commands and options that exist', async () => {
    const commands = commandsIn(read(file));
    expect(commands.length).toBeGreaterThan(2);
    const seen = new Map<string, string>();
    for (const words of commands) {
      // The command is its leading words, as far as the help knows them.
      const path = [words[0]!];
      for (;;) {
        const key = path.join(' ');
        if (!seen.has(key)) seen.set(key, await helpOf(path));
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

describe('the reference pages', () => {
  it('are made from the help, and from what the service tells of itself', async () => {
    const { commandsPage, apiPage } = (await import('../scripts/reference-pages.mjs' as string)) as {
      commandsPage: () => Promise<string>;
      apiPage: (openapi: unknown) => string;
    };
    expect(read('docs/commands.md')).toBe(await commandsPage());
    const dir = folder();
    const served = await serve(join(dir.path, 'data'));
    const openapi: unknown = await (await served.client.raw('GET', '/../openapi.json')).json();
    expect(read('docs/http-api.md')).toBe(apiPage(openapi));
    await served.kill();
    dir.remove();
  });
});

describe('the README', () => {
  it('has a page that names every fault, and no other', () => {
    const [, list] = /The faults: ([\s\S]*?)\.\n/.exec(read('docs/demo-faults.md'))!;
    expect([...list!.matchAll(/`([a-z-]+)`/g)].map((m) => m[1])).toEqual([...faultNames]);
  });

  it('tells the exit codes as they are', () => {
    expect([...read('docs/commands.md').matchAll(/^\| (\d) \|/gm)].map((m) => Number(m[1]))).toEqual(Object.values(exit));
  });
});

describe('the page of transfers that go wrong', () => {
  const page = read('docs/when-nothing-moves.md');
  it.each(transferFaults.map((f) => [f.name, f] as const))('tells of %s as the table does', (name, f) => {
    const row = page.split('\n').find((line) => line.includes(`\`${name}\``));
    for (const part of [f.what, f.sign, `\`${f.cause}\``]) expect(row).toContain(part);
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

describe('the page of rollouts', () => {
  it('names every hazard, and which of them have to be accepted', () => {
    const rows = [...read('docs/rollout-lifecycle.md').matchAll(/^\| `([\w-]+)` \| .+ \| (yes)? ?\|$/gm)].map(
      (m) => [m[1]!, m[2] === 'yes'] as const,
    );
    const told = rows.filter(([code]) => (hazardCodes as readonly string[]).includes(code));
    expect(Object.fromEntries(told)).toEqual(Object.fromEntries(hazardCodes.map((code) => [code, hazardKinds[code].accept])));
  });
});

describe('the page of images', () => {
  const page = read('docs/images.md');
  it('shows a note that is one, and names every key of it', () => {
    for (const [, json] of page.matchAll(/```json\n([\s\S]*?)```/g)) expect(readNote(json!).imageNote).toBe(1);
    const keys = Object.keys(imageNoteSchema.shape).filter((k) => k !== 'imageNote');
    const rows = [...page.matchAll(/^\| (`[^|]+) \|/gm)].flatMap((m) => [...m[1]!.matchAll(/`(\w+)`/g)].map((k) => k[1]));
    expect(rows.sort()).toEqual(keys.sort());
  });
  it('links the schema of the note as it is', () => {
    expect(JSON.parse(read('docs/image-note.schema.json'))).toEqual(imageNoteJsonSchema());
  });
});

describe('the page of families', () => {
  const page = read('docs/families.md');
  const schema = familyJsonSchema();
  it('lists what the schema says, and links the schema as it is', () => {
    expect(page.split('## Everything that a family file may say\n\n')[1]!.trim()).toBe(referenceOf(schema).trim());
    expect(JSON.parse(read('docs/family.schema.json'))).toEqual(schema);
  });
  it('says what each value is that Barrow gives', () => {
    expect([...givenValues().keys()].sort()).toEqual(Object.keys(givenWords).sort());
  });
  it('says of every key what it means', () => {
    const bare: string[] = [];
    const look = (node: SchemaNode, path: string): void => {
      for (const [key, one] of Object.entries(node.properties ?? {})) {
        if (!one.description) bare.push(`${path}.${key}`);
        look(one, `${path}.${key}`);
      }
      if (node.items) look(node.items, path);
      if (typeof node.additionalProperties === 'object') look(node.additionalProperties, path);
      for (const one of node.anyOf ?? []) look(one, path);
    };
    look(schema, '');
    for (const [name, node] of Object.entries(schema.$defs!)) look(node, name);
    expect(bare).toEqual([]);
  });
});

describe('the page of upgrade paths', () => {
  const plain = { patterns: ['(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)'], write: '{a}.{b}.{c}' };
  const scheme = { ...plain, order: ['a', 'b', 'c'].map((part) => ({ part, absent: 'first' as const })) };
  const families = new Map(['own', 'newer', 'boss'].map((f) => [f, { versions: scheme }]));
  const examples = [...read('docs/upgrade-paths.md').matchAll(/^\*\*([^*]+)\*\*(?:(?!```)[\s\S])*```yaml\n([\s\S]*?)```/gm)];
  interface Example {
    device: { runs: string; bootLoader?: string; partner?: { runs: string; target?: string; pinned?: string } };
    target: string;
    targetFamily?: string;
    down?: boolean;
    images: (Record<string, unknown> & { family?: string; bytes?: number })[];
    path?: string[];
    resets?: string[];
    gap?: string;
    wanted?: string;
    near?: string;
  }
  it('has all of them', () => expect(examples.length).toBe(11));
  it.each(examples.map((m) => [m[1]!, parse(m[2]!) as Example]))('is true: %s', (_, e) => {
    const images = e.images.map(({ bytes = 100, ...note }, i): PathImage => {
      const full = imageNoteSchema.parse({
        imageNote: 1,
        family: 'own',
        models: [note.family === 'boss' ? 'B' : 'M'],
        hardwareRevisions: ['1'],
        ...note,
      });
      return { ...full, sha256: String(i).padStart(64, '0'), file: `${full.family}-${full.version}`, bytes };
    });
    const hardware = (family: string, model: string) => ({ family, model, hardwareRevision: '1', variant: '' });
    const { partner: p } = e.device;
    const partner: PathPartner | null = p
      ? {
          id: 'p',
          name: 'partner',
          hardware: hardware('boss', 'B'),
          firmware: p.runs,
          bootLoader: null,
          partner: null,
          target: p.target ? { family: 'boss', version: p.target, acceptUnreleased: false } : null,
          pinned: p.pinned ?? null,
        }
      : null;
    const device = { hardware: hardware('own', 'M'), firmware: e.device.runs, bootLoader: e.device.bootLoader ?? null, partner };
    const target = { family: e.targetFamily ?? 'own', version: e.target, acceptUnreleased: false };
    const { path, gap } = new PathBook(families, images).toTarget(device, target, e.down);
    if (e.path) expect(path?.steps.map((s) => `${s.on ? 'partner ' : ''}${s.image.version}`)).toEqual(e.path);
    if (e.resets) expect(path?.steps.flatMap((s) => s.resets)).toEqual(e.resets);
    if (e.gap) expect(gap?.text).toContain(e.gap);
    if (e.wanted) expect(gap?.wanted).toBe(e.wanted);
    if (e.near) expect(gap?.near?.why).toBe(e.near);
    expect(e.path === undefined).toBe(path === null);
  });
});

describe('the lifecycle page', () => {
  it('walks through every step in order', () => {
    const page = read('docs/rollout-lifecycle.md');
    expect([...page.matchAll(/^\| \d \| `([a-z-]+)` \|/gm)].map((m) => m[1])).toEqual([...firstSteps]);
  });
});

describe('the page of causes', () => {
  it('names commands with the arguments that they need', async () => {
    for (const { code, next } of causes)
      for (const [, line] of next.matchAll(/`barrow ([^`]+)`/g)) {
        const words = line!.split(' ');
        const option = words.findIndex((w) => w.startsWith('-'));
        const plain = option < 0 ? words : words.slice(0, option);
        const path = plain.filter((w) => /^[a-z-]+$/.test(w));
        const [, usage = ''] = /^Usage: barrow (.*)$/m.exec(await helpOf(path)) ?? [];
        expect(plain.length - path.length, `${code}: ${line!} of ${usage}`).toBeGreaterThanOrEqual([...usage.matchAll(/<[a-z]/g)].length);
      }
  });
  it('is the catalogue, word for word', () => {
    const page = read('docs/causes.md');
    for (const cause of causes) for (const text of [`\`${cause.code}\``, cause.what, cause.next]) expect(page, cause.code).toContain(text);
    expect([...page.matchAll(/^\| `/gm)].length).toBe(causes.length);
    const faults = [...upgradeFaults, ...aroundFaults];
    for (const { device, fault, cause, what } of faults) {
      expect(page).toContain(`| ${what} | \`${fault}\` of \`${device}\` | \`${cause}\` |`);
      expect(causes.some((c) => c.code === cause)).toBe(true);
    }
    expect(page).toContain(`Each of these ${faults.length + transferFaults.reduce((sum, f) => sum + f.by.length, 0)} is`);
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
