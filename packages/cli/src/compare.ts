import { duration, type RehearsalView, type Rollout } from '@barrow/core';
import { someOf } from '@barrow/client';
import { table, type Io } from './output.js';

/** A plan and its rehearsal. */
export interface Rehearsed {
  readonly plan: Rollout;
  readonly rehearsal: RehearsalView;
}

/** What tells one plan from another, by name, as both have it. */
export interface Compared {
  readonly what: string;
  readonly a: string;
  readonly b: string;
}

const sum = (numbers: readonly number[]): number => numbers.reduce((all, one) => all + one, 0);
const cutMs = ({ rehearsal }: Rehearsed): number =>
  sum(rehearsal.runs.flatMap((r) => r.cut.map((c) => Date.parse(c.until) - Date.parse(c.from))));

const lines: readonly (readonly [what: string, of: (one: Rehearsed) => string])[] = [
  ['devices', ({ plan }) => String(plan.devices)],
  ['left out', ({ plan }) => String(plan.leftOut.length)],
  ['waves', ({ plan }) => plan.waves.map((w) => w.name).join(', ')],
  ['takes', ({ rehearsal }) => (rehearsal.stuck === null ? duration(rehearsal.totalMs) : `comes to no end: ${rehearsal.stuck}`)],
  ['of that soaking', ({ plan }) => duration(sum(plan.waves.slice(0, -1).map((w) => w.gate.soakMs)))],
  ['under way at once', ({ rehearsal }) => `at most ${rehearsal.mostAtOnce}`],
  ['down at once', ({ rehearsal }) => `at most ${rehearsal.mostDown}`],
  ['longest down', ({ rehearsal }) => duration(Math.max(0, ...rehearsal.runs.map((r) => r.downMs)))],
  ['cut off by others, in all', (one) => duration(cutMs(one))],
  ['words of a person', ({ rehearsal }) => String(rehearsal.approvals.length)],
  ['window', ({ plan }) => plan.window?.text ?? 'at any time'],
];

/** Two plans side by side, what is the same of them among it. */
export const compare = (a: Rehearsed, b: Rehearsed): Compared[] => lines.map(([what, of]) => ({ what, a: of(a), b: of(b) }));

/** The names of the devices that only the first of two plans has. */
export function onlyIn(one: Rehearsed, other: Rehearsed): string[] {
  const there = new Set(other.plan.runs.map((r) => r.device));
  return one.plan.runs.filter((r) => !there.has(r.device)).map((r) => r.name);
}

export function comparedText(io: Io, a: Rehearsed, b: Rehearsed): string {
  const only = ([one, other]: readonly [Rehearsed, Rehearsed]): string[] => {
    const names = onlyIn(one, other);
    return names.length === 0 ? [] : [`Only in ${one.plan.id}: ${someOf(names)}.`];
  };
  return [
    table(
      io,
      ['', a.plan.id, b.plan.id],
      [['name', a.plan.name, b.plan.name], ...compare(a, b).map((l) => [`${l.a === l.b ? ' ' : '≠'} ${l.what}`, l.a, l.b])],
    ),
    ...only([a, b]),
    ...only([b, a]),
  ].join('\n');
}
