import type { AdvisoryDetail, Exposure } from '@barrow/core';
import { collect, type Register } from '../context.js';
import { CommandError, exit } from '../errors.js';
import { readText } from '../read-text.js';
import { count, makeColours, Mark, print, table, type Io } from '../output.js';

function exposureMark(io: Io, exposure: Exposure): Mark {
  const c = makeColours(io);
  return new Mark(
    {
      exposed: c.red('■ exposed'),
      fixed: c.green('● fixed'),
      'not-affected': c.green('● not affected'),
      'under-investigation': c.yellow('△ under investigation'),
      unknown: '? unknown',
    }[exposure],
  );
}

const hopsOf = (hops: number): string => (hops === 1 ? '1 image away' : `${hops} images away`);

/** What a document fails, and what follows. */
const failsText = (fails: readonly string[]): string =>
  fails.length === 0
    ? ''
    : `  The document fails ${count(fails.length, 'mandatory test')} of CSAF 2.0, so that nobody is cleared by it:\n${fails.map((f) => `    ${f}\n`).join('')}`;

export const registerAdvisories: Register = (program, act) => {
  const advisory = program.command('advisory').description('which devices a security advisory touches');
  advisory
    .command('add <files...>')
    .description('take in advisories in CSAF 2.0 JSON; a later edition takes the place of an earlier one')
    .action(
      act(async ({ say, client }, files: string[]) => {
        const made = [];
        for (const file of files) {
          const text = await readText(file);
          const one = await client().addAdvisory(text);
          made.push(one);
          if (!say.json)
            say.io.out(
              `${one.isNew ? 'Added' : 'Taken anew'}: ${one.id}, ${one.title}\n  ${one.unmapped > 0 ? `${count(one.unmapped, 'product')} nobody has said what they are here: \`barrow advisory show ${one.id}\`` : `${count(one.devices.exposed ?? 0, 'device')} exposed`}\n${failsText(one.fails)}`,
            );
        }
        if (say.json) say.io.out(`${JSON.stringify(made, null, 2)}\n`);
      }),
    );
  advisory
    .command('list')
    .description('the advisories, with how many devices each touches')
    .action(
      act(async ({ say, client }) => {
        const all = await client().advisories();
        print(say, all, () =>
          all.length === 0
            ? 'No advisories yet. Take one in with `barrow advisory add FILE`.'
            : table(
                say.io,
                ['ID', 'TITLE', 'SEVERITY', 'SCORE', 'EXPOSED', 'FIXED', 'UNKNOWN', 'UNMAPPED', 'FAULTS'],
                all.map((a) => [
                  a.id,
                  a.title,
                  a.severity,
                  a.score,
                  a.devices.exposed ?? 0,
                  (a.devices.fixed ?? 0) + (a.devices['not-affected'] ?? 0),
                  (a.devices.unknown ?? 0) + (a.devices['under-investigation'] ?? 0),
                  a.unmapped,
                  a.fails.length,
                ]),
                [3, 4, 5, 6, 7, 8],
              ),
        );
      }),
    );
  advisory
    .command('show <id>')
    .description('one advisory: its products, what they are here, and every device that it is about')
    .action(
      act(async ({ say, client }, id: string) => {
        const a = await client().advisory(id);
        print(say, a, () => describe(say.io, a));
      }),
    );
  advisory
    .command('map <vendor> <product>')
    .description('say once what a product of an advisory is here')
    .option('--family <family>', 'the family that it is')
    .option('--model <model>', 'only this model; may repeat', collect, [])
    .option('--not-here', 'nothing of it is here')
    .option('--as-proposed <id>', 'as Barrow proposes it for this advisory')
    .action(
      act(
        async (
          { say, client },
          vendor: string,
          product: string,
          o: { family?: string; model: string[]; notHere?: boolean; asProposed?: string },
        ) => {
          let { family, model: models } = o;
          if (o.asProposed !== undefined) {
            const found = (await client().advisory(o.asProposed)).products.find(
              (p) => (p.vendor ?? '') === vendor && p.product === product,
            );
            if (!found?.proposal)
              throw new CommandError(
                exit.wrongUse,
                'no-proposal',
                'The product was not mapped',
                `Barrow proposes nothing for ${vendor} ${product}.`,
                'Say it: --family, or --not-here.',
              );
            family = found.proposal.family;
            models = found.proposal.models;
          }
          if (!family && !o.notHere)
            throw new CommandError(
              exit.wrongUse,
              'family-missing',
              'The command was not understood',
              'It is not said what the product is.',
              'Give --family, --as-proposed or --not-here.',
            );
          const done = await client().mapProduct({ vendor, product, family: o.notHere ? null : family!, models });
          print(say, done, () =>
            o.notHere
              ? `${product}: nothing of it is here.`
              : `${product} is ${family}${models.length > 0 ? `, ${models.join(', ')}` : ''}.`,
          );
        },
      ),
    );
  advisory
    .command('rank')
    .description('the exposed devices, gravest first, and how far the fixing version is')
    .action(
      act(async ({ say, client }) => {
        const all = await client().rankByAdvisories();
        print(say, all, () =>
          all.length === 0
            ? 'No device is exposed, as far as the advisories and their products are known.'
            : table(
                say.io,
                ['DEVICE', 'SITE', 'FIRMWARE', 'SCORE', 'ADVISORIES', 'FIXED BY', 'HOW FAR'],
                all.map((d) => [
                  d.name,
                  d.site,
                  d.firmware,
                  d.score,
                  d.advisories.map((x) => x.id).join(' '),
                  d.fixedBy,
                  d.hops === null ? `no way: ${d.noFix}` : hopsOf(d.hops),
                ]),
                [3],
              ),
        );
      }),
    );
  advisory
    .command('remove <id>')
    .description('remove an advisory')
    .action(
      act(async ({ say, client }, id: string) => {
        const done = await client().removeAdvisory(id);
        print(say, done, () => `Advisory ${done.removed} removed.`);
      }),
    );
};

function describe(io: Io, a: AdvisoryDetail): string {
  const c = makeColours(io);
  const products = a.products.map((p) => {
    const here = p.mapping
      ? p.mapping.family === null
        ? 'nothing of it is here'
        : `${p.mapping.family}${p.mapping.models.length > 0 ? ` ${p.mapping.models.join(' ')}` : ''}, said by ${p.mapping.confirmedBy}`
      : p.proposal
        ? `perhaps ${p.proposal.family} ${p.proposal.models.join(' ')}: ${p.proposal.why}. Confirm it.`
        : 'not known here. Say it.';
    return [p.vendor, p.product, p.versions.map((v) => `${v.version ?? 'every version'} ${v.statuses.join(', ')}`).join('; '), here];
  });
  const open = a.products.find((p) => !p.mapping);
  const devices = a.exposed.map((d) => [
    d.name,
    d.site,
    d.firmware,
    exposureMark(io, d.exposure),
    d.score,
    d.fixedBy ? `${d.fixedBy.version}, ${hopsOf(d.fixedBy.hops)}${d.fixedBy.inTarget ? ', as its target' : ''}` : (d.noFix ?? d.reason),
  ]);
  return [
    `${c.bold(a.id)} ${a.title}`,
    ...(a.fails.length > 0 ? [c.yellow(failsText(a.fails).trimEnd())] : []),
    `${a.publisher}, edition ${a.edition} of ${a.releasedAt.slice(0, 10)}, ${a.severity ?? 'severity not told'}${a.score === null ? '' : `, base score ${a.score}`}`,
    ...(a.summary ? ['', a.summary] : []),
    '',
    ...a.vulnerabilities.flatMap((v) => v.remedies.map((r) => `${v.name}: ${r.details}`)),
    '',
    table(io, ['VENDOR', 'PRODUCT', 'VERSIONS', 'HERE'], products),
    ...(open
      ? [
          '',
          `\`barrow advisory map '${open.vendor ?? ''}' '${open.product}' ${open.proposal ? `--as-proposed ${a.id}` : '--family FAMILY'}\`${open.proposal ? '' : ', or with `--not-here`'}`,
        ]
      : []),
    ...(devices.length > 0 ? ['', table(io, ['DEVICE', 'SITE', 'FIRMWARE', 'EXPOSURE', 'SCORE', 'FIXED BY'], devices, [4])] : []),
  ].join('\n');
}
