import { writeFile } from 'node:fs/promises';
import type { Device, DeviceChange, DeviceDetail, ImportResult, Kind, WaitingHost } from '@barrow/core';
import { duration, services } from '@barrow/core';
import type { BarrowClient, DeviceQuery } from '@barrow/client';
import { collect, type Register } from '../context.js';
import { swappedText } from '../swapped.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { readText } from '../read-text.js';
import { clock, count, firmwareOf, octets, print, standingMark, table, type Io } from '../output.js';

function deviceTable(io: Io, devices: readonly Device[]): string {
  return table(
    io,
    ['NAME', 'ADDRESS', 'SITE', 'KIND', 'MODEL', 'HW', 'SERIAL', 'FIRMWARE', 'STANDING'],
    devices.map((d) => [
      d.name,
      d.address ?? `at ${d.parentName ?? 'no address'}`,
      d.site,
      d.kind,
      [d.maker, d.model].filter(Boolean).join(' ') || null,
      d.hardwareRevision,
      d.serial,
      firmwareOf(d),
      standingMark(io, d.standing),
    ]),
  );
}

/** What `device list` and `device export` can be narrowed by. */
type Narrow = Omit<DeviceQuery, 'limit' | 'cursor'>;

const kindWords: Record<string, string> = { power: 'loses power', connection: 'is cut off', parent: 'is managed through it' };

function detailText(io: Io, d: DeviceDetail): string {
  const by = (field: string): string => (d.byHand.includes(field) ? ' (by hand)' : '');
  const rows: [string, string | null][] = [
    ['name', `${d.name}${by('name')}`],
    ['id', d.id],
    ['address', d.address === null ? `none of its own; at ${d.parentName ?? 'nobody'}` : [d.address, ...d.addresses].join(', ')],
    ['site', `${d.site}${by('site')}${d.network === '' ? '' : ` (network ${d.network})`}`],
    ['kind', `${d.kind}${by('kind')}`],
    ['maker, model', [d.maker, d.model].filter(Boolean).join(' ')],
    ['hardware', d.variant ? `${d.hardwareRevision ?? 'revision not known'}, ${d.variant}` : d.hardwareRevision],
    ['serial', d.serial],
    ...d.members.map((m): [string, string | null] => ['  member', [m.name, m.serial, m.model, m.firmware].filter(Boolean).join(', ')]),
    ['MAC', d.mac],
    [
      'firmware',
      d.firmware === null
        ? `unknown. ${d.firmwareNote ?? ''}`
        : `${d.firmware}, ${(d.believedBy['firmware'] ?? 'by an earlier Barrow').replace(/^(?!by )/, 'by ')}`,
    ],
    [
      'armed',
      d.armed ? `its next reset, whatever causes it, brings ${d.armed.version}; since ${clock(d.armed.since)}, by ${d.armed.by}` : null,
    ],
    ['boot loader', d.bootLoader],
    ['up', d.upSince === null ? null : `since about ${clock(d.upSince)} (${duration(Date.now() - Date.parse(d.upSince))})`],
    ['parent', d.parentName === null ? null : `${d.parentName}${by('parent')}`],
    [
      'family',
      d.family === null
        ? `none fits${d.familyEvidence ? `; ${d.kind}, because ${d.familyEvidence}` : ''}`
        : `${d.family}, because ${d.familyEvidence}`,
    ],
    [
      'credentials',
      Object.entries(d.credentials)
        .map(([protocol, name]) => `${protocol}: ${name}`)
        .join(', ') || null,
    ],
    ['SSH host key', d.hostKey ?? 'not seen yet'],
    [
      'approved',
      d.approved === null ? 'not yet: no password is sent to it' : `by ${d.approved.by}, ${clock(d.approved.at)}, at ${d.approved.address}`,
    ],
    ['retired', d.retired && `since ${clock(d.retired.at)}, by ${d.retired.by}: it is in no plan`],
    ['tags', d.tags.join(' ') || null],
    ['note', d.note || null],
    ...d.also.map(({ what, text }): [string, string] => [what.toLowerCase(), text]),
    [
      'standing',
      `${standingMark(io, d.standing)}${d.target ? `, target ${d.target}` : ''}${d.standingReason ? `: ${d.standingReason}` : ''}`,
    ],
    ...(d.target && d.targetWhy ? [['target by', d.targetWhy] as [string, string]] : []),
    ...(d.path.length === 0
      ? []
      : d.path.map((p, i): [string, string] => [
          i === 0 ? 'path' : '',
          [
            `${i + 1}. ${p.on ? `${p.on.name} first: ` : ''}${p.file}, ${p.component === 'boot-loader' ? 'boot loader ' : ''}${p.from} to ${p.version}`,
            ...(p.resets.length > 0 ? [`resets ${p.resets.join(' and ')}`] : []),
            ...p.notices,
          ].join('; '),
        ])),
    ...(d.path.length > 0 ? [['cost', `${count(d.pathReboots, 'restart')}, ${octets(d.pathBytes)}`] as [string, string]] : []),
    ...(d.lacking ? [['lacking', d.lacking] as [string, string]] : []),
    ['last seen', clock(d.lastSeen)],
    ['rollout', d.rollout],
  ];
  const facts = rows.map(([k, v]) => `${k.padEnd(16)}${v || '–'}`).join('\n');
  const parts = [facts];
  for (const f of d.flags) parts.push(`! ${f.flag}, since ${clock(f.at)}: ${f.detail}`);
  if (d.shownHostKey !== null) parts.push(`  To accept it knowingly: barrow device accept-key ${d.name} ${d.shownHostKey}`);
  const port = (p: string | null): string => (p === null ? '' : ` ${p}`);
  if (d.links.length > 0)
    parts.push(
      `Links:\n${table(
        io,
        ['HERE', 'THERE', 'HOW', 'SURE', 'EVIDENCE'],
        d.links.map((l) => {
          const [here, there] = l.a.device === d.id ? [l.a, l.b] : [l.b, l.a];
          return [
            here.port,
            `${there.name}${port(there.port)}`,
            [l.medium, l.speedMbps === null ? '' : `${l.speedMbps} Mbit/s`, l.bundled > 1 ? `${l.bundled} bundled` : '']
              .filter(Boolean)
              .join(', '),
            l.sure,
            l.evidence.map((e) => e.how).join('; '),
          ];
        }),
      )}`,
    );
  else if (d.strangers.length === 0) parts.push('Links: none known; nothing names what it hangs on.');
  const fedBy = d.feeds.filter((f) => f.to.device === d.id);
  const feeds = d.feeds.filter((f) => f.from.device === d.id);
  parts.push(
    fedBy.length > 0
      ? `Power from ${fedBy.map((f) => `${f.from.name}${port(f.from.port)} (${f.sure}: ${f.evidence.map((e) => e.how).join('; ')})`).join(', and from ')}.`
      : 'Power: nobody told what feeds it.',
  );
  if (feeds.length > 0) parts.push(`Feeds ${feeds.map((f) => `${f.to.name}${f.from.port ? ` (${f.from.port})` : ''}`).join(', ')}.`);
  if (d.children.length > 0)
    parts.push(
      `Manages ${d.children.map((c) => `${c.name} ${c.firmware ?? '(version unknown)'}${c.present ? '' : ', away'}`).join('; ')}.`,
    );
  for (const s of d.strangers)
    parts.push(
      `Hears on${port(s.port) || ' an unknown port'}: ${s.name ?? s.mac ?? 'something unnamed'} ${s.addresses.join(' ')}, which is not in the records.`,
    );
  parts.push(
    d.dark.length === 0
      ? 'If it reboots, nothing else that is known goes dark.'
      : `If it reboots, ${count(d.dark.length, 'device')} ${d.dark.length === 1 ? 'goes' : 'go'} dark:\n${table(
          io,
          ['DEVICE', 'KIND', 'SITE', 'BECAUSE IT', 'THROUGH'],
          d.dark.map((x) => [x.name, x.kind, x.site, kindWords[x.why]!, x.through]),
        )}`,
  );
  if (d.familyWouldNeed.length > 0) parts.push(`A family file for it would need:\n${d.familyWouldNeed.map((l) => `  ${l}`).join('\n')}`);
  const seen = d.observations.map((o) => [
    clock(o.at),
    o.times > 1 ? `${o.times} times until ${clock(o.lastAt)}` : 'once',
    o.probe,
    o.address,
    `${Object.keys(o.raw).length}`,
  ]);
  parts.push(`Observations (raw answers with --json):\n${table(io, ['SINCE', 'HEARD', 'PROBE', 'ADDRESS', 'ANSWERS'], seen, [4])}`);
  return parts.join('\n\n');
}

function importText(io: Io, r: ImportResult): string {
  const told = r.rows.filter((x) => x.what !== 'same');
  const number = (what: string): number => r.rows.filter((x) => x.what === what).length;
  const sum = `${count(r.rows.length, 'row')}: ${number('new')} new, ${number('changed')} changed, ${number('same')} as they are, ${number('refused')} refused. ${r.dryRun ? 'Nothing was written.' : `${r.written} written.`}`;
  return told.length === 0
    ? sum
    : `${table(
        io,
        ['ROW', 'DEVICE', 'WHAT', 'DETAIL'],
        told.map((x) => [x.row, x.name, x.what, x.detail.join('; ')]),
        [0],
      )}\n\n${sum}`;
}

const waitingIn = (all: readonly WaitingHost[], o: { network?: string }): WaitingHost[] =>
  all.filter((h) => o.network === undefined || h.network === o.network);

const waitingTable = (io: Io, hosts: readonly WaitingHost[]): string =>
  table(
    io,
    ['NAME', 'ADDRESS', 'NETWORK', 'LOOKS LIKE', 'SSH HOST KEY'],
    hosts.map((h) => [h.name, h.address, h.network, h.family, h.hostKey]),
  );

/** The hosts that a person means, of those that wait. @throws CommandError */
async function toApprove(client: BarrowClient, names: readonly string[], o: { network?: string; all?: boolean }): Promise<WaitingHost[]> {
  const waiting = await client.waitingHosts();
  const slip = (code: string, why: string, next: string): CommandError =>
    new CommandError(exit.wrongUse, code, 'No host was approved', why, next);
  if (names.length === 0 && o.network === undefined && !o.all)
    throw slip(
      'nobody-named',
      'No host was named.',
      'Name devices, or give --network NAME or --all; `barrow device waiting` shows who waits.',
    );
  if (names.length === 0) {
    const chosen = waitingIn(waiting, o);
    if (chosen.length === 0)
      throw slip(
        'nobody-waits',
        `No host${o.network === undefined ? '' : ` of network ${o.network}`} waits for approval.`,
        'Discover first.',
      );
    return chosen;
  }
  return Promise.all(
    names.map(async (name) => {
      const found = waiting.find((h) => h.name === name || h.device === name || h.address === name);
      if (found) return found;
      // Nobody has tried a password at it yet: it is approved as it shows itself all the same.
      const { id, approved, address, hostKey, family, ...row } = await client.device(name);
      if (approved !== null)
        throw slip('not-waiting', `Passwords may go to ${row.name} already.`, '`barrow device waiting` shows who waits.');
      return {
        device: id,
        name: row.name,
        site: row.site,
        network: row.network,
        familyEvidence: null,
        address: address ?? '',
        hostKey,
        family,
        detail: '',
        since: row.lastSeen,
      };
    }),
  );
}

const formOf = (file: string, said: string | undefined): 'csv' | 'json' => {
  const form = said ?? (file.endsWith('.json') ? 'json' : 'csv');
  if (form !== 'csv' && form !== 'json')
    throw new CommandError(
      exit.wrongUse,
      'form-unknown',
      'The command was not understood',
      `There is no form "${form}".`,
      'Use csv or json.',
    );
  return form;
};

export const registerDevices: Register = (program, act) => {
  const device = program.command('device').description('what is known of each device');
  const narrow = (command: ReturnType<typeof device.command>) =>
    command
      .option(
        '--text <text>',
        'words in name, address, serial, MAC, maker, model, version, tag or note, or in one column: site:quay model:TB-24',
      )
      .option('--site <site>', 'of one site')
      .option('--kind <kind>', 'of one kind')
      .option('--family <family>', 'of one family')
      .option('--standing <standing>', 'at-target, behind, ahead, blocked, unknown or no-target')
      .option('--maker <maker>', 'of one maker')
      .option('--model <model>', 'of one model')
      .option('--firmware <version>', 'running this version')
      .option('--network <network>', 'found in one network')
      .option('--tag <tag>', 'with this tag')
      .option('--parent <device>', 'managed through this device')
      .option('--only <what>', 'flagged, awaiting-approval, unrecognised, firmware-unknown or by-hand');
  narrow(device.command('list').description('devices with their firmware')).action(
    act(async ({ say, client }, o: Narrow) => {
      const all = await client().devices({ ...o });
      print(say, all, () =>
        all.length === 0
          ? 'No devices fit. `barrow discover` looks for devices in the networks.'
          : `${deviceTable(say.io, all)}\n\n${count(all.length, 'device')}.`,
      );
    }),
  );
  device
    .command('show <device>')
    .description('one device, by id, name, address, serial or MAC: record, links, feeds, what goes dark with it')
    .action(
      act(async ({ say, client }, id: string) => {
        const d = await client().device(id);
        print(say, d, () => detailText(say.io, d));
      }),
    );
  device
    .command('history <device>')
    .description('what changed in its record, when, and by which probe it was seen')
    .action(
      act(async ({ say, client }, id: string) => {
        const all = await client().deviceHistory(id);
        print(say, all, () =>
          all.length === 0
            ? 'Nothing is noted of it yet.'
            : table(
                say.io,
                ['AT', 'WHAT', 'BEFORE', 'AFTER', 'SEEN BY'],
                all.map((h) => [clock(h.at), h.field, h.before, h.after, h.probe]),
              ),
        );
      }),
    );
  device
    .command('add <name>')
    .description('enter a device by hand')
    .requiredOption('--site <site>', 'where it stands')
    .option(
      '--kind <kind>',
      'switch, router, access-point, camera, phone, controller, recorder, base-station, handset, power-strip, console-server or other',
      'other',
    )
    .option('--family <family>', 'whose procedures handle it')
    .option('--address <address>', 'its address')
    .option('--maker <maker>', 'its maker')
    .option('--model <model>', 'its model')
    .option('--serial <serial>', 'its serial')
    .option('--mac <mac>', 'its MAC address')
    .option('--firmware <version>', 'what it runs, as far as somebody knows')
    .option('--tag <tag>', 'a tag; may repeat', collect, [])
    .option('--note <text>', 'a note')
    .option('--parent <device>', 'the device that it is managed through')
    .option('--feed <device:port>', 'the port or outlet that powers it')
    .option('--uplink <device:port>', 'the port that it hangs on')
    .action(
      act(async ({ say, client }, name: string, o: Record<string, string> & { site: string; tag: string[] }) => {
        const { tag, kind, site, family, address, maker, model, serial, mac, firmware, note, parent, feed, uplink } = o;
        const made = await client().enterDevice({
          name,
          site,
          kind: kind as Kind,
          address: address ?? null,
          maker: maker ?? null,
          model: model ?? null,
          serial: serial ?? null,
          mac: mac ?? null,
          firmware: firmware ?? null,
          ...(family ? { family } : {}),
          ...(tag.length > 0 ? { tags: tag } : {}),
          ...(note ? { note } : {}),
          ...(parent ? { parent } : {}),
          ...(feed ? { feed } : {}),
          ...(uplink ? { uplink } : {}),
        });
        print(say, made, () => `${made.name} (${made.kind}) entered at ${made.site}; its id is ${made.id}.`);
      }),
    );
  device
    .command('set <device>')
    .description('set what probes cannot know; an empty text gives a field back to the probes')
    .option('--name <name>', 'what it is called')
    .option('--site <site>', 'where it stands')
    .option('--kind <kind>', 'what it is')
    .option('--family <family>', 'whose procedures handle it')
    .option('--tag <tag>', 'the tags it has from now on; may repeat', collect, [])
    .option('--no-tags', 'take all tags away')
    .option('--note <text>', 'a note')
    .option('--parent <device>', 'the device that it is managed through')
    .option('--feed <device:port>', 'the port or outlet that powers it')
    .option('--uplink <device:port>', 'the port that it hangs on')
    .option('--console <device:port>', 'where its serial console is plugged in')
    .option('--serves <list>', `what others need of it to come back: ${services.join(', ')}`)
    .option('--serves-sites <list>', 'the sites that it gives that to, or "all"; its own when absent')
    .option('--radio <list>', 'the access points that reach where it reaches, or "none"')
    .option('--decided-by <who>', 'who decides on its firmware, when that is not you')
    .option('--licence-until <date>', 'the last day of its licence, e.g. 2027-03-31')
    .option('--supplies <n>', 'how many power supplies it has')
    .option('--firmware <version>', 'the version that you read off it; replaced by what the device says later')
    .option('--hardware <revision>', 'the hardware revision that you read off it; replaced by what the device says later')
    .option(
      '--variant <variant>',
      'the variant that you read off it, e.g. rugged; "plain" for none; replaced by what the device says later',
    )
    .option('--retire', 'it is out of service: it stays in the records, and is in no plan')
    .option('--in-service', 'it is in service again')
    .action(
      act(async ({ say, client }, id: string, o: Record<string, string> & { tag: string[]; tags: boolean }) => {
        const change: Record<string, unknown> = {};
        for (const field of ['name', 'site', 'kind', 'family', 'parent', 'feed', 'uplink', 'console', 'decidedBy', 'licenceUntil'] as const)
          if (o[field] !== undefined) change[field] = o[field] === '' ? null : o[field];
        // One word stands for a list with nothing in it.
        for (const [field, nothing] of [
          ['serves', null],
          ['servesSites', 'all'],
          ['radio', 'none'],
        ] as const)
          if (o[field] !== undefined) change[field] = o[field] === '' ? null : o[field] === nothing ? [] : o[field].split(/\s*,\s*/);
        if (o['supplies'] !== undefined && o['supplies'] !== '' && !/^\d+$/.test(o['supplies']))
          throw new CommandError(
            exit.wrongUse,
            'number-malformed',
            'Nothing was set',
            `--supplies takes a number, not "${o['supplies']}".`,
            'For example --supplies 2, or --supplies "" to take it back.',
          );
        if (o['supplies'] !== undefined) change['supplies'] = o['supplies'] === '' ? null : Number(o['supplies']);
        for (const [field, option] of [
          ['firmware', 'firmware'],
          ['hardwareRevision', 'hardware'],
          ['variant', 'variant'],
        ] as const)
          if (o[option] !== undefined) change[field] = o[option] === '' ? null : o[option];
        const flags = o as unknown as { retire?: true; inService?: true };
        if (flags.retire || flags.inService) change['retired'] = flags.retire === true;
        if (o['note'] !== undefined) change['note'] = o['note'];
        if (o.tag.length > 0) change['tags'] = o.tag;
        else if (!o.tags) change['tags'] = [];
        if (Object.keys(change).length === 0)
          throw new CommandError(
            exit.wrongUse,
            'nothing-to-set',
            'Nothing was set',
            'No field was given.',
            'For example --tag spare, or --feed quay-pdu-1:"outlet 3".',
          );
        const made = await client().setDevice(id, change as DeviceChange);
        print(say, made, () => `${made.name}: ${Object.keys(change).join(', ')} set.`);
      }),
    );
  device
    .command('remove <device>')
    .description('forget a device and what was observed of it; its backups stay')
    .action(
      act(async ({ say, client }, id: string) => {
        const done = await client().removeDevice(id);
        print(say, done, () => `${done.removed} is forgotten. A discovery that finds it takes it in anew.`);
      }),
    );
  device
    .command('locate <device>')
    .description('blink its light or screen, where its family can')
    .option('--seconds <n>', 'for how long', '30')
    .action(
      act(async ({ say, client }, id: string, o: { seconds: string }) => {
        const done = await client().locate(id, Number(o.seconds));
        print(say, done, () => `${done.device} blinks for ${done.seconds} s.`);
      }),
    );
  device
    .command('swap <device>')
    .description('have a spare take the place of a device that is gone: its settings, its address, its name (admin)')
    .requiredOption('--for <spare>', 'the spare, as it was discovered where it is now')
    .option('--backup <id>', 'the settings that it gets; without, those that were saved last')
    .option('--yes', 'do it; without, only what would be is shown and nothing is changed')
    .action(
      act(async ({ say, client }, id: string, o: { for: string; backup?: string; yes?: true }) => {
        const done = await client().swapDevice(id, { spare: o.for, backup: o.backup ?? null, look: o.yes !== true });
        print(say, done, () => swappedText(done));
        if (done.done && !done.same) throw new Quiet(exit.workFailed);
      }),
    );
  device
    .command('waiting')
    .description('hosts that get no password until somebody has approved them, with the key and the family that they show')
    .option('--network <network>', 'of one network')
    .action(
      act(async ({ say, client }, o: { network?: string }) => {
        const all = waitingIn(await client().waitingHosts(), o);
        print(say, all, () =>
          all.length === 0
            ? 'No host waits for approval.'
            : `${waitingTable(say.io, all)}\n\n${count(all.length, 'host')} of which no password was sent yet. Approve with \`barrow device approve NAME …\`, \`--network NAME\` or \`--all\`.`,
        );
      }),
    );
  device
    .command('approve [devices...]')
    .description('let passwords go to hosts, as they show themselves now; what shows itself otherwise at the login gets none')
    .option('--network <network>', 'all that wait in one network')
    .option('--all', 'all that wait')
    .action(
      act(async ({ say, client }, names: string[], o: { network?: string; all?: boolean }) => {
        const chosen = await toApprove(client(), names, o);
        const done = await client().approveHosts(
          chosen.map(({ device, address, hostKey, family }) => ({ device, address, hostKey, family })),
        );
        const networks = [...new Set(chosen.map((h) => h.network))].join(' ');
        print(say, done, () =>
          [
            ...(done.approved.length > 0
              ? [
                  waitingTable(
                    say.io,
                    chosen.filter((h) => done.approved.includes(h.name)),
                  ),
                  '',
                  `${count(done.approved.length, 'host')} approved. Read them now with \`barrow discover ${networks}\`.`,
                ]
              : []),
            ...done.left.map((l) => `! ${l.device} was not approved: ${l.why}.`),
          ].join('\n'),
        );
        if (done.left.length > 0) throw new Quiet(exit.workFailed);
      }),
    );
  device
    .command('accept-key <device> <key>')
    .description('accept the SSH host key that it showed instead of the pinned one, named in full')
    .action(
      act(async ({ say, client }, id: string, key: string) => {
        const done = await client().acceptHostKey(id, key);
        print(say, done, () => `${done.name}: ${key} is pinned from now on.`);
      }),
    );
  narrow(
    device
      .command('export [file]')
      .description('all devices, or those that fit, as CSV or JSON; to standard output without a file')
      .option('--form <form>', 'csv or json; by the name of the file when not given'),
  ).action(
    act(async ({ say, client }, file: string | undefined, { form, ...o }: Narrow & { form?: string }) => {
      const chosen = say.json && file === undefined ? 'json' : formOf(file ?? '', form);
      const text = await client().exportDevices(chosen, { ...o });
      if (file === undefined) return say.io.out(text);
      await writeFile(file, text).catch((error: NodeJS.ErrnoException) => {
        throw new CommandError(
          exit.workFailed,
          'file-unwritable',
          'The file was not written',
          `${file}: ${error.code ?? error.message}.`,
          'Check the path and its rights.',
        );
      });
      print(say, { file, form: chosen }, () => `Written to ${file}.`);
    }),
  );
  device
    .command('import <file>')
    .description('take a list of devices in ("-": standard input); finds each by id, serial, MAC, address or name')
    .option('--dry-run', 'say row by row what would change, and write nothing')
    .option('--form <form>', 'csv or json; by the name of the file when not given')
    .action(
      act(async ({ say, client }, file: string, o: { dryRun?: boolean; form?: string }) => {
        const text = file === '-' ? await new Response((say.io.input ?? process.stdin) as never).text() : await readText(file);
        const result = await client().importDevices(formOf(file, o.form), text, o.dryRun === true);
        print(say, result, () => importText(say.io, result));
        if (result.rows.some((r) => r.what === 'refused')) throw new Quiet(exit.workFailed);
      }),
    );
};
