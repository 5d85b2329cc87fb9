import { writeFileSync } from 'node:fs';
import { heldText, neverCame, wayOf } from '@barrow/client';
import type { Transfer, TransferStory } from '@barrow/core';
import type { Register } from '../context.js';
import { CommandError, exit } from '../errors.js';
import { clock, makeColours, Mark, octets, print, spanOf, table, type Io } from '../output.js';

const bars = '▁▂▃▄▅▆▇█';

/** Rates as a small line of blocks, the largest of them full. */
export function rateLine(rates: readonly number[], width = 20): string {
  const shown = rates.slice(-width);
  const most = Math.max(1, ...shown);
  return shown.map((r) => bars[Math.min(7, Math.round((r / most) * 7))]).join('');
}

function stateMark(io: Io, t: Transfer): Mark {
  const c = makeColours(io);
  if (t.state === 'done') return new Mark(t.verified ? c.green('✓ verified') : '✓ done');
  if (t.state === 'refused') return new Mark(c.yellow('− refused'));
  if (t.state === 'broken') return new Mark(c.red('✕ broken'));
  const percent = t.totalBytes > 0 ? Math.floor((t.bytes / t.totalBytes) * 100) : 0;
  const word = t.state === 'awaited' ? '· awaited' : `▸ ${percent} %`;
  return new Mark(t.cause ? c.red(`${word}, stuck`) : word);
}

const causeLines = (t: Pick<Transfer, 'cause' | 'evidence'>): string[] =>
  t.cause ? [`${t.cause.what} [${t.cause.code}]`, ...t.evidence.map((e) => `  ${e}`), `  What to do: ${t.cause.next}`] : [];

/** A line in pieces that fit, indented as it was. */
function folded(line: string, width: number): string[] {
  const indent = /^ */.exec(line)![0];
  const pieces: string[] = [];
  let now = '';
  for (const word of line.trim().split(' ')) {
    if (now !== '' && indent.length + now.length + 1 + word.length > width) {
      pieces.push(indent + now);
      now = word;
    } else now = now === '' ? word : `${now} ${word}`;
  }
  return [...pieces, indent + now];
}

/** Moments after the first packet, to the microsecond. */
const after = (ms: number): string => (ms / 1000).toFixed(6);

function storyText(io: Io, t: TransferStory, most: number): string {
  const c = makeColours(io);
  const asked = Object.entries(t.askedOptions)
    .map(([k, v]) => `${k} ${v}`)
    .join(', ');
  const lines = [
    `${c.bold(t.file)} ${t.protocol === 'tftp-write' ? 'from' : 'to'} ${t.deviceName ?? 'nobody known'} (${t.peer}), ${wayOf(t)}`,
    `  ${stateMark(io, t)}${t.detail ? `: ${t.detail}` : ''}`,
    `  ${neverCame(t) ? 'awaited since' : 'asked at'} ${clock(t.askedAt)}${asked ? `, with ${asked}` : ''}`,
    ...(t.blockSize ? [`  agreed: blocks of ${t.blockSize} octets, window of ${t.windowSize}`] : []),
    `  moved: ${octets(t.bytes)} of ${octets(t.totalBytes)} at ${octets(t.rate)}/s ${rateLine(t.rates)}`,
    ...(t.resent > 0 ? [`  sent again: ${t.resent} blocks`] : []),
    ...(t.comparedBy === null ? [] : [`  on the device: ${heldText(t)}`]),
  ];
  if (t.findings.length > 0) {
    lines.push('', c.bold('What was found'));
    for (const f of t.findings) lines.push(...causeLines(f).flatMap((l) => folded(l, io.width - 2).map((part) => `  ${part}`)));
  }
  if (t.packets.length > 0) {
    const first = t.packets.slice(0, Math.ceil(most / 2));
    const last = t.packets.slice(Math.max(first.length, t.packets.length - Math.floor(most / 2)));
    const left = t.packets.length - first.length - last.length + t.packetsLeftOut;
    const row = (p: TransferStory['packets'][number]) => [after(p.afterMs), p.from === 'barrow' ? '→' : '←', p.octets, p.says];
    lines.push(
      '',
      table(
        io,
        ['SECONDS', '', 'OCTETS', 'PACKET'],
        [...first.map(row), ...(left > 0 ? [['', '⋮', '', `${left} more`]] : []), ...last.map(row)],
        [0, 2],
      ),
    );
  }
  if (t.around.length > 0) {
    lines.push('', c.bold('Around it'));
    for (const x of t.around)
      lines.push(`  ${clock(x.askedAt)}  ${x.id}  ${x.peer}  ${x.file}  ${x.state}${x.detail ? `: ${x.detail}` : ''}`);
  }
  return lines.join('\n');
}

export const registerTransfers: Register = (program, act) => {
  const transfer = program.command('transfer').description('what is moving, what moved, and what did not and why');
  transfer
    .command('list')
    .description('transfers and refused requests, newest first; those awaited before all')
    .option('--most <n>', 'at most so many', '40')
    .option('--state <state>', 'only awaited, moving, done, broken or refused')
    .option('--device <device>', 'of one device')
    .action(
      act(async ({ say, client }, o: { most: string; state?: string; device?: string }) => {
        const all = await client().transfers(Number(o.most), { state: o.state, device: o.device });
        print(say, all, () =>
          all.length === 0
            ? o.state === undefined && o.device === undefined
              ? 'No device has asked for anything yet.'
              : 'No transfer fits this choice. `barrow transfer list` shows all of them.'
            : table(
                say.io,
                ['ID', 'ASKED', 'DEVICE', 'FILE', 'STATE', 'MOVED', 'RATE', 'LEFT', 'RESENT', 'DETAIL'],
                all.map((t) => [
                  t.id,
                  clock(t.askedAt),
                  t.deviceName ?? t.peer,
                  t.file,
                  stateMark(say.io, t),
                  t.state === 'refused' || t.totalBytes === 0 ? null : `${octets(t.bytes)} of ${octets(t.totalBytes)}`,
                  t.state === 'refused' || t.state === 'awaited' ? null : `${octets(t.rate)}/s`,
                  t.secondsLeft === null ? null : spanOf(t.secondsLeft),
                  t.resent === 0 ? null : t.resent,
                  t.cause?.what ?? t.detail,
                ]),
                [5, 6, 7, 8],
              ),
        );
      }),
    );
  transfer
    .command('show <id>')
    .description('the story of a transfer: what was agreed, what was found, its first and last packets')
    .option('--packets <n>', 'show so many of the packets', '24')
    .option('--pcapng <file>', 'write the packets to a file, for a viewer of your own')
    .action(
      act(async ({ say, client }, id: string, o: { packets: string; pcapng?: string }) => {
        const barrow = client();
        const story = await barrow.transfer(id);
        if (o.pcapng !== undefined)
          try {
            writeFileSync(o.pcapng, await barrow.packets(id), { flag: 'wx' });
          } catch (error) {
            if ((error as NodeJS.ErrnoException).code === undefined) throw error;
            throw new CommandError(
              exit.wrongUse,
              'file-not-written',
              'The packets were not written',
              (error as Error).message,
              'Name a file that is not there yet, in a folder that can be written to.',
            );
          }
        print(say, story, () => storyText(say.io, story, Math.max(2, Number(o.packets) || 24)));
      }),
    );
  transfer
    .command('follow [id]')
    .description('what moves, line by line, until the transfer (or, without one, you) ends it')
    .action(
      act(async ({ say, client }, id: string | undefined) => {
        const barrow = client();
        const line = (t: Transfer): string =>
          `${clock(new Date().toISOString())}  ${t.deviceName ?? t.peer}  ${t.file}  ${stateMark(say.io, t)}  ${octets(t.bytes)} of ${octets(t.totalBytes)}  ${octets(t.rate)}/s ${rateLine(t.rates, 12)}${t.cause ? `\n  ${causeLines(t).join('\n  ')}` : ''}\n`;
        const tell = (t: Transfer): void => say.io.out(say.json ? `${JSON.stringify(t)}\n` : line(t));
        if (id !== undefined) {
          const now = await barrow.transfer(id);
          tell(now);
          if (now.endedAt !== null) return;
        }
        const stop = new AbortController();
        process.once('SIGINT', () => stop.abort());
        const told = new Map<string, string>();
        if (id === undefined && !say.json && !(await barrow.transfers(10)).some((t) => t.endedAt === null))
          say.io.err('Nothing is being transferred. Waiting for the next transfer; Ctrl-C ends this.\n');
        try {
          for await (const event of barrow.events({ signal: stop.signal })) {
            if (event.kind !== 'transfer' || (id !== undefined && event.transfer.id !== id)) continue;
            const t = event.transfer;
            // A line for each tenth of the way and each turn, not for each block.
            const tenth = `${t.state} ${Math.floor((t.bytes * 10) / Math.max(1, t.totalBytes))} ${t.cause?.code ?? ''} ${t.verified ?? ''}`;
            if (!say.json && told.get(t.id) === tenth) continue;
            told.set(t.id, tenth);
            tell(t);
            if (id !== undefined && t.endedAt !== null) break;
          }
        } finally {
          stop.abort();
        }
      }),
    );
  transfer
    .command('stop <id>')
    .description('end a transfer that moves; the device is told')
    .action(
      act(async ({ say, client }, id: string) => {
        const t = await client().stopTransfer(id);
        print(say, t, () => `${t.file} to ${t.deviceName ?? t.peer}: stopped after ${octets(t.bytes)}.`);
      }),
    );
  transfer
    .command('claim <id> <device>')
    .description('"that was this device": it may fetch from the address of a refused request from now on')
    .action(
      act(async ({ say, client }, id: string, device: string) => {
        const done = await client().claimTransfer(id, device);
        print(say, done, () => `${done.device} may fetch from ${done.address} as well.`);
      }),
    );
};
