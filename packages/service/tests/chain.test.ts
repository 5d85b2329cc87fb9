import { describe, expect, it } from 'vitest';
import { chainOf, firstChanged, type Chained } from '../src/runner/chain.js';

/** Entries that tell of each other, each other number of all: those between are of other rollouts. */
function written(count: number, before = ''): Chained[] {
  let last = before;
  return Array.from({ length: count }, (_, i) => {
    const seq = 3 + 2 * i;
    const event = JSON.stringify({ kind: 'noted', at: i, text: `note ${i}` });
    last = chainOf(last, seq, event);
    return { seq, event, chain: last };
  });
}

describe('the entries of a journal', () => {
  const all = written(6);
  const without = (at: number): Chained[] => all.filter((_, i) => i !== at);
  const changed = (at: number, by: Partial<Chained>): Chained[] => all.map((e, i) => (i === at ? { ...e, ...by } : e));
  const old = [1, 2].map((seq) => ({ seq, event: '{}', chain: null }));

  it.each<[string, readonly Chained[], number | null]>([
    ['as they were written', all, null],
    ['none', [], null],
    ['of before entries told of each other, and then some that do', [...old, ...all], null],
    ['with one that says something else', changed(2, { event: '{"kind":"noted","at":2,"text":"note x"}' }), 7],
    ['with one that has another number', changed(2, { seq: 8 }), 8],
    ['without the first', without(0), 5],
    ['without one in the middle', without(3), 11],
    ['with one that was put between', [...all.slice(0, 2), { seq: 6, event: '{}', chain: null }, ...all.slice(2)], 6],
    ['in another order', [all[0]!, all[2]!, all[1]!], 7],
    ['with one that was put after them', [...all, { seq: 90, event: '{}', chain: null }], 90],
    ['with a digest that was made for it alone', changed(4, { event: '{}', chain: chainOf('', 11, '{}') }), 11],
  ])('%s', (_, entries, where) => expect(firstChanged(entries, '')).toBe(where));

  it('follow the one up to which they were kept', () => {
    expect(firstChanged(all.slice(3), all[2]!.chain!)).toBeNull();
    expect(firstChanged(all.slice(3), all[1]!.chain!)).toBe(9);
    expect(firstChanged(all.slice(3), '')).toBe(9);
  });
});
