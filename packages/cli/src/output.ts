import type { Readable } from 'node:stream';
import Table from 'cli-table3';
import pc from 'picocolors';
import { localTime as clock, type Pace } from '@barrow/client';
export { localTime as clock, octets, totalsOf } from '@barrow/client';
import { duration, safeText, stepText, type Device, type Outcome, type RunView, type Standing } from '@barrow/core';

/** Where a command writes, and what surrounds it; tests and the walkthrough give their own. */
export interface Io {
  readonly out: (text: string) => void;
  readonly err: (text: string) => void;
  /** Whether `out` is a terminal: colour and moving progress only there. */
  readonly terminal: boolean;
  readonly width: number;
  /** Instead of the environment of this process. */
  readonly env?: Environment;
  /** Instead of its standard input. */
  readonly input?: Readable;
}
export type Environment = Readonly<Record<string, string | undefined>>;

export const envOf = (io: Io): Environment => io.env ?? process.env;

export interface Say {
  /** With --json: the one answer, and nothing else on standard output. */
  readonly json: boolean;
  readonly io: Io;
}

export function makeColours(io: Io) {
  return pc.createColors(io.terminal && !envOf(io)['NO_COLOR']);
}

/** Text of ours that may hold colour; what devices said is never one. */
export class Mark {
  constructor(readonly text: string) {}
  toString(): string {
    return this.text;
  }
}

type Cell = string | number | Mark | null;

/** Between two columns. */
const gap = 2;
/** No column is made narrower; what is in it would not be read any more. */
const narrowest = 10;
// eslint-disable-next-line no-control-regex -- the colours of ours, which take no room
const seen = (text: string): number => text.replace(/\u001b\[\d+m/g, '').length;

/**
 * How wide each column may be, so that a table fits the terminal; null when it fits as it is. The widest give first, and their
 * text wraps; the first column, by which one names a thing, and numbers keep their width.
 */
export function fitWidths(
  head: readonly string[],
  rows: readonly (readonly string[])[],
  right: readonly number[],
  width: number,
): number[] | null {
  const natural = head.map((h, i) => Math.max(h.length, ...rows.map((row) => Math.max(0, ...(row[i] ?? '').split('\n').map(seen)))));
  const total = (of: readonly number[]): number => of.reduce((sum, w) => sum + w, 0) + gap * (of.length - 1);
  if (total(natural) <= width) return null;
  const fitted = [...natural];
  for (;;) {
    const over = total(fitted) - width;
    if (over <= 0) break;
    const [widest, next] = fitted
      .map((w, i) => ({ w, i }))
      .filter(({ w, i }) => i > 0 && !right.includes(i) && w > Math.max(narrowest, head[i]!.length))
      .sort((a, b) => b.w - a.w);
    if (!widest) break;
    // Down to the next widest at most, so that all give alike.
    const floor = Math.max(narrowest, head[widest.i]!.length, next ? Math.min(next.w, widest.w - 1) : 0);
    fitted[widest.i] = Math.max(floor, widest.w - over);
  }
  return fitted;
}

/** Rows under a heading line, without frame; long tables stay readable and can be cut by other tools. */
export function table(io: Io, head: readonly string[], rows: readonly (readonly Cell[])[], right: readonly number[] = []): string {
  const c = makeColours(io);
  const none = {
    top: '',
    'top-mid': '',
    'top-left': '',
    'top-right': '',
    bottom: '',
    'bottom-mid': '',
    'bottom-left': '',
    'bottom-right': '',
    left: '',
    'left-mid': '',
    mid: '',
    'mid-mid': '',
    right: '',
    'right-mid': '',
    middle: '  ',
  };
  const cells = rows.map((row) =>
    row.map((cell) => (cell === null ? '–' : cell instanceof Mark ? cell.text : safeText(String(cell), 300))),
  );
  const widths = io.terminal ? fitWidths(head, cells, right, io.width) : null;
  const made = new Table({
    head: head.map((h) => c.bold(h)),
    ...(widths ? { colWidths: widths, wordWrap: true } : {}),
    chars: none,
    style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [] },
    colAligns: head.map((_, i) => (right.includes(i) ? 'right' : 'left')),
  });
  for (const row of cells) made.push(row);
  return made
    .toString()
    .split('\n')
    .map((line) => line.trimEnd())
    .join('\n');
}

export function print(say: Say, data: unknown, text: () => string): void {
  say.io.out(say.json ? `${JSON.stringify(data, null, 2)}\n` : `${text().replace(/\n+$/, '')}\n`);
}

/** A state by word and shape; colour only helps. */
export function standingMark(io: Io, standing: Standing): Mark {
  const c = makeColours(io);
  const shown: Record<Standing, string> = {
    'at-target': c.green('● at-target'),
    behind: c.yellow('◐ behind'),
    ahead: c.cyan('◑ ahead'),
    blocked: c.red('■ blocked'),
    unknown: '? unknown',
    'no-target': c.dim('○ no-target'),
  };
  return new Mark(shown[standing]);
}

export function outcomeMark(io: Io, outcome: Outcome): Mark {
  const c = makeColours(io);
  const shown: Record<Outcome, string> = {
    verified: c.green('✓ verified'),
    recovered: c.cyan('↺ recovered'),
    failed: c.red('✕ failed'),
    withdrawn: '− withdrawn',
    skipped: '» skipped',
    'not-begun': c.yellow('○ not-begun'),
  };
  return new Mark(shown[outcome]);
}

/** @param pace what it is at, as long as that takes: beside its step */
export function runMark(io: Io, run: RunView, pace: Pace | null = null): Mark {
  if (run.outcome) return outcomeMark(io, run.outcome);
  const waits = run.waits && `${safeText(run.waits.text, 200)}${run.waits.until ? `, until ${clock(run.waits.until)}` : ''}`;
  if (run.phase === 'waiting') return new Mark(`· ${waits ?? 'waiting'}`);
  if (run.phase === 'absent')
    return new Mark(
      `${makeColours(io).yellow(run.cause?.code === 'unreachable' ? '○ absent' : '○ not ready')}${waits ? `: ${waits}` : ''}`,
    );
  if (run.phase === 'armed') return new Mark(`◷ ${waits ?? 'armed'}`);
  const step = `${run.stepIndex + 1}/${run.stepCount} ${stepText(run)}`;
  if (run.phase === 'broken') return new Mark(`✕ failed at ${run.step}, to be ${run.rung!.text}${waits ? `: ${waits}` : ''}`);
  if (run.rung) return new Mark(`↺ ${run.rung.stepIndex + 1}/${run.rung.stepCount} ${stepText(run)}`);
  // Begun, and its next step may not begin: the rollout is held, or the service is stopping.
  if (run.phase === 'ready' || run.phase === 'parked') return new Mark(`‖ parked before ${stepText(run)}${waits ? `: ${waits}` : ''}`);
  const wish = run.wish ? ', then it is left out' : '';
  // What is waited for says more than how long it takes.
  const takes = waits ? `, ${waits}` : pace === null ? '' : `, ${pace.isSlow ? makeColours(io).yellow(pace.text) : pace.text}`;
  return new Mark(`▸ ${step}${run.percent === null ? '' : ` ${run.percent} %`}${takes}${wish}`);
}

/** A number with its word: `1 device`, `14 devices`. */
export const count = (n: number, word: string): string => `${n} ${word}${n === 1 ? '' : 's'}`;

/** Seconds as people say them. */
export const spanOf = (seconds: number): string => duration(seconds * 1000);

/** What it runs, and what its next reset brings when that is something else. */
export const firmwareOf = (d: Pick<Device, 'firmware' | 'armed'>): string =>
  d.armed ? `${d.firmware ?? 'unknown'} (armed: ${d.armed.version})` : (d.firmware ?? 'unknown');
