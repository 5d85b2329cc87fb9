import type { Register } from '../context.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { readText } from '../read-text.js';
import { count, print, table } from '../output.js';

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
            ...(found.procedures.length > 0 ? [`  procedures: ${found.procedures.join(', ')}`] : []),
            `  ${count(found.devices, 'device')} known`,
          ].join('\n'),
        );
      }),
    );
  family
    .command('add <file>')
    .description('have the service know the gear that a family file describes, from now on')
    .option('--replace', 'instead of the file of that family that was added before')
    .action(
      act(async ({ say, client }, file: string, o: { replace?: boolean }) => {
        const made = await client().addFamily(await readText(file), o.replace === true);
        print(say, made, () =>
          [
            `${made.title} (${made.family}): ${made.what}.`,
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
    .action(
      act(async ({ say, client }, name: string) => {
        const found = await client().familyFile(name);
        print(say, found, () => found.text.trimEnd());
      }),
    );
  family
    .command('check <file>')
    .description('check a family file, here, without the service; faults are told with their line')
    .action(
      act(async ({ say }, file: string) => {
        const { FamilyFileError, faultLines, parseFamily, remarksOfSense, whatWorks } = await import('@barrow/families');
        const text = await readText(file);
        try {
          const parsed = parseFamily(text, file);
          const remarks = remarksOfSense(parsed).map((r) => ({ where: r.path.join('.'), message: r.message }));
          const works = whatWorks(parsed);
          print(say, { file, family: parsed.family, faults: [], works, remarks }, () =>
            [
              `${file}: family ${parsed.family}, ${parsed.models.length} models, no faults.`,
              ...works.map((line) => `  ${line}`),
              ...remarks.map((r) => `  ${r.where}: ${r.message}.`),
            ].join('\n'),
          );
        } catch (error) {
          if (!(error instanceof FamilyFileError)) throw error;
          print(say, { file, faults: error.faults }, () => faultLines(error.faults));
          throw new Quiet(exit.workFailed);
        }
      }),
    );
};
