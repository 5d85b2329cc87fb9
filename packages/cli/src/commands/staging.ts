import type { Register } from '../context.js';
import { clock, count, octets, print, table } from '../output.js';

export const registerStaging: Register = (program, act) => {
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
