import { describe, expect, it } from 'vitest';
import { canonicalText, lineFaults, linesOf, type SignedLine } from '@barrow/core';

const report = () => ({
  rollout: { id: 'r', name: 'the night' },
  madeAt: 'now',
  runs: [
    { device: 'd1', name: 'sw-1', outcome: 'verified', checks: [{ name: 'version' }, { name: 'ports' }], steps: [] as object[] },
    { device: 'd2', name: 'sw-2', outcome: 'failed', checks: [{ name: 'version' }], steps: [] as object[] },
  ],
  leftOut: [{ device: 'd3', name: 'sw-3', reason: 'pinned' }],
  deeds: [
    { by: 'ana', what: 'started' },
    { by: 'ben', what: 'approved' },
    { by: 'ana', what: 'noted' },
  ],
  proof: { signature: 'x' } as object | undefined,
});
type Report = ReturnType<typeof report>;
const signed = (of: object): SignedLine[] => linesOf(of as never).map(({ group, text }) => ({ group, digest: text }));
const faults = (change: (r: Report) => void): string[] => {
  const other = report();
  change(other);
  return lineFaults(signed(report()), signed(other)).map((f) => `${f.group} ${f.line ?? '-'} ${f.what}`);
};

describe('a value as one text', () => {
  it('is the same whatever the order of its keys, and another for another value', () => {
    expect(canonicalText({ b: [1, { z: null, a: 'x' }], a: 1.5 })).toBe('{"a":1.5,"b":[1,{"a":"x","z":null}]}');
    expect(canonicalText({ a: undefined, b: undefined })).toBe('{}');
    const all = [{ a: 1 }, { a: '1' }, { a: [1] }, { a: null }, { a: true }, {}, [], { a: { a: 1 } }].map(canonicalText);
    expect(new Set(all).size).toBe(all.length);
  });
});

describe('the lines of a report', () => {
  it('are its head, each device with each of its parts, and what stands in lists; what proves them is none', () => {
    expect(linesOf(report()).map((l) => l.group)).toEqual([
      'rollout',
      'runs/sw-1/checks',
      'runs/sw-1/checks',
      'runs/sw-1',
      'runs/sw-2/checks',
      'runs/sw-2',
      'leftOut',
      'deeds',
      'deeds',
      'deeds',
      '',
    ]);
    expect(faults((r) => (r.proof = undefined))).toEqual([]);
  });

  it.each<[string, (r: Report) => void, string[]]>([
    ['an outcome that was changed', (r) => (r.runs[1]!.outcome = 'verified'), ['runs/sw-2 - changed']],
    ['a check that was changed', (r) => (r.runs[0]!.checks[1]!.name = 'other'), ['runs/sw-1/checks 2 changed']],
    ['a deed that was taken out', (r) => r.deeds.splice(1, 1), ['deeds 2 missing']],
    ['a deed that was put in', (r) => r.deeds.splice(1, 0, { by: 'eve', what: 'approved' }), ['deeds 2 added']],
    ['a deed that was doubled', (r) => r.deeds.push(r.deeds[0]!), ['deeds 4 added']],
    ['deeds in another order', (r) => r.deeds.reverse(), ['deeds 1 moved']],
    ['a device that was taken out', (r) => r.runs.pop(), ['runs/sw-2/checks - missing', 'runs/sw-2 - missing']],
    ['a device that was put in', (r) => r.runs.push({ ...r.runs[0]!, name: 'sw-9', checks: [] }), ['runs/sw-9 - added']],
    ['the head', (r) => (r.madeAt = 'then'), [' - changed']],
    ['the rollout', (r) => (r.rollout.name = 'the day'), ['rollout - changed']],
    ['a key that was put in', (r) => Object.assign(r, { more: 1 }), [' - changed']],
    ['a list that was put in', (r) => Object.assign(r, { more: [1] }), ['more - added']],
  ])('tell of %s', (_, change, told) => expect(faults(change)).toEqual(told));
});
