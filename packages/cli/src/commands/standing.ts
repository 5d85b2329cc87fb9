import { previewText } from '@barrow/client';
import type { Device, PinView, Standing, StandingSummary, TargetComparison } from '@barrow/core';
import { collect, type Register } from '../context.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { readText } from '../read-text.js';
import { clock, count, firmwareOf, print, standingMark, table, type Io } from '../output.js';

interface SetOptions {
  model?: string;
  revision?: string;
  site?: string;
  tag?: string;
  device?: string;
  fromFamily: string[];
  acceptUnreleased?: boolean;
  imageLater?: boolean;
  preview?: boolean;
}

/** The way in one line: what the partner takes first, then the device's own images, and what they bring with them. */
function pathText(d: Device): string {
  const steps = d.path.map((p) => `${p.on ? `${p.on.name} first: ` : ''}${p.file}${p.component === 'boot-loader' ? ' (boot loader)' : ''}`);
  const resets = [...new Set(d.path.filter((p) => p.on === null).flatMap((p) => p.resets))];
  return `${steps.join(' → ')}${resets.length > 0 ? `; resets ${resets.join(', ')}` : ''}`;
}

/** What the store lacks, and which pins want to be asked again. */
function lackingText(summary: StandingSummary | null): string {
  if (!summary) return '';
  const lacking = summary.lacking.map(
    (l) => `  ${l.wanted}: for ${count(l.devices, 'device')} (${l.names.join(', ')}${l.devices > l.names.length ? ', …' : ''})`,
  );
  const due = summary.pinsDue.map((p) => `  ${p.name} at ${p.version} was to be asked again on ${p.askAgain}: ${p.reason}`);
  return `${lacking.length > 0 ? `\n\nThe store lacks:\n${lacking.join('\n')}` : ''}${due.length > 0 ? `\n\nPins to ask again:\n${due.join('\n')}` : ''}`;
}

/** The fleet against a set of versions: a row for each rule, then what is not there, and what the set says nothing of. */
function comparisonText(io: Io, seen: TargetComparison): string {
  const few = (names: readonly string[], of: number): string => `${names.join(', ')}${of > names.length ? ', …' : ''}`;
  const rows = seen.rules.map((r) => [
    r.title,
    `${r.version}${r.remarks.length > 0 ? ' (no image)' : ''}`,
    r.scope,
    r.devices,
    r.there,
    r.oneImage + r.moreImages,
    r.devices - r.there - r.oneImage - r.moreImages,
    r.devices === 0 ? '-' : r.asTarget === r.devices ? 'all' : r.asTarget === 0 ? 'none' : `${r.asTarget}`,
  ]);
  const differ = seen.rules.flatMap((r) => [
    ...r.runs.map((v) => `  ${r.title} ${v.version ?? 'not known'}: ${count(v.devices, 'device')} (${few(v.names, v.devices)})`),
    ...r.notReached.map((n) => `    cannot get to ${r.version}: ${n.why} (${few(n.names, n.devices)})`),
    ...r.remarks.map((remark) => `    ! ${remark}`),
  ]);
  return [
    `Set ${seen.set}${seen.note === null ? '' : `: ${seen.note}`}`,
    '',
    table(io, ['FAMILY', 'VERSION', 'FOR', 'DEVICES', 'THERE', 'BEHIND', 'ELSE', 'TARGET TODAY'], rows, [3, 4, 5, 6]),
    ...(differ.length > 0 ? ['', 'Not there run:', ...differ] : []),
    ...(seen.without.length > 0 ? ['', `The set says nothing of ${seen.without.map((w) => `${w.title} (${w.devices})`).join(', ')}.`] : []),
    '',
    `${seen.there} of ${count(seen.devices, 'device')} are there.`,
  ].join('\n');
}

const pinTable = (io: Io, pins: readonly PinView[]): string =>
  table(
    io,
    ['PINNED', 'AT', 'ASK AGAIN', 'REASON', 'SET BY'],
    pins.map((p) => [p.name, p.version, p.due ? `${p.askAgain} (now)` : p.askAgain, p.reason, p.setBy]),
  );

export const registerStanding: Register = (program, act) => {
  program
    .command('standing')
    .description('every device against its target, with its upgrade path')
    .option('--site <site>', 'of one site')
    .option('--family <family>', 'of one family')
    .option('--only <standing>', 'only one standing')
    .action(
      act(async ({ say, client }, o: { site?: string; family?: string; only?: Standing }) => {
        const all = await client().devices({ site: o.site, family: o.family, standing: o.only });
        const summary = say.json ? null : await client().standing({ site: o.site, family: o.family });
        print(say, all, () => {
          if (all.length === 0) return 'No devices fit.';
          const counts = new Map<Standing, number>();
          for (const d of all) counts.set(d.standing, (counts.get(d.standing) ?? 0) + 1);
          // Devices for which nobody set a target are counted, and listed when they are asked for.
          const shown = o.only === 'no-target' || counts.size === 1 ? all : all.filter((d) => d.standing !== 'no-target');
          const rows = shown.map((d) => [
            d.name,
            d.site,
            firmwareOf(d),
            d.target,
            standingMark(say.io, d.standing),
            d.path.length > 0
              ? `${pathText(d)}${d.standingReason === null ? '' : `; ${d.standingReason}`}`
              : (d.standingReason ?? (d.pin ? d.targetWhy : null)),
          ]);
          const left = all.length - shown.length;
          return `${table(say.io, ['NAME', 'SITE', 'FIRMWARE', 'TARGET', 'STANDING', 'PATH'], rows)}\n\n${[...counts].map(([s, n]) => `${n} ${s}`).join(', ')}.${left > 0 ? ' `--only no-target` lists those without a target.' : ''}${o.only ? '' : lackingText(summary)}`;
        });
      }),
    );

  const target = program.command('target').description('the version that a set of devices should run');
  target
    .command('set <family> <version>')
    .description('for a family, or narrower; a device says more than a tag, then hardware revision, model and site')
    .option('--model <model>', 'only this model')
    .option('--revision <revision>', 'only this hardware revision')
    .option('--site <site>', 'only this site')
    .option('--tag <tag>', 'only devices with this tag')
    .option('--device <device>', 'only this device')
    .option('--from-family <family>', 'devices of this family are to cross over; may repeat', collect, [])
    .option('--accept-unreleased', 'a candidate or beta is meant')
    .option('--image-later', 'set it although no image has this version yet')
    .option('--preview', 'set nothing: tell how many would get there, by how many images, and who could not')
    .action(
      act(async ({ say, client }, family: string, version: string, o: SetOptions) => {
        const asked = {
          family,
          version,
          fromFamilies: o.fromFamily,
          model: o.model ?? null,
          hardwareRevision: o.revision ?? null,
          site: o.site ?? null,
          tag: o.tag ?? null,
          device: o.device ?? null,
          acceptUnreleased: o.acceptUnreleased === true,
        };
        if (o.preview) {
          const would = await client().previewTarget(asked);
          print(say, would, () => [...previewText(would), 'Nothing was set.'].join('\n'));
          return;
        }
        if (!o.imageLater) {
          const { remarks } = await client().previewTarget(asked);
          if (remarks.length > 0)
            throw new CommandError(
              exit.refused,
              'no-image',
              'No image has this version',
              `${remarks.join('; ')}.`,
              'Correct the version, or add the image first. To set the target before the image is there: `--image-later`.',
            );
        }
        const made = await client().setTarget(asked);
        print(say, made, () =>
          [
            `Target ${made.version} for ${count(made.devices, 'device')} of ${made.family}: ${made.scope}.`,
            ...made.remarks.map((r) => `! ${r}`),
          ].join('\n'),
        );
      }),
    );
  target
    .command('set-all <file>')
    .description('all targets of a set of versions at once, or none; the file is YAML: `set: NAME`, `versions:` with one for each family')
    .action(
      act(async ({ say, client }, file: string) => {
        const made = await client().setTargets(await readText(file));
        print(say, made, () =>
          [
            `${count(made.items.length, 'target')} of the set ${made.set}:`,
            table(
              say.io,
              ['FAMILY', 'VERSION', 'FOR', 'DEVICES'],
              made.items.map((t) => [t.family, t.version, t.scope, t.devices]),
              [3],
            ),
            ...made.items.flatMap((t) => t.remarks.map((r) => `! ${t.family}: ${r}`)),
          ].join('\n'),
        );
      }),
    );
  target
    .command('compare <file>')
    .description('the fleet against a set of versions; nothing is set, and it ends with 1 when a device is not there')
    .action(
      act(async ({ say, client }, file: string) => {
        const seen = await client().compareTargets(await readText(file));
        print(say, seen, () => comparisonText(say.io, seen));
        if (seen.there < seen.devices) throw new Quiet(exit.workFailed);
      }),
    );
  target
    .command('write')
    .description('print the targets as they are, as the file of a set')
    .option('--name <name>', 'what to call it', 'as it is')
    .action(
      act(async ({ say, client }, o: { name: string }) => {
        const text = await client().targetsAsSet(o.name);
        print(say, { text }, () => text.trimEnd());
      }),
    );
  target
    .command('list')
    .description('the rules, of which the most specific wins, and the pins, which come before them')
    .action(
      act(async ({ say, client }) => {
        const [all, pins] = await Promise.all([client().targets(), client().pins()]);
        print(say, all, () =>
          all.length + pins.length === 0
            ? 'No targets yet. Set one with `barrow target set FAMILY VERSION`.'
            : [
                table(
                  say.io,
                  ['ID', 'FAMILY', 'VERSION', 'FOR', 'CROSSING FROM', 'DEVICES', 'SET BY', 'AT'],
                  all.map((t) => [
                    t.id,
                    t.family,
                    `${t.version}${t.acceptUnreleased ? ' (unreleased)' : ''}${t.remarks.length > 0 ? ' (no image)' : ''}`,
                    t.scope,
                    t.fromFamilies.join(' ') || null,
                    t.devices,
                    t.setBy,
                    clock(t.setAt),
                  ]),
                  [5],
                ),
                ...(pins.length > 0 ? ['', pinTable(say.io, pins)] : []),
              ].join('\n'),
        );
      }),
    );
  target
    .command('pins')
    .description('the devices that are kept where they are')
    .action(
      act(async ({ say, client }) => {
        const pins = await client().pins();
        print(say, pins, () => (pins.length === 0 ? 'No device is pinned.' : pinTable(say.io, pins)));
      }),
    );
  target
    .command('pin <device>')
    .description('keep a device at the version that it runs, whatever the rules say')
    .requiredOption('--reason <reason>', 'why')
    .requiredOption('--ask-again <day>', 'the day after which it is asked again, as 2027-03-31')
    .action(
      act(async ({ say, client }, device: string, o: { reason: string; askAgain: string }) => {
        const made = await client().setPin({ device, reason: o.reason, askAgain: o.askAgain });
        print(say, made, () => `${made.name} stays at ${made.version} until ${made.askAgain}: ${made.reason}.`);
      }),
    );
  target
    .command('unpin <device>')
    .description('let a pinned device go')
    .action(
      act(async ({ say, client }, device: string) => {
        const done = await client().removePin(device);
        print(say, done, () => `${done.removed} is no longer pinned.`);
      }),
    );
  target
    .command('remove <id>')
    .description('remove a rule')
    .action(
      act(async ({ say, client }, id: string) => {
        const done = await client().removeTarget(id);
        print(say, done, () => `Target ${done.removed} removed.`);
      }),
    );
};
