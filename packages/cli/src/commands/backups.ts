import type { RestoredView } from '@barrow/core';
import type { Register } from '../context.js';
import { exit, Quiet } from '../errors.js';
import { clock, count, octets, print, table } from '../output.js';

export const registerBackups: Register = (program, act) => {
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
    .command('retention')
    .description('for how long backups are kept; for ever, where nobody says otherwise')
    .option('--days <n>', 'drop those that are older (admin)')
    .option('--least <n>', 'but keep so many newest of each device', '5')
    .option('--for-ever', 'keep them all (admin)')
    .action(
      act(async ({ say, client }, o: { days?: string; least: string; forEver?: boolean }) => {
        const barrow = client();
        const now = o.forEver
          ? await barrow.setBackupRetention(null)
          : o.days === undefined
            ? await barrow.backupRetention()
            : await barrow.setBackupRetention({ days: Number(o.days), least: Number(o.least) });
        print(say, { retention: now }, () =>
          now === null
            ? 'Backups are kept for ever.'
            : `Backups older than ${count(now.days, 'day')} are dropped; of each device the newest ${now.least} stay, and the newest of each version that it ran.`,
        );
      }),
    );
  backup
    .command('show <id>')
    .description('the content of a backup, by its id or its digest, secrets and all (admin)')
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
  backup
    .command('restore <id>')
    .description('put the settings of a backup back into their device, on the version that wrote them (admin)')
    .option('--yes', 'do it; without, only the difference is shown and nothing is changed')
    .action(
      act(async ({ say, client }, id: string, o: { yes?: true }) => {
        const done = await client().restoreBackup(id, { look: o.yes !== true });
        print(say, done, () => restoredText(done, id, o.yes === true));
        if (o.yes && !done.same) throw new Quiet(exit.workFailed);
      }),
    );
};

/** What was put back, or would be; and what to do next. */
function restoredText({ deviceName, same, added, removed, lines, cut, refused, before }: RestoredView, id: string, done: boolean): string {
  const rest = [...lines, ...(cut > 0 ? [`… and ${cut} lines more`] : [])].join('\n');
  const count = `${removed} lines would go, ${added} would come`;
  if (!done || before === null)
    return same
      ? `${deviceName} has these settings already: nothing was changed.`
      : `${count}:\n${rest}\n\nNothing was changed. To put them back: \`barrow backup restore ${id} --yes\`.`;
  const kept = `What it had before is kept as backup ${before}.`;
  if (same) return `${deviceName} has its settings from before. ${kept}`;
  return [
    `${deviceName} did not take all of it. ${kept}`,
    ...(refused.length > 0 ? ['It refused:', ...refused.map((r) => `  ${r}`)] : []),
    `What is still otherwise (${count}):`,
    rest,
  ].join('\n');
}
