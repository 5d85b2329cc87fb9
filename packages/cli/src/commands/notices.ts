import { auditText, occasionKinds, occasionTexts, toldOfText, type NoticesView, type OccasionKind } from '@barrow/core';
import type { Register } from '../context.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { clock, print, table, type Io } from '../output.js';
import { secretFrom } from '../secret.js';

const kindsText = occasionKinds.map((kind) => `${kind} (${occasionTexts[kind]})`).join(', ');

function noticesText(io: Io, { receivers, mailServer, heartbeat, address }: NoticesView): string {
  const rows = receivers.map((r) => [
    r.name,
    r.kind === 'mail' ? 'mail' : 'signed request',
    r.to,
    toldOfText(r.on),
    clock(r.lastAt),
    r.waiting > 0 ? r.waiting : null,
    r.trouble,
  ]);
  return [
    receivers.length === 0
      ? 'Nobody is told. Add somebody with `barrow notice add NAME --mail ADDRESS` or `--hook URL`.'
      : table(io, ['NAME', 'BY', 'TO', 'OF', 'LAST', 'WAITING', 'TROUBLE'], rows, [5]),
    '',
    mailServer === null
      ? 'Mail has no server: `barrow notice mail-server HOST:PORT --from ADDRESS`.'
      : `Mail goes out through ${mailServer.host}:${mailServer.port} (TLS: ${mailServer.tls}) from ${mailServer.from}${mailServer.user === null ? '' : `, as ${mailServer.user}`}.`,
    heartbeat === null
      ? 'No heartbeat: nobody would notice that Barrow itself died. `barrow notice heartbeat URL`.'
      : `While a rollout is under way ${heartbeat.url} is called every ${heartbeat.everySeconds} s${heartbeat.lastAt === null ? '' : `, last at ${clock(heartbeat.lastAt)}`}${heartbeat.trouble === null ? '' : `; it was not taken: ${heartbeat.trouble}`}.`,
    `Links lead to ${address}.`,
  ].join('\n');
}

export const registerNotices: Register = (program, act) => {
  program
    .command('deeds')
    .description('the audit log, newest first: who changed what, from what to what, and which secrets were shown')
    .option('--who <name>', 'only of this token')
    .option('--last <n>', 'so many', '30')
    .action(
      act(async ({ say, client }, o: { who?: string; last: string }) => {
        const { items, more } = await client().deeds({ ...(o.who === undefined ? {} : { who: o.who }), most: Number(o.last) });
        const rows = items.map((d) => [clock(d.at), d.who, d.role, d.what, d.subject, auditText(d.changes)]);
        print(say, items, () =>
          items.length === 0
            ? 'Nobody has done anything yet.'
            : `${table(say.io, ['AT', 'WHO', 'ROLE', 'WHAT', 'OF', 'CHANGE'], rows)}${more ? '\nThere is more: --last says how many.' : ''}`,
        );
      }),
    );
  const notice = program.command('notice').description('who is told, by mail or by a request, when somebody has to look');
  notice
    .command('list')
    .description('who is told of what, and whether it reached them')
    .action(
      act(async ({ say, client }) => {
        const all = await client().notices();
        print(say, all, () => noticesText(say.io, all));
      }),
    );
  notice
    .command('add <name>')
    .description('somebody is to be told')
    .option('--mail <address>', 'by mail')
    .option('--hook <url>', 'by a POST of JSON, signed with HMAC-SHA256 (RFC 9421)')
    .option('--on <kinds>', `only of these, with commas between them: ${kindsText}`)
    .option(
      '--secret-file <file>',
      'file with the key that requests are signed with; one is made when it is not said ("-": standard input)',
    )
    .option('--secret-env <variable>', 'environment variable that holds it')
    .action(
      act(
        async (
          { say, client },
          name: string,
          o: { mail?: string; hook?: string; on?: string; secretFile?: string; secretEnv?: string },
        ) => {
          if ((o.mail === undefined) === (o.hook === undefined))
            throw new CommandError(
              exit.wrongUse,
              'receiver-unclear',
              'Nobody was added',
              'Say one of --mail and --hook.',
              '`barrow notice add night --mail night@example.net`.',
            );
          const made = await client().addReceiver({
            name,
            kind: o.mail === undefined ? 'hook' : 'mail',
            to: o.mail ?? o.hook!,
            ...(o.on === undefined ? {} : { on: o.on.split(',').map((kind) => kind.trim()) as OccasionKind[] }),
            secret: o.secretFile || o.secretEnv ? await secretFrom(o, say.io) : null,
          });
          print(say, made, () =>
            [
              `${made.name} is told of ${toldOfText(made.on)}.`,
              ...(made.secret === null ? [] : [`Requests are signed with this key, which is shown only now: ${made.secret}`]),
              `Try it: \`barrow notice test ${made.name}\`.`,
            ].join('\n'),
          );
        },
      ),
    );
  notice
    .command('remove <name>')
    .description('somebody is not told any more')
    .action(
      act(async ({ say, client }, name: string) => {
        const done = await client().removeReceiver(name);
        print(say, done, () => `${done.removed} is not told any more.`);
      }),
    );
  notice
    .command('test [names...]')
    .description('send a message that is about nothing, to these or to all, and tell whether it was taken')
    .action(
      act(async ({ say, client }, names: string[]) => {
        const barrow = client();
        const whom = names.length > 0 ? names : (await barrow.notices()).receivers.map((r) => r.name);
        const all: { name: string; sent: boolean; trouble: string | null }[] = [];
        for (const name of whom) all.push(await barrow.tryReceiver(name));
        print(say, all, () =>
          all.length === 0
            ? 'Nobody is told yet.'
            : all.map((r) => `${r.sent ? '✓' : '✕'} ${r.name}${r.trouble === null ? ': it was taken' : `: ${r.trouble}`}`).join('\n'),
        );
        if (all.some((r) => !r.sent)) throw new Quiet(exit.workFailed);
      }),
    );
  notice
    .command('mail-server <host>')
    .description('the server through which mail goes out: HOST or HOST:PORT')
    .requiredOption('--from <address>', 'the address that mail comes from')
    .option('--tls <how>', 'starttls, implicit or none', 'starttls')
    .option('--user <user>', 'the user to log in as')
    .option('--secret-file <file>', 'file with its password ("-": standard input)')
    .option('--secret-env <variable>', 'environment variable that holds it')
    .action(
      act(
        async (
          { say, client },
          place: string,
          o: { from: string; tls: 'starttls' | 'implicit' | 'none'; user?: string; secretFile?: string; secretEnv?: string },
        ) => {
          const [, host, port] = /^(.*?)(?::(\d{1,5}))?$/.exec(place)!;
          const all = await client().setMailServer({
            host: host!,
            ...(port === undefined ? {} : { port: Number(port) }),
            tls: o.tls,
            from: o.from,
            user: o.user ?? null,
            secret: o.user === undefined ? null : await secretFrom(o, say.io),
          });
          print(say, all, () => noticesText(say.io, all));
        },
      ),
    );
  notice
    .command('heartbeat <url>')
    .description('an address that is called while a rollout is under way, so that its silence tells of a Barrow that died; "none": no more')
    .option('--every <seconds>', 'how often', '60')
    .action(
      act(async ({ say, client }, url: string, o: { every: string }) => {
        const all = await client().setHeartbeat({ url: url === 'none' ? null : url, everySeconds: Number(o.every) });
        print(say, all, () => noticesText(say.io, all));
      }),
    );
  notice
    .command('address <url>')
    .description('under which address people reach the console, for the links in messages; "none": that of the service')
    .action(
      act(async ({ say, client }, url: string) => {
        const all = await client().setNoticeAddress(url === 'none' ? null : url);
        print(say, all, () => `Links lead to ${all.address}.`);
      }),
    );
};
