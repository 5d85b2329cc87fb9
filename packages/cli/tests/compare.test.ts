import { describe, expect, it } from 'vitest';
import type { RehearsalView, Rollout } from '@barrow/core';
import { compare, comparedText, onlyIn, type Rehearsed } from '../src/compare.js';

const at = (seconds: number): string => new Date(seconds * 1000).toISOString();
const plan = (id: string, names: readonly string[], waves: readonly (readonly [name: string, soakMs: number])[]) =>
  ({
    ...{ id, name: `plan ${id}`, devices: names.length, leftOut: [], window: null },
    waves: waves.map(([name, soakMs]) => ({ name, gate: { soakMs } })),
    runs: names.map((name) => ({ name, device: name })),
  }) as unknown as Rollout;
const rehearsal = (over: Partial<RehearsalView>) =>
  ({ totalMs: 60_000, stuck: null, mostAtOnce: 2, mostDown: 1, approvals: [], runs: [], ...over }) as unknown as RehearsalView;

describe('two plans side by side', () => {
  const cut = [
    { from: at(0), until: at(40), by: 'sw-1' },
    { from: at(50), until: at(70), by: 'sw-1' },
  ];
  const a: Rehearsed = {
    plan: plan('r-a', ['sw-1', 'sw-2'], [['all', 0]]),
    rehearsal: rehearsal({ runs: [{ downMs: 9000, cut }] as never }),
  };
  const b: Rehearsed = {
    plan: plan(
      'r-b',
      ['sw-1', 'sw-3'],
      [
        ['first', 600_000],
        ['rest', 5000],
      ],
    ),
    rehearsal: rehearsal({ totalMs: 700_000, approvals: [0] }),
  };
  const said = new Map(compare(a, b).map((l) => [l.what, [l.a, l.b]]));

  it('tells what each takes, darkens and cuts off', () => {
    expect(said.get('takes')).toEqual(['1 min', '11 min 40 s']);
    expect(said.get('longest down')).toEqual(['9 s', '0 s']);
    expect(said.get('cut off by others, in all')).toEqual(['1 min', '0 s']);
    expect(said.get('waves')).toEqual(['all', 'first, rest']);
    // The soak of the last wave is waited for by nobody.
    expect(said.get('of that soaking')).toEqual(['0 s', '10 min']);
    expect(said.get('words of a person')).toEqual(['0', '1']);
    expect(said.get('window')).toEqual(['at any time', 'at any time']);
  });

  it('marks what is not the same, and names who is only in one', () => {
    expect([onlyIn(a, b), onlyIn(b, a)]).toEqual([['sw-2'], ['sw-3']]);
    const text = comparedText({ out: () => undefined, err: () => undefined, terminal: false, width: 100 }, a, b);
    expect(text).toMatch(/^≠ takes +1 min +11 min 40 s *$/m);
    expect(text).toMatch(/^ {2}devices +2 +2 *$/m);
    expect(text).toMatch(/^Only in r-a: sw-2\.\nOnly in r-b: sw-3\.$/m);
  });

  it('says so of one that comes to no end', () => {
    const stuck = { ...a, rehearsal: rehearsal({ stuck: 'its last window is over' }) };
    expect(compare(stuck, b).find((l) => l.what === 'takes')!.a).toBe('comes to no end: its last window is over');
  });
});
