import type { Standing } from '@barrow/core';
import type { Register } from '../context.js';
import { clock, print, standingMark, table } from '../output.js';

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
        print(say, all, () => {
          if (all.length === 0) return 'No devices fit.';
          const counts = new Map<Standing, number>();
          for (const d of all) counts.set(d.standing, (counts.get(d.standing) ?? 0) + 1);
          // Devices for which nobody set a target are counted, and listed when they are asked for.
          const shown = o.only === 'no-target' || counts.size === 1 ? all : all.filter((d) => d.standing !== 'no-target');
          const rows = shown.map((d) => [
            d.name,
            d.site,
            d.firmware,
            d.target,
            standingMark(say.io, d.standing),
            d.path.map((p) => p.file).join(' → ') || d.standingReason,
          ]);
          const left = all.length - shown.length;
          return `${table(say.io, ['NAME', 'SITE', 'FIRMWARE', 'TARGET', 'STANDING', 'PATH'], rows)}\n\n${[...counts].map(([s, n]) => `${n} ${s}`).join(', ')}.${left > 0 ? ' `--only no-target` lists those without a target.' : ''}`;
        });
      }),
    );

  const target = program.command('target').description('the version that a set of devices should run');
  target
    .command('set <family> <version>')
    .description('for a family, or narrower')
    .option('--model <model>', 'only this model')
    .option('--site <site>', 'only this site')
    .option('--device <device>', 'only this device')
    .action(
      act(async ({ say, client }, family: string, version: string, o: { model?: string; site?: string; device?: string }) => {
        const made = await client().setTarget({ family, version, model: o.model ?? null, site: o.site ?? null, device: o.device ?? null });
        print(
          say,
          made,
          () =>
            `Target ${made.version} for ${made.devices} devices of ${made.family}${made.model ? `, model ${made.model}` : ''}${made.site ? `, site ${made.site}` : ''}${o.device ? `, only ${o.device}` : ''}.`,
        );
      }),
    );
  target
    .command('list')
    .description('the rules; the most specific wins')
    .action(
      act(async ({ say, client }) => {
        const all = await client().targets();
        print(say, all, () =>
          all.length === 0
            ? 'No targets yet. Set one with `barrow target set FAMILY VERSION`.'
            : table(
                say.io,
                ['ID', 'FAMILY', 'VERSION', 'MODEL', 'SITE', 'DEVICE', 'DEVICES', 'SET BY', 'AT'],
                all.map((t) => [
                  t.id,
                  t.family,
                  t.version,
                  t.model ?? 'any',
                  t.site ?? 'any',
                  t.device ?? 'any',
                  t.devices,
                  t.setBy,
                  clock(t.setAt),
                ]),
                [6],
              ),
        );
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
