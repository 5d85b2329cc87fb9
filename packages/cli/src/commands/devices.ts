import type { Device, Discovery, Standing } from '@barrow/core';
import { duration } from '@barrow/core';
import type { Register, CommandContext } from '../context.js';
import { exit, Quiet } from '../errors.js';
import { clock, count, print, standingMark, table, type Io } from '../output.js';

function deviceTable(io: Io, devices: readonly Device[]): string {
  return table(
    io,
    ['NAME', 'ADDRESS', 'SITE', 'KIND', 'MODEL', 'HW', 'SERIAL', 'FIRMWARE', 'LOADER', 'STANDING'],
    devices.map((d) => [
      d.name,
      d.address,
      d.site,
      d.kind,
      [d.maker, d.model].filter(Boolean).join(' ') || null,
      d.hardwareRevision,
      d.serial,
      d.firmware,
      d.bootLoader,
      standingMark(io, d.standing),
    ]),
  );
}

export function discoveryText(io: Io, d: Discovery): string {
  const count = (what: string): number => d.found.filter((f) => f.what === what).length;
  const told = d.found.filter((f) => f.what !== 'same').sort((a, b) => a.name.localeCompare(b.name, 'en', { numeric: true }));
  const parts = [
    `${d.answered} of ${d.addresses} addresses answered: ${count('new')} new, ${count('changed')} changed, ${count('moved')} moved, ${count('same')} as before, ${count('unrecognised')} unrecognised; ${d.silent.length} silent.`,
  ];
  if (d.state !== 'done') parts.push(`The discovery ${d.state === 'running' ? 'is running' : `was ${d.state}`}.`);
  if (told.length > 0)
    parts.push(
      '',
      table(
        io,
        ['WHAT', 'NAME', 'ADDRESS', 'DETAIL'],
        told.map((f) => [f.what, f.name, f.address, f.detail]),
      ),
    );
  if (d.silent.length > 0)
    parts.push(
      '',
      table(
        io,
        ['SILENT', 'ADDRESS', 'LAST SEEN'],
        d.silent.map((s) => [s.name, s.address, clock(s.lastSeen)]),
      ),
    );
  if (d.problems.length > 0) parts.push('', ...d.problems.map((p) => `! ${p}`));
  return parts.join('\n');
}

async function discover({ say, client }: CommandContext, networks: string[]): Promise<void> {
  const barrow = client();
  let now = await barrow.discover(networks);
  const moving = say.io.terminal && !say.json;
  while (now.state === 'running') {
    await new Promise((resolve) => setTimeout(resolve, 200));
    now = await barrow.discovery(now.id);
    if (moving)
      say.io.err(`\r\u001b[K${now.asked} of ${now.addresses} addresses asked, ${now.answered} answered, ${now.found.length} read`);
  }
  if (moving) say.io.err('\r\u001b[K');
  print(say, now, () => discoveryText(say.io, now));
  if (now.state === 'failed') throw new Quiet(exit.workFailed);
}

export const registerDevices: Register = (program, act) => {
  program.command('discover [networks...]').description('look for devices in the networks, or in those named').action(act(discover));

  const device = program.command('device').description('what is known of each device');
  device
    .command('list')
    .description('devices with their firmware')
    .option('--text <text>', 'in name, address, serial, model or version')
    .option('--site <site>', 'of one site')
    .option('--kind <kind>', 'of one kind')
    .option('--family <family>', 'of one family')
    .option('--standing <standing>', 'at-target, behind, ahead, blocked, unknown or no-target')
    .action(
      act(async ({ say, client }, o: { text?: string; site?: string; kind?: string; family?: string; standing?: Standing }) => {
        const all = await client().devices(o);
        print(say, all, () =>
          all.length === 0
            ? 'No devices fit. `barrow discover` looks for devices in the networks.'
            : `${deviceTable(say.io, all)}\n\n${count(all.length, 'device')}.`,
        );
      }),
    );
  device
    .command('show <device>')
    .description('one device, by id, name, address, serial or MAC')
    .action(
      act(async ({ say, client }, id: string) => {
        const d = await client().device(id);
        print(say, d, () => {
          const rows: [string, string | null][] = [
            ['name', d.name],
            ['id', d.id],
            ['address', d.address],
            ['site', `${d.site} (network ${d.network})`],
            ['kind', d.kind],
            ['maker, model', [d.maker, d.model].filter(Boolean).join(' ')],
            ['hardware', d.hardwareRevision],
            ['serial', d.serial],
            ['MAC', d.mac],
            ['firmware', d.firmware],
            ['boot loader', d.bootLoader],
            ['up', d.upSince === null ? null : `since about ${clock(d.upSince)} (${duration(Date.now() - Date.parse(d.upSince))})`],
            ['family', d.family === null ? null : `${d.family}, because ${d.familyEvidence}`],
            ['SSH host key', d.hostKey ?? 'not seen yet'],
            [
              'standing',
              `${standingMark(say.io, d.standing)}${d.target ? `, target ${d.target}` : ''}${d.standingReason ? `: ${d.standingReason}` : ''}`,
            ],
            ['path', d.path.map((p) => `${p.version} (${p.file})`).join(' → ') || null],
            ['last seen', clock(d.lastSeen)],
            ['rollout', d.rollout],
          ];
          const facts = rows.map(([k, v]) => `${k.padEnd(14)}${v ?? '–'}`).join('\n');
          const seen = d.observations.map((o) => [
            clock(o.at),
            o.probe,
            o.address,
            `${Object.keys(o.raw).length} answers`,
            String(o.parsed['firmware'] ?? '–'),
          ]);
          return `${facts}\n\nObservations (raw answers with --json):\n${table(say.io, ['AT', 'PROBE', 'ADDRESS', 'RAW', 'FIRMWARE'], seen)}`;
        });
      }),
    );

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
          const rows = all.map((d) => [
            d.name,
            d.site,
            d.firmware,
            d.target,
            standingMark(say.io, d.standing),
            d.path.map((p) => p.file).join(' → ') || d.standingReason,
          ]);
          return `${table(say.io, ['NAME', 'SITE', 'FIRMWARE', 'TARGET', 'STANDING', 'PATH'], rows)}\n\n${[...counts].map(([s, n]) => `${n} ${s}`).join(', ')}.`;
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
