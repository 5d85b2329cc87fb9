import type { Register } from '../context.js';
import { open, readdir, readFile, writeFile } from 'node:fs/promises';
import { basename, join } from 'node:path';
import type { FileFault } from '@barrow/families';
import { CommandError, exit, faultsIn, Quiet } from '../errors.js';
import { readText } from '../read-text.js';
import { clock, count, octets, print, table } from '../output.js';

interface Checked {
  readonly file: string;
  readonly family: string | null;
  readonly models: number;
  readonly faults: readonly FileFault[];
  readonly works: readonly string[];
  readonly remarks: readonly { readonly where: string; readonly message: string }[];
}

/** The archive that a path leads to; null when it is none, or cannot be read. */
async function archiveAt(path: string): Promise<Buffer | null> {
  const file = await open(path).catch(() => null);
  if (file === null) return null;
  try {
    const start = Buffer.alloc(262);
    // IEEE 1003.1 ustar: the magic of its header.
    const { bytesRead } = await file.read(start, 0, 262, 0).catch(() => ({ bytesRead: 0 }));
    return bytesRead === 262 && start.toString('latin1', 257) === 'ustar' ? await readFile(path) : null;
  } finally {
    await file.close();
  }
}

/** What was said while a family file was taught, by procedure: what stands beside it; absent when nothing does. */
async function conversationsBeside(file: string): Promise<Record<string, string> | undefined> {
  const { conversationFolder } = await import('@barrow/families');
  const folder = conversationFolder(file);
  const files = (await readdir(folder).catch(() => [])).filter((f) => f.endsWith('.yaml')).sort();
  if (files.length === 0) return undefined;
  return Object.fromEntries(await Promise.all(files.map(async (f) => [basename(f, '.yaml'), await readText(join(folder, f))] as const)));
}

/** The family files at a path: itself, or those of a folder. @throws CommandError when there is none */
async function filesAt(path: string): Promise<string[]> {
  const { readdir, stat } = await import('node:fs/promises');
  const isFolder = await stat(path).then(
    (s) => s.isDirectory(),
    () => false,
  );
  if (!isFolder) return [path];
  const files = (await readdir(path)).filter((f) => f.endsWith('.yaml')).sort();
  if (files.length > 0) return files.map((f) => join(path, f));
  throw new CommandError(
    exit.wrongUse,
    'file-missing',
    'Nothing was checked',
    `${path} has no family file.`,
    'Name a folder with files that end in .yaml.',
  );
}

/** What is wrong with a family file; of one with nothing wrong, what it is good for. */
async function checked(file: string): Promise<Checked> {
  const { FamilyFileError, parseFamily, remarksOfSense, whatWorks } = await import('@barrow/families');
  const text = await readText(file);
  try {
    const parsed = parseFamily(text, file);
    const remarks = remarksOfSense(parsed).map((r) => ({ where: r.path.join('.'), message: r.message }));
    return { file, family: parsed.family, models: parsed.models.length, faults: [], works: whatWorks(parsed), remarks };
  } catch (error) {
    if (!(error instanceof FamilyFileError)) throw error;
    return { file, family: null, models: 0, faults: error.faults, works: [], remarks: [] };
  }
}

export const registerFamilies: Register = (program, act) => {
  const family = program.command('family').description('the gear that Barrow knows, and how it is handled');
  family
    .command('list')
    .description('the families of the service')
    .action(
      act(async ({ say, client }) => {
        const all = await client().families();
        print(say, all, () =>
          table(
            say.io,
            ['FAMILY', 'TITLE', 'KIND', 'MODELS', 'KNOWN BY', 'UPGRADES', 'DEVICES', 'FROM'],
            all.map((f) => [
              f.family,
              f.title,
              f.kind,
              f.models.map((m) => m.model).join(', '),
              f.recognisedBy.join(', ') || 'its parent',
              f.travel ?? 'recorded only',
              f.devices,
              f.added ? 'added here' : 'Barrow',
            ]),
            [6],
          ),
        );
      }),
    );
  family
    .command('expected')
    .description('which differences of settings come with which version, as persons have accepted them')
    .option('--forget <family>', 'tell those of this family again, with --from and --to')
    .option('--from <version>', 'the version before')
    .option('--to <version>', 'the version after')
    .action(
      act(async ({ say, client }, o: { forget?: string; from?: string; to?: string }) => {
        const barrow = client();
        if (o.forget !== undefined && (o.from === undefined || o.to === undefined))
          throw new CommandError(
            exit.wrongUse,
            'command-misread',
            'The command was not understood',
            'Which version step is meant is not said.',
            `Say both: \`barrow family expected --forget ${o.forget} --from VERSION --to VERSION\`.`,
          );
        const items =
          o.forget === undefined ? await barrow.expected() : await barrow.forgetExpected({ family: o.forget, from: o.from!, to: o.to! });
        print(say, { items }, () =>
          items.length === 0
            ? 'No difference of settings, and no complaint of a log, is expected of any version. `barrow rollout expect ROLLOUT DEVICE` looks at those of a device.'
            : items
                .map(({ family: name, from, to, lines, by, at }) =>
                  [`${name} from ${from} to ${to}, accepted by ${by} at ${clock(at)}`, ...lines.map((l) => `  ${l}`)].join('\n'),
                )
                .join('\n'),
        );
      }),
    );
  family
    .command('show <family>')
    .description('one family: models, hardware revisions, handling')
    .action(
      act(async ({ say, client }, name: string) => {
        const all = await client().families();
        const found = all.find((f) => f.family === name);
        if (!found)
          throw new CommandError(
            exit.wrongUse,
            'family-unknown',
            'There is no such family',
            `"${name}" is not known.`,
            `The families are ${all.map((f) => f.family).join(', ')}.`,
          );
        print(say, found, () =>
          [
            `${found.title} (${found.family}), ${found.kind}`,
            ...found.models.map((m) => `  ${m.model}${m.variant ? ` ${m.variant}` : ''}, hardware ${m.revisions.join(', ')}`),
            `  known by: ${found.recognisedBy.join(', ') || 'what its parent tells'}`,
            ...(found.upgradable
              ? [
                  `  ${[found.travel, found.storage].filter(Boolean).join('; ')}`,
                  ...found.ways.flatMap((w) => [
                    `  ${w.name}${w.component === 'system' ? '' : `, for a ${w.component}`}${w.from ? `, from ${w.from}` : ''}: ${w.steps.join(' → ')}`,
                    `    point of no return: ${w.pointOfNoReturn}`,
                  ]),
                ]
              : ['  discovered and recorded; Barrow cannot upgrade it yet']),
            ...found.works.map((line) => `  ${line}`),
            ...(found.unproven.length > 0
              ? [`  not yet proven here: ${found.unproven.join(', ')}; the first goes alone, and is accepted by a person`]
              : []),
            ...(found.procedures.length > 0 ? [`  procedures: ${found.procedures.join(', ')}`] : []),
            `  ${count(found.devices, 'device')} known`,
          ].join('\n'),
        );
      }),
    );
  family
    .command('add <file>')
    .description('have the service know the gear that a family file, or an archive of one, describes, from now on')
    .option('--replace', 'instead of the file of that family that was added before')
    .action(
      act(async ({ say, client }, file: string, o: { replace?: boolean }) => {
        const replace = o.replace === true;
        const archive = await archiveAt(file);
        const made = archive
          ? await client().addFamilyArchive(archive.toString('base64'), replace)
          : await faultsIn(file, client().addFamily(await readText(file), replace, await conversationsBeside(file)));
        print(say, made, () =>
          [
            `${made.title} (${made.family}): ${made.what}.`,
            ...(made.conversations > 0 ? [`  ${count(made.conversations, 'conversation')} with it, kept beside it`] : []),
            ...made.works.map((line) => `  ${line}`),
            ...made.remarks.map((remark) => `  ${remark}.`),
            'Devices of it are recognised by the next discovery: `barrow discover`.',
          ].join('\n'),
        );
      }),
    );
  family
    .command('remove <family>')
    .description('remove a family that was added, and of which nothing is here')
    .action(
      act(async ({ say, client }, name: string) => {
        const done = await client().removeFamily(name);
        print(say, done, () => `Family ${done.removed} removed.`);
      }),
    );
  family
    .command('write <family>')
    .description('print the file of a family, to learn from or to change')
    .option('--archive <file>', 'write it there instead, with what was said while it was taught, to be added elsewhere')
    .action(
      act(async ({ say, client }, name: string, o: { archive?: string }) => {
        if (o.archive !== undefined) {
          const archive = Buffer.from(await client().familyArchive(name));
          await writeFile(o.archive, archive).catch((error: NodeJS.ErrnoException) => {
            throw new CommandError(
              exit.wrongUse,
              'file-unusable',
              'The archive was not written',
              `${o.archive} cannot be written: ${error.code ?? error.message}.`,
              'Name another file.',
            );
          });
          return print(
            say,
            { file: o.archive, bytes: archive.length },
            () => `${o.archive}: ${octets(archive.length)}, an ordinary tar. Add it elsewhere with \`barrow family add ${o.archive}\`.`,
          );
        }
        const found = await client().familyFile(name);
        print(say, found, () => found.text.trimEnd());
      }),
    );
  family
    .command('check <paths...>')
    .description('check family files, or all of a folder, here, without the service; faults are told with line and column')
    .action(
      act(async ({ say }, paths: string[]) => {
        const { faultLines } = await import('@barrow/families');
        const files = (await Promise.all(paths.map(filesAt))).flat();
        const all: Checked[] = [];
        for (const file of files) all.push(await checked(file));
        print(say, files.length === 1 && files[0] === paths[0] ? all[0] : all, () =>
          all
            .map((c) =>
              c.faults.length > 0
                ? faultLines(c.faults)
                : [
                    `${c.file}: family ${c.family}, ${count(c.models, 'model')}, no faults.`,
                    ...c.works.map((line) => `  ${line}`),
                    ...c.remarks.map((r) => `  ${r.where}: ${r.message}.`),
                  ].join('\n'),
            )
            .join('\n'),
        );
        if (all.some((c) => c.faults.length > 0)) throw new Quiet(exit.workFailed);
      }),
    );
};
