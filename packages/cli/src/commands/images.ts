import { createReadStream, createWriteStream } from 'node:fs';
import { rm, stat, writeFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import {
  describeFrom,
  noteNameOf,
  NoteUnreadable,
  readNote,
  type Channel,
  type Image,
  type ImageDetail,
  type ImageNote,
  type Taken,
} from '@barrow/core';
import type { Register } from '../context.js';
import { CommandError, exit, Quiet, report } from '../errors.js';
import { readText } from '../read-text.js';
import { clock, count, makeColours, Mark, octets, print, table, type Io, type Say } from '../output.js';
import { batchesOf, readChecksumFile, takeBatch, type OnProgress } from '../upload.js';

interface AddOptions {
  oneRelease?: boolean;
  family?: string;
  model?: string;
  revision?: string;
  variant?: string;
  version?: string;
  channel?: Channel;
  sha256?: string;
  digest?: string;
  checksums?: string;
  writeNote?: boolean;
  asIs?: boolean;
}

/** The channel of an image by word and shape; a withdrawn one says so instead. */
function channelMark(io: Io, image: Pick<Image, 'channel' | 'withdrawn'>): Mark {
  const c = makeColours(io);
  if (image.withdrawn) return new Mark(c.red('■ withdrawn'));
  return new Mark(
    { release: '● release', transitional: c.cyan('» transitional'), candidate: c.yellow('△ candidate'), beta: c.yellow('△ beta') }[
      image.channel
    ],
  );
}

/** Progress of a large upload, on a terminal only. */
function progressOf({ io, json }: Say): OnProgress {
  let shown = '';
  return (file, sent, of) => {
    if (!io.terminal || json || of < 8 << 20) return;
    const percent = Math.floor((sent / of) * 100);
    const line = `${file}: ${percent} % of ${octets(of)}`;
    if (line === shown) return;
    shown = line;
    io.err(sent === of ? '\r\u001b[K' : `\r\u001b[K${line}`);
  };
}

const describeTaken = ({ images, remarks }: Taken): string =>
  [
    ...images.flatMap((made) => [
      `${made.isNew ? 'Added' : 'The store had this already'}: ${made.file}, version ${made.version}, ${made.files.length > 1 ? `${made.files.length} files, ` : ''}${octets(made.bytes)}${made.channel === 'release' ? '' : `, ${made.channel}`}`,
      `  for     ${made.maker} ${made.models.join(', ')}, hardware ${made.hardwareRevisions.join(', ')}${made.variant ? `, ${made.variant}` : ''} (${made.family})`,
      `  SHA-256 ${made.sha256}`,
      `  fits    ${count(made.fits, 'known device')}`,
    ]),
    ...remarks.map((r) => `  note    ${r}`),
  ].join('\n');

const noteText = (note: ImageNote): string => `${JSON.stringify(note, null, 2)}\n`;

export const registerImages: Register = (program, act) => {
  const image = program.command('image').description('firmware files');
  image
    .command('add <paths...>')
    .description('add images: files, folders or archives; each is read, matched and checked before it is taken')
    .option('--one-release', 'all files make one release, in this order: all or nothing')
    .option('--family <family>', 'what you believe it is for; a contradiction is refused')
    .option('--model <model>', 'the model you want it for')
    .option('--revision <revision>', 'the hardware revision you want it for')
    .option('--variant <variant>', 'the variant you want it for')
    .option('--version <version>', 'the version you believe it is')
    .option('--channel <channel>', 'release, candidate, beta or transitional')
    .option('--sha256 <digest>', 'the digest that its source published')
    .option('--digest <digest>', 'the same as SHA-512; or as SHA-1 or MD5, which only compare')
    .option('--checksums <file>', 'a checksum file of the source, with lines of digest and name')
    .option('--as-is', 'an archive is what the device takes: do not unpack it')
    .option('--write-note', 'write what is known of it to a note beside the file')
    .action(
      act(async ({ say, client }, paths: string[], o: AddOptions) => {
        const barrow = client();
        const given = o.checksums === undefined ? null : await readText(o.checksums, 'checksum file');
        if (given !== null) readChecksumFile(given, o.checksums!);
        const batches = await batchesOf(paths, o.oneRelease === true);
        const all: Taken = { images: [], remarks: [] };
        let worst = 0;
        for (const batch of batches) {
          const wishes = {
            oneRelease: o.oneRelease === true,
            family: o.family ?? null,
            model: o.model ?? null,
            hardwareRevision: o.revision ?? null,
            variant: o.variant ?? null,
            version: o.version ?? null,
            channel: o.channel ?? null,
            digest: o.sha256 ?? o.digest ?? null,
            checksums: given,
            asIs: o.asIs === true,
          };
          try {
            const taken = await takeBatch(barrow, batch, wishes, progressOf(say));
            all.images.push(...taken.images);
            all.remarks.push(...taken.remarks);
            if (!say.json) say.io.out(`${describeTaken(taken)}\n`);
            if (o.writeNote)
              for (const made of taken.images) {
                const path = join(dirname(batch.paths[0]!), noteNameOf(made.files[0]!.file));
                await writeFile(path, noteText((await barrow.image(made.sha256)).note));
                if (!say.json) say.io.out(`  wrote   ${path}\n`);
              }
          } catch (error) {
            // One release that is refused does not keep the others out.
            if (batches.length === 1) throw error;
            worst = Math.max(worst, report(error, say));
          }
        }
        if (say.json) say.io.out(`${JSON.stringify(all, null, 2)}\n`);
        else if (batches.length > 1)
          say.io.out(
            `${count(all.images.filter((i) => i.isNew).length, 'image')} added, ${all.images.filter((i) => !i.isNew).length} here already.\n`,
          );
        if (worst > 0) throw new Quiet(worst as 4);
      }),
    );
  image
    .command('list')
    .description('the images in the store')
    .option('--family <family>', 'of one family')
    .action(
      act(async ({ say, client }, o: { family?: string }) => {
        const all = (await client().images()).filter((i) => o.family === undefined || i.family === o.family);
        print(say, all, () =>
          all.length === 0
            ? 'The store is empty. Add an image with `barrow image add FILE`.'
            : table(
                say.io,
                ['FILE', 'VERSION', 'CHANNEL', 'FAMILY', 'MODELS', 'HW', 'SIZE', 'FITS', 'RUN IT', 'TAKE IT', 'SHA-256'],
                all.map((i) => [
                  i.files.length > 1 ? `${i.file} (${i.files.length} files)` : i.file,
                  i.component === 'system' ? i.version : `${i.version} loader`,
                  channelMark(say.io, i),
                  i.family,
                  `${i.models.join(' ')}${i.variant ? ` ${i.variant}` : ''}`,
                  i.hardwareRevisions.join(' '),
                  octets(i.bytes),
                  i.fits,
                  i.runs,
                  i.onPaths,
                  `${i.sha256.slice(0, 12)}…`,
                ]),
                [6, 7, 8, 9],
              ),
        );
      }),
    );
  image
    .command('show <image>')
    .description('one image, by file name or digest: who may run it, who does, what it mends and breaks')
    .action(
      act(async ({ say, client }, id: string) => {
        const i = await client().image(id);
        print(say, i, () => describeImage(say.io, i));
      }),
    );
  image
    .command('note <image>')
    .description('print the note of an image, or put another to it')
    .option('--set <file>', 'a note to put in its place')
    .action(
      act(async ({ say, client }, id: string, o: { set?: string }) => {
        if (o.set === undefined) {
          say.io.out(noteText((await client().image(id)).note));
          return;
        }
        let note: ImageNote;
        try {
          note = readNote(await readText(o.set, 'note'));
        } catch (error) {
          if (!(error instanceof NoteUnreadable)) throw error;
          throw new CommandError(
            exit.refused,
            'note-unreadable',
            'The note was not taken',
            `${o.set}: ${error.message}.`,
            'Mend the note; docs/images.md tells what stands in it.',
          );
        }
        const made = await client().setNote(id, note);
        print(
          say,
          made,
          () => `${made.file} has the new note: ${made.channel}${made.withdrawn ? `, withdrawn: ${made.withdrawn.why}` : ''}.`,
        );
      }),
    );
  image
    .command('withdraw <image>')
    .description('mark an image as withdrawn: it is never staged and never a step of a path')
    .option('--why <why>', 'the reason')
    .option('--undo', 'it may be used again')
    .action(
      act(async ({ say, client }, id: string, o: { why?: string; undo?: boolean }) => {
        if (!o.undo && !o.why)
          throw new CommandError(
            exit.wrongUse,
            'reason-missing',
            'The command was not understood',
            'A withdrawal has a reason.',
            'Give it: --why "loses its address".',
          );
        const { note } = await client().image(id);
        const made = await client().setNote(id, { ...note, withdrawn: o.undo ? null : { why: o.why! } });
        print(say, made, () => (made.withdrawn ? `${made.file} is withdrawn: ${made.withdrawn.why}.` : `${made.file} may be used again.`));
      }),
    );
  image
    .command('verify')
    .description('read the whole store again and name what has rotted')
    .action(
      act(async ({ say, client }) => {
        const all = await client().verifyImages();
        print(say, all, () =>
          table(
            say.io,
            ['FILE', 'SHA-256', 'SOUND', 'DETAIL'],
            all.map((i) => [i.file, `${i.sha256.slice(0, 12)}…`, i.sound ? '✓ yes' : '✕ NO', i.detail]),
          ),
        );
        if (all.some((i) => !i.sound)) throw new Quiet(exit.workFailed);
      }),
    );
  image
    .command('export <file> [images...]')
    .description('write images with their notes, families and targets to one archive, for a place without a network')
    .action(
      act(async ({ say, client }, file: string, images: string[]) => {
        const stream = await client().exportImages(images);
        try {
          await pipeline(Readable.fromWeb(stream as never), createWriteStream(file, { mode: 0o600 }));
        } catch (error) {
          await rm(file, { force: true });
          throw error;
        }
        const { size } = await stat(file);
        print(say, { file, bytes: size }, () => `${file}: ${octets(size)}. Take it in there with \`barrow image import ${file}\`.`);
      }),
    );
  image
    .command('import <file>')
    .description('take in an archive that was exported elsewhere; it is checked as a whole first (admin)')
    .option('--dry-run', 'only say what would be taken')
    .action(
      act(async ({ say, client }, file: string, o: { dryRun?: boolean }) => {
        await readable(file);
        const done = await client().importImages(Readable.toWeb(createReadStream(file, { highWaterMark: 1 << 18 })) as never, o.dryRun);
        print(say, done, () =>
          [
            table(
              say.io,
              ['IMAGE', 'VERSION', 'WHAT'],
              done.images.map((i) => [i.file, i.version, i.what]),
            ),
            done.families.length > 0
              ? `\n${table(
                  say.io,
                  ['FAMILY', 'WHAT'],
                  done.families.map((f) => [f.family, f.what]),
                )}`
              : '',
            done.targets.length > 0
              ? `\n${table(
                  say.io,
                  ['TARGET', 'VERSION', 'FOR', 'WHAT'],
                  done.targets.map((t) => [t.family, t.version, t.scope, t.what]),
                )}`
              : '',
          ].join('\n'),
        );
      }),
    );
  image
    .command('read <image>')
    .description('print the notes of an image, and keep that you have read them')
    .action(
      act(async ({ say, client }, id: string) => {
        const made = await client().readNotes(id);
        print(say, made, () =>
          made.note.notes === ''
            ? `${made.file} comes without notes.`
            : `${made.note.notes}\n\n${made.file}: kept as read by ${made.read.at(-1)!.by}.`,
        );
      }),
    );
  image
    .command('remove <image>')
    .description('remove an image that no rollout and no staging needs')
    .option('--yes', 'remove it although devices need it to reach their target')
    .action(
      act(async ({ say, client }, id: string, o: { yes?: true }) => {
        const { file, onPaths } = await client().image(id);
        if (onPaths > 0 && !o.yes)
          throw new CommandError(
            exit.refused,
            'image-needed',
            'Devices need this image',
            `${count(onPaths, 'device')} ${onPaths === 1 ? 'needs' : 'need'} ${file} to reach ${onPaths === 1 ? 'its' : 'their'} target.`,
            'Set another target first, or remove the image all the same: `--yes`.',
          );
        const done = await client().removeImage(id);
        print(say, done, () => `Image ${done.removed} removed.`);
      }),
    );
};

async function readable(file: string): Promise<void> {
  const found = await stat(file).catch(() => null);
  if (!found?.isFile())
    throw new CommandError(exit.wrongUse, 'file-missing', 'The file cannot be read', `${file}: there is no such file.`, 'Check the path.');
}

const comparedWords = {
  strong: 'with a digest that its source published',
  weak: 'with a checksum that shows damage and no forgery',
  not: 'with nothing that its source published',
} as const;

function describeImage(io: Io, i: ImageDetail): string {
  const c = makeColours(io);
  const { note } = i;
  const partners = note.needs.partners.map(
    (p) =>
      `${p.family} ${p.atLeast} or newer${p.upTo ? `, ${p.upTo} or older` : ''}${p.whenAlone === 'allowed' ? ' where there is one' : ''}`,
  );
  const rows: [string, string | null][] = [
    ['file', i.file],
    ['version', `${i.version}${i.component === 'boot-loader' ? ' (boot loader)' : ''}`],
    ['channel', i.withdrawn ? `withdrawn${i.withdrawn.since ? ` on ${i.withdrawn.since}` : ''}: ${i.withdrawn.why}` : i.channel],
    ['family', i.family],
    ['models', i.models.join(', ')],
    ['hardware', i.hardwareRevisions.join(', ')],
    ['variant', i.variant || 'plain'],
    ['size', `${octets(i.bytes)} (${i.bytes} octets)`],
    ['SHA-256', i.sha256],
    ['added', `${clock(i.addedAt)} by ${i.addedBy}`],
    ['compared', comparedWords[i.compared ?? 'not']],
    ['read by', i.read.map((r) => r.by).join(', ') || (note.notes === '' ? null : 'nobody')],
    ['from', describeFrom(note.from)],
    [
      'needs',
      [
        note.needs.bootLoader ? `boot loader ${note.needs.bootLoader}` : null,
        ...partners,
        ...note.needs.programs.map((p) => `${p.name} ${p.atLeast}`),
        note.needs.licence ? `of a licence: ${note.needs.licence}` : null,
      ]
        .filter(Boolean)
        .join('; ') || null,
    ],
    ['brings', note.bringsBootLoader ? `boot loader ${note.bringsBootLoader}` : null],
    ['room', note.spaceBytes === null ? null : octets(note.spaceBytes)],
    ['down', note.goingDown === 'allowed' ? 'a newer device may go down to it' : null],
    ['fits', `${count(i.fits, 'known device')}; ${i.runs} run it, ${i.onPaths} would take it`],
    ['mends', i.fixes.map((f) => (f.advisory ? `${f.text} (${count(f.exposed, 'device')} exposed)` : f.text)).join(', ') || null],
    ...i.breaks.map((b): [string, string] => [
      'breaks',
      `${b.text}: ${b.devices === 0 ? 'no device here' : `${count(b.devices, 'device')} (${b.names.join(', ')}${b.devices > b.names.length ? ', …' : ''})`}`,
    ]),
  ];
  const files =
    i.files.length > 1
      ? `\n\n${table(
          io,
          ['', 'FILE', 'SIZE', 'SHA-256'],
          i.files.map((f, n) => [n + 1, f.file, octets(f.bytes), f.sha256]),
          [0, 2],
        )}`
      : '';
  const text = rows
    .filter(([, v]) => v !== null)
    .map(([k, v]) => `${k.padEnd(10)}${v}`)
    .join('\n');
  return `${text}${files}${note.notes ? `\n\n${c.bold('Release notes')}\n${note.notes}` : ''}`;
}
