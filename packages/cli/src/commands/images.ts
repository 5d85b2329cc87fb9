import { createReadStream } from 'node:fs';
import { stat } from 'node:fs/promises';
import { basename } from 'node:path';
import { Readable } from 'node:stream';
import type { Register } from '../context.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { clock, count, octets, print, table } from '../output.js';

export const registerImages: Register = (program, act) => {
  const image = program.command('image').description('firmware files');
  image
    .command('add <file>')
    .description('add an image; it is read, matched and checked before it is taken')
    .option('--family <family>', 'what you believe it is for; a contradiction is refused')
    .option('--model <model>', 'the model you want it for')
    .option('--revision <revision>', 'the hardware revision you want it for')
    .option('--version <version>', 'the version you believe it is')
    .option('--sha256 <digest>', 'the digest that its source published')
    .action(
      act(
        async (
          { say, client },
          file: string,
          o: { family?: string; model?: string; revision?: string; version?: string; sha256?: string },
        ) => {
          const size = await stat(file).catch((error: NodeJS.ErrnoException) => {
            throw new CommandError(
              exit.wrongUse,
              'file-missing',
              'The file cannot be read',
              `${file}: ${error.code === 'ENOENT' ? 'there is no such file' : (error.code ?? error.message)}.`,
              'Check the path.',
            );
          });
          if (!size.isFile())
            throw new CommandError(
              exit.wrongUse,
              'file-missing',
              'The file cannot be read',
              `${file} is not a file.`,
              'Name one image file.',
            );
          let sent = 0;
          let shown = -1;
          const source = createReadStream(file, { highWaterMark: 1 << 18 });
          if (say.io.terminal && !say.json && size.size > 8 << 20)
            source.on('data', (chunk) => {
              sent += chunk.length;
              const percent = Math.floor((sent / size.size) * 100);
              if (percent !== shown) say.io.err(`\r\u001b[K${(shown = percent)} % of ${octets(size.size)}`);
              if (percent === 100) say.io.err('\r\u001b[K');
            });
          const { image: made, isNew } = await client().addImage({
            file: basename(file),
            body: Readable.toWeb(source) as never,
            family: o.family,
            model: o.model,
            hardwareRevision: o.revision,
            version: o.version,
            sha256: o.sha256,
          });
          print(say, made, () =>
            [
              `${isNew ? 'Added' : 'The store had this already'}: ${made.file}, version ${made.version}, ${octets(made.bytes)}`,
              `  for     ${made.maker} ${made.models.join(', ')}, hardware ${made.hardwareRevisions.join(', ')} (${made.family})`,
              `  SHA-256 ${made.sha256}`,
              `  fits    ${count(made.fits, 'known device')}`,
            ].join('\n'),
          );
        },
      ),
    );
  image
    .command('list')
    .description('the images in the store')
    .action(
      act(async ({ say, client }) => {
        const all = await client().images();
        print(say, all, () =>
          all.length === 0
            ? 'The store is empty. Add an image with `barrow image add FILE`.'
            : table(
                say.io,
                ['FILE', 'VERSION', 'FAMILY', 'MODELS', 'HW', 'SIZE', 'FITS', 'SHA-256', 'ADDED'],
                all.map((i) => [
                  i.file,
                  i.version,
                  i.family,
                  i.models.join(' '),
                  i.hardwareRevisions.join(' '),
                  octets(i.bytes),
                  i.fits,
                  `${i.sha256.slice(0, 12)}…`,
                  clock(i.addedAt),
                ]),
                [5, 6],
              ),
        );
      }),
    );
  image
    .command('show <image>')
    .description('one image, by file name or digest')
    .action(
      act(async ({ say, client }, id: string) => {
        const i = await client().image(id);
        print(say, i, () =>
          (
            [
              ['file', i.file],
              ['version', i.version],
              ['family', i.family],
              ['models', i.models.join(', ')],
              ['hardware', i.hardwareRevisions.join(', ')],
              ['variant', i.variant || 'plain'],
              ['size', `${octets(i.bytes)} (${i.bytes} octets)`],
              ['SHA-256', i.sha256],
              ['added', `${clock(i.addedAt)} by ${i.addedBy}`],
              ['fits', count(i.fits, 'known device')],
            ] as const
          )
            .map(([k, v]) => `${k.padEnd(10)}${v}`)
            .join('\n'),
        );
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
    .command('remove <image>')
    .description('remove an image that nothing needs')
    .action(
      act(async ({ say, client }, id: string) => {
        const done = await client().removeImage(id);
        print(say, done, () => `Image ${done.removed} removed.`);
      }),
    );

  const staging = program.command('staging').description('what is offered, where, and to whom');
  staging
    .command('put <image> <devices...>')
    .description('offer an image to devices that it fits, and to nobody else')
    .action(
      act(async ({ say, client }, id: string, devices: string[]) => {
        const made = await client().putOffer(id, devices);
        print(say, made, () => made.map((o) => `${o.url} for ${o.devices.map((d) => d.name).join(', ')}`).join('\n'));
      }),
    );
  staging
    .command('list')
    .description('the offers')
    .action(
      act(async ({ say, client }) => {
        const all = await client().offers();
        print(say, all, () =>
          all.length === 0
            ? 'Nothing is offered. A rollout stages by itself; by hand: `barrow staging put IMAGE DEVICE`.'
            : table(
                say.io,
                ['FILE', 'URL', 'SIZE', 'STAGED BY', 'FOR'],
                all.map((o) => [o.file, o.url, octets(o.bytes), o.rollout ?? 'a person', o.devices.map((d) => d.name).join(', ')]),
                [2],
              ),
        );
      }),
    );
  staging
    .command('drop <image>')
    .description('take back what a person offered')
    .option('--device <device>', 'only for this device')
    .action(
      act(async ({ say, client }, id: string, o: { device?: string }) => {
        const done = await client().dropOffer(id, o.device);
        print(say, done, () => `${count(done.dropped, 'offer')} dropped.`);
      }),
    );

  program
    .command('transfer')
    .description('what is moving, what moved, and what did not')
    .command('list')
    .description('transfers and refused requests, newest first')
    .option('--most <n>', 'at most so many', '40')
    .action(
      act(async ({ say, client }, o: { most: string }) => {
        const all = await client().transfers(Number(o.most));
        print(say, all, () =>
          all.length === 0
            ? 'No device has asked for anything yet.'
            : table(
                say.io,
                ['ASKED', 'DEVICE', 'PEER', 'FILE', 'STATE', 'MOVED', 'RATE', 'BLOCK', 'RESENT', 'DETAIL'],
                all.map((t) => [
                  clock(t.askedAt),
                  t.deviceName ?? 'nobody known',
                  t.peer,
                  t.file,
                  t.state,
                  t.state === 'refused' ? null : `${octets(t.bytes)} of ${octets(t.totalBytes)}`,
                  t.state === 'refused' ? null : `${octets(t.rate)}/s`,
                  t.blockSize,
                  t.resent,
                  t.detail,
                ]),
                [6, 7, 8],
              ),
        );
      }),
    );

  const backup = program.command('backup').description('configurations saved from devices');
  backup
    .command('take <device>')
    .description('save the configuration now')
    .action(
      act(async ({ say, client }, device: string) => {
        const made = await client().takeBackup(device);
        print(say, made, () => `Backup ${made.id} of ${made.deviceName}: ${octets(made.bytes)}, SHA-256 ${made.sha256}.`);
      }),
    );
  backup
    .command('list')
    .description('the backups, newest first')
    .option('--device <device>', 'of one device')
    .action(
      act(async ({ say, client }, o: { device?: string }) => {
        const all = await client().backups(o.device);
        print(say, all, () =>
          all.length === 0
            ? 'Nothing was saved yet. A rollout saves before it changes; by hand: `barrow backup take DEVICE`.'
            : table(
                say.io,
                ['ID', 'DEVICE', 'TAKEN', 'FIRMWARE', 'SIZE', 'SHA-256', 'ROLLOUT'],
                all.map((b) => [b.id, b.deviceName, clock(b.takenAt), b.firmware, octets(b.bytes), `${b.sha256.slice(0, 12)}…`, b.rollout]),
                [4],
              ),
        );
      }),
    );
  backup
    .command('show <id>')
    .description('the content of a backup, secrets and all (admin)')
    .action(
      act(async ({ say, client }, id: string) => {
        const b = await client().backup(id);
        print(say, b, () => b.text);
      }),
    );
  backup
    .command('compare <before> <after>')
    .description('the differences between two backups of one device (admin)')
    .action(
      act(async ({ say, client }, before: string, after: string) => {
        const d = await client().compareBackups(before, after);
        print(say, d, () =>
          d.same
            ? 'The same, apart from lines that change by themselves.'
            : `${d.removed} lines gone, ${d.added} new\n${d.lines.join('\n')}`,
        );
      }),
    );
};
