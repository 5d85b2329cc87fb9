import type { Discovery } from '@barrow/core';
import type { CommandContext, Register } from '../context.js';
import { exit, Quiet } from '../errors.js';
import { clock, count, print, table, type Io } from '../output.js';

export function discoveryText(io: Io, d: Discovery): string {
  const { counts } = d;
  const isWaiting = (flag: string): boolean => flag.startsWith('awaiting-approval');
  const waiting = d.found.filter((f) => f.flags.some(isWaiting)).length;
  const told = d.found
    .map((f) => ({ ...f, flags: f.flags.filter((x) => !isWaiting(x)) }))
    .filter((f) => f.what !== 'same' || f.flags.length > 0)
    .sort((a, b) => a.name.localeCompare(b.name, 'en', { numeric: true }));
  const unrecognised = d.found.filter((f) => !f.recognised);
  const parts = [
    `${d.answered} of ${d.addresses} addresses answered${d.neighbours > 0 ? ` (${d.neighbours} of them neighbours in other networks)` : ''}; ${count(d.found.length, 'device')}: ${counts.new} new, ${counts.changed} changed, ${counts.moved} moved, ${counts.same} as before; ${d.silent.length} silent, ${counts.unrecognised} unrecognised.`,
  ];
  if (d.state !== 'done') parts.push(`The discovery ${d.state === 'running' ? 'is running' : `was ${d.state}`}.`);
  if (told.length > 0)
    parts.push(
      '',
      table(
        io,
        ['WHAT', 'NAME', 'ADDRESS', 'KIND', 'DETAIL'],
        told.map((f) => [f.what, f.name, f.address, f.kind, [f.detail, ...f.flags.map((x) => `! ${x}`)].filter(Boolean).join('; ')]),
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
  if (unrecognised.length > 0)
    parts.push(
      '',
      `No family fits ${unrecognised.map((f) => `${f.name} (${f.address ?? 'no address'})`).join(', ')}; \`barrow device show\` says what a family file would need.`,
    );
  if (d.troubles.length > 0)
    parts.push(
      '',
      table(
        io,
        ['TROUBLE', 'ADDRESS', 'PROBE', 'DETAIL'],
        d.troubles.map((t) => [t.cause, t.address, t.probe, t.detail]),
      ),
    );
  if (waiting > 0)
    parts.push(
      '',
      `${count(waiting, 'host')} ${waiting === 1 ? 'gets' : 'get'} no password before you approve ${waiting === 1 ? 'it' : 'them'}: \`barrow device waiting\` shows who, \`barrow device approve\` lets them in.`,
    );
  if (d.seen.length > 0)
    parts.push(
      '',
      table(
        io,
        ['NAMED BY A NEIGHBOUR', 'ADDRESS', 'HEARD BY', 'PORT', 'AND'],
        d.seen.map((s) => [
          s.name ?? s.mac,
          s.address,
          s.heardBy,
          s.port,
          s.why === 'out-of-range' ? 'lies outside of every network' : 'did not answer',
        ]),
      ),
    );
  if (d.problems.length > 0) parts.push('', ...d.problems.map((p) => `! ${p}`));
  return parts.join('\n');
}

const stages: Record<Discovery['stage'], string> = {
  asking: 'asking',
  connecting: 'trying connections',
  reading: 'reading',
  following: 'following neighbours',
  settling: 'settling who is who',
  ended: 'ended',
};

async function discover({ say, client }: CommandContext, networks: string[], o: { sure?: boolean; last?: boolean }): Promise<void> {
  const barrow = client();
  let now = o.last ? await barrow.discovery() : await barrow.discover(networks, o.sure === true);
  const moving = say.io.terminal && !say.json;
  // The service goes on when this ends: Ctrl-C tells it to stop.
  const stop = (): void => void barrow.stopDiscovery().catch(() => undefined);
  process.once('SIGINT', stop);
  try {
    while (now.state === 'running') {
      await new Promise((resolve) => setTimeout(resolve, 200));
      now = await barrow.discovery(now.id);
      if (moving)
        say.io.err(
          `\r\u001b[K${stages[now.stage]}: ${now.asked} of ${now.addresses} addresses, ${now.answered} answered, ${count(now.found.length, 'device')}`,
        );
    }
  } finally {
    process.removeListener('SIGINT', stop);
  }
  if (moving) say.io.err('\r\u001b[K');
  print(say, now, () => discoveryText(say.io, now));
  if (now.state === 'failed') throw new Quiet(exit.workFailed);
}

export const registerDiscover: Register = (program, act) => {
  program
    .command('discover [networks...]')
    .description('look for devices in the networks, or in those named; Ctrl-C stops it')
    .option('--last', 'show the last discovery again; when it is still running, follow it')
    .option('--sure', 'also when more than 65,536 addresses would be asked')
    .action(act(discover));
  program
    .command('map')
    .description('links and feeds between devices, each with how sure it is')
    .action(
      act(async ({ say, client }) => {
        const map = await client().map();
        print(say, map, () => {
          const end = (e: { name: string; port: string | null }): string => `${e.name}${e.port === null ? '' : ` ${e.port}`}`;
          const names = (test: (d: (typeof map.devices)[number]) => boolean): string =>
            map.devices
              .filter(test)
              .map((d) => d.name)
              .join(', ');
          const parts = [
            table(
              say.io,
              ['LINK', 'TO', 'HOW', 'MBIT/S', 'SURE'],
              map.links.map((l) => [
                end(l.a),
                end(l.b),
                `${l.medium}${l.bundled > 1 ? `, ${l.bundled} bundled` : ''}`,
                l.speedMbps,
                l.sure,
              ]),
              [3],
            ),
            table(
              say.io,
              ['FEED', 'TO', 'SURE'],
              map.feeds.map((f) => [end(f.from), f.to.name, f.sure]),
            ),
            `${count(map.devices.length, 'device')}, ${count(map.links.length, 'link')}, ${count(map.feeds.length, 'feed')}.`,
          ];
          const noUplink = names((d) => d.noUplink);
          const noFeed = names((d) => d.noFeed);
          if (noUplink) parts.push(`What they hang on is not known: ${noUplink}.`);
          if (noFeed) parts.push(`What feeds them is not known: ${noFeed}.`);
          for (const s of map.strangers)
            parts.push(
              `${s.heardBy} hears ${s.name ?? s.mac ?? 'something unnamed'} on ${s.port ?? 'an unknown port'}, which is not in the records.`,
            );
          return parts.join('\n\n');
        });
      }),
    );
};
