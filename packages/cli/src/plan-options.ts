import { dayNames, type PlanInput, type WindowInput } from '@barrow/core';
import type { Command } from 'commander';
import { collect } from './context.js';
import { CommandError, exit } from './errors.js';

/** What a plan is told on the command line. */
export interface PlanOptions {
  name?: string;
  site?: string;
  family?: string;
  model?: string;
  kind?: string;
  tag?: string;
  first?: string;
  wave: string[];
  rest?: string;
  gate: string[];
  failureShare?: string;
  absentLimit?: string;
  atOnce: string;
  perSite: string;
  apart: string;
  soak?: string;
  failureLimit: string;
  approval?: boolean;
  unsaved: string;
  older?: boolean;
  wayBack?: boolean;
  level?: boolean;
  between?: string;
  on?: string;
  zone?: string;
}

/** A whole number. @throws CommandError */
export const whole = (name: string, text: string): number => {
  if (!/^\d+$/.test(text))
    throw new CommandError(
      exit.wrongUse,
      'number-malformed',
      'The command was not understood',
      `${name} takes a whole number, not "${text}".`,
      'See --help.',
    );
  return Number(text);
};

/** Seconds from `30`, `30s`, `10min`, `2h`. */
function spanOf(text: string): number {
  const match = /^(\d+)(s|min|h)?$/.exec(text);
  if (!match)
    throw new CommandError(
      exit.wrongUse,
      'span-malformed',
      'The command was not understood',
      `"${text}" is no span of time.`,
      'Write 30s, 10min or 2h.',
    );
  return Number(match[1]) * { s: 1, min: 60, h: 3600 }[(match[2] ?? 's') as 's' | 'min' | 'h'];
}

/** The window that `--between`, `--on` and `--zone` say. */
export function windowOf({ between, on, zone }: Pick<PlanOptions, 'between' | 'on' | 'zone'>): WindowInput | null {
  const wrong = (why: string, next: string): CommandError =>
    new CommandError(exit.wrongUse, 'window-malformed', 'The command was not understood', why, next);
  if (between === undefined) {
    if (on === undefined && zone === undefined) return null;
    throw wrong('--on and --zone belong to --between.', 'Say --between 22:00-04:00 too.');
  }
  const [, from, to] = /^((?:[01]\d|2[0-3]):[0-5]\d)[-–]((?:[01]\d|2[0-3]):[0-5]\d)$/.exec(between) ?? [];
  if (from === undefined || to === undefined) throw wrong(`"${between}" is no window.`, 'Write it as 22:00-04:00.');
  const words = (on?.split(',') ?? []).map((day) => day.trim());
  const isDate = (word: string): boolean => /^\d{4}-\d{2}-\d{2}$/.test(word);
  const dates = words.filter(isDate);
  const days = words
    .filter((word) => !isDate(word))
    .map((day) => {
      const at = dayNames.findIndex((d) => d.toLowerCase() === day.slice(0, 3).toLowerCase());
      if (at < 0) throw wrong(`"${day}" is no day of the week, and no date.`, `Write days as ${dayNames.join(', ')}, or as 2026-11-28.`);
      return at + 1;
    });
  if (dates.length > 0 && days.length > 0) throw wrong('--on takes days of the week or single days, not both.', 'Say it with one of them.');
  return { from, to, days, dates, zone: zone ?? null };
}

const misread = (why: string, next: string): CommandError =>
  new CommandError(exit.wrongUse, 'words-malformed', 'The command was not understood', why, next);

/** Hundredths from `10%`. */
function percent(text: string): number {
  const [, number] = /^(\d+(?:\.\d+)?) ?%$/.exec(text.trim()) ?? [];
  if (number === undefined) throw misread(`"${text}" is no share.`, 'Write it as 10%.');
  return Number(number);
}

/** What stands before and after the colon of `NAME: …`. */
function namedWords(option: string, text: string, example: string): [name: string, words: string[]] {
  const [, name, rest] = /^([^:]+):(.+)$/.exec(text) ?? [];
  const words = (rest ?? '').split(',').map((w) => w.trim());
  if (name === undefined || words.includes('')) throw misread(`"${text}" says no wave.`, `Write ${option} "${example}".`);
  return [name.trim(), words];
}

function waveFrom(text: string): NonNullable<PlanInput['waves']>[number] {
  const [name, devices] = namedWords('--wave', text, 'first: quay-sw-4, gannet-sw-1');
  return { name, devices };
}

function divisionFrom(text: string): PlanInput['by'] {
  if (text === 'site' || text === 'kind' || text === 'family') return text;
  if (!text.includes('%'))
    throw misread(`The others cannot be divided by "${text}".`, 'Say --rest site, kind, family, or shares: 10%,30%.');
  return text.split(',').map(percent);
}

type GateInput = NonNullable<PlanInput['gates']>[string];
const gateWords: Record<string, (value: string) => GateInput> = {
  soak: (value) => ({ soakSeconds: spanOf(value) }),
  limit: (value) => ({ failureLimit: whole('limit', value) }),
  share: (value) => ({ failureShare: percent(value) }),
  absent: (value) => ({ absentLimit: whole('absent', value) }),
  approval: () => ({ approval: true }),
};

function gateFrom(text: string): [string, GateInput] {
  const [name, words] = namedWords('--gate', text, 'first: soak 2h, approval');
  const parts = words.map((word) => {
    const [key, ...value] = word.split(/\s+/);
    const read = gateWords[key!];
    if (!read) throw misread(`A gate has no "${key}".`, `Say ${Object.keys(gateWords).join(', ')}.`);
    return read(value.join(' '));
  });
  return [name, Object.assign({}, ...parts) as GateInput];
}

/** What every plan may be told. */
export const planOptions = (command: Command): Command =>
  command
    .option('--name <name>', 'what to call it')
    .option('--first <n>', 'devices in the first wave (default: one of each family and model; 0 with --wave)')
    .option('--wave <words>', 'a wave before all others: "NAME: DEVICE, DEVICE"; may be said again', collect, [])
    .option('--rest <how>', 'divide the others into waves: site, kind, family, or shares in turn such as 10%,30%')
    .option('--at-once <n>', 'most devices at once', '4')
    .option('--per-site <n>', 'most devices at once in one site (0: no limit)', '0')
    .option('--apart <span>', 'devices of one site begin to go down so far apart: 30s, 2min', '0')
    .option('--soak <span>', 'wait after each wave: 30s, 10min, 2h (10min when not said)')
    .option('--failure-limit <n>', 'failures in a wave that hold the rollout', '1')
    .option('--failure-share <percent>', 'which share of a wave, failed, holds it as well: 10%')
    .option('--absent-limit <n>', 'how many absent devices at the end of a wave hold it')
    .option('--approval', "wait for a person's word after each wave but the last")
    .option('--gate <words>', 'otherwise after one wave: "NAME: soak 2h, limit 2, share 10%, absent 3, approval"', collect, [])
    .option('--unsaved <what>', 'settings that nobody saved: hold (leave the device out) or save', 'hold')
    .option('--way-back', 'take a device that fails past its point of no return back at once to what it ran')
    .option('--level', 'after the soak: look at each device again, and bring its other copy to the same version')
    .option('--between <times>', 'only then devices may go down: 22:00-04:00')
    .option('--on <days>', 'days on which that begins: Sat,Sun, or single ones: 2026-11-28')
    .option('--zone <zone>', 'time zone of --between, e.g. Europe/London (that of the service when not said)');

/** The same as the service is asked. */
export const planFrom = (o: PlanOptions, devices: readonly string[]): PlanInput => ({
  name: o.name,
  devices: [...devices],
  site: o.site ?? null,
  family: o.family ?? null,
  model: o.model ?? null,
  kind: (o.kind as PlanInput['kind']) ?? null,
  tag: o.tag ?? null,
  ...(o.first === undefined ? {} : { first: whole('--first', o.first) }),
  waves: o.wave.map(waveFrom),
  by: o.rest === undefined ? null : divisionFrom(o.rest),
  gates: Object.fromEntries(o.gate.map(gateFrom)),
  ...(o.failureShare === undefined ? {} : { failureShare: percent(o.failureShare) }),
  ...(o.absentLimit === undefined ? {} : { absentLimit: whole('--absent-limit', o.absentLimit) }),
  atOnce: whole('--at-once', o.atOnce),
  perSite: whole('--per-site', o.perSite),
  apartSeconds: spanOf(o.apart),
  ...(o.soak === undefined ? {} : { soakSeconds: spanOf(o.soak) }),
  failureLimit: whole('--failure-limit', o.failureLimit),
  approval: o.approval ?? false,
  unsaved: o.unsaved as 'hold',
  down: o.older === true,
  wayBack: o.wayBack === true,
  level: o.level === true,
  window: windowOf(o),
});
