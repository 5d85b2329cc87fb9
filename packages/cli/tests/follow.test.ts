import { describe, expect, it } from 'vitest';
import type { JournalEntry, Rollout } from '@barrow/core';
import { FollowedLines } from '../src/commands/follow.js';

const names = ['quay-sw-1', 'quay-sw-2', 'gannet-sw-1'];
const view = {
  runs: names.map((name, i) => ({ id: `r${i}`, name, passage: 0, legs: [{ component: 'system', from: '4.2.1', to: '4.3.0' }], leg: 0 })),
  passages: [
    {
      steps: [
        { step: 'transfer', leg: 0, pastReturn: false },
        { step: 'activate', leg: 0, pastReturn: true },
      ],
      rungs: [
        { means: 'console', text: 'given its address again', steps: [{ step: 'by-console', leg: 0 }] },
        { means: 'other-slot', text: 'taken back by its other slot', steps: [{ step: 'fall-back', leg: 1 }] },
      ],
    },
  ],
  waves: [{ gate: { soakMs: 60_000 } }, { gate: { soakMs: 0 } }],
} as unknown as Rollout;
const at = Date.parse('2026-11-25T22:00:00Z');
const happened = (e: object): JournalEntry['event'] => ({ at, ...e }) as JournalEntry['event'];

function followed(terminal: boolean, width = 80): { lines: FollowedLines; said: string[]; shown: () => string; clock: { now: number } } {
  const said: string[] = [];
  const clock = { now: at };
  const io = { out: (text: string) => said.push(text), err: () => undefined, terminal, width };
  const lines = new FollowedLines(io, view, () => clock.now);
  // eslint-disable-next-line no-control-regex -- what stands on the line that is written again and again
  const plain = (text: string): string => text.replace(/\u001b\[\d*[mK]/g, '').replace(/\r/g, '');
  return { lines, said, shown: () => plain(said.at(-1)!), clock };
}

describe('a rollout that is followed', () => {
  it('shows beneath its lines how far each device is, until its step has ended', () => {
    const { lines, said, shown } = followed(true);
    lines.entry(happened({ kind: 'step-begun', run: 'r0', step: 'transfer', attempt: 1 }));
    expect(said.join('')).toContain('quay-sw-1        1/2 transfer');
    lines.progress('r0', 12);
    lines.progress('r1', 40);
    expect(shown()).toBe('quay-sw-1 12 %   quay-sw-2 40 %');
    lines.entry(happened({ kind: 'step-begun', run: 'r0', step: 'activate', attempt: 1 }));
    expect(said.at(-2)).toContain('point of no return');
    expect(shown()).toBe('quay-sw-2 40 %');
    lines.entry(happened({ kind: 'step-failed', run: 'r1', step: 'transfer', cause: 'no-space', detail: 'full\nmore', attempt: 1 }));
    expect(said.at(-2)).toMatch(/✕ transfer: no-space.* full\n$/);
    expect(shown()).toBe('');
  });

  it('says how many others there are where the terminal is too narrow', () => {
    const { lines, shown } = followed(true, 34);
    for (const [i, percent] of [10, 20, 30].entries()) lines.progress(`r${i}`, percent);
    expect(shown()).toBe('quay-sw-1 10 %   and 2 more');
  });

  it('tells every half minute how a long step goes on where nothing can move', () => {
    const { lines, said, clock } = followed(false);
    lines.progress('r0', 1);
    clock.now += 29_000;
    lines.progress('r0', 2);
    expect(said).toEqual([]);
    clock.now += 1_000;
    lines.progress('r0', 3);
    lines.progress('r0', 4);
    expect(said).toEqual([expect.stringMatching(/ {2}quay-sw-1 {8}3 %\n$/)]);
  });

  it('tells a soak only where something comes after it', () => {
    const { lines, said } = followed(false);
    lines.entry(happened({ kind: 'wave-ended', wave: 0 }));
    lines.entry(happened({ kind: 'wave-ended', wave: 1 }));
    expect(said.map((s) => s.includes('soaking for 1 min'))).toEqual([true, false]);
  });

  it('says that one has recovered when it was taken back, and not when it only goes on', () => {
    const { lines, said } = followed(false);
    lines.entry(happened({ kind: 'step-done', run: 'r0', step: 'by-console' }));
    expect(said).toEqual([]);
    lines.entry(happened({ kind: 'step-done', run: 'r0', step: 'fall-back', leg: 1 }));
    expect(said).toEqual([expect.stringContaining('recovered')]);
  });
});
