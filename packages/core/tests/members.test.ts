import { describe, expect, it } from 'vitest';
import { checkMembers, missingMembers, type Member } from '@barrow/core';

const scheme = {
  patterns: ['(?P<major>\\d+)\\.(?P<minor>\\d+)'],
  order: [
    { part: 'major', absent: 'first' as const },
    { part: 'minor', absent: 'first' as const },
  ],
  write: '{major}.{minor}',
};
const member = (serial: string, firmware: string | null, name = `unit ${serial}`, role: string | null = null): Member => ({
  name,
  serial,
  firmware,
  role,
});
const before = ['A', 'B', 'C'].map((s) => member(s, '1.0'));
const all = ['A', 'B', 'C'].map((s) => member(s, '2.0'));

describe('the members of a stack', () => {
  it.each<[string, Member[], string | null, string | null, string[]]>([
    ['are all there on the target', all, '2.0', null, []],
    ['are all there, however the target is spelt', all, '02.0', null, []],
    ['are one less', all.slice(0, 2), '2.0', 'member-missing', ['unit C (C) is not there any more']],
    [
      'are as many, and one is another',
      [...all.slice(0, 2), member('D', '2.0')],
      '2.0',
      'member-missing',
      ['unit C (C) is not there any more', 'unit D (D) was not there before'],
    ],
    ['are one more', [...all, member('D', '2.0')], '2.0', null, ['unit D (D) was not there before']],
    ['are one behind', [...all.slice(0, 2), member('C', '1.0')], '2.0', 'member-behind', ['unit C (C) runs 1.0, and the target is 2.0']],
    [
      'are one of whose version nothing can be read',
      [...all.slice(0, 2), member('C', 'n/a', '')],
      '2.0',
      'member-behind',
      ['C runs n/a, and the target is 2.0'],
    ],
    [
      'are in the place of each other',
      [all[0]!, member('B', '2.0', 'unit C'), member('C', '2.0', 'unit B')],
      '2.0',
      'member-moved',
      ['unit B (B) is unit C now', 'unit C (C) is unit B now'],
    ],
    ['do not tell their place any more', ['A', 'B', 'C'].map((s) => member(s, '2.0', '')), '2.0', null, []],
    ['do not tell what they run', ['A', 'B', 'C'].map((s) => member(s, null)), '2.0', null, []],
    ['are there, whatever they run, when another component was changed', before, null, null, []],
    ['are one less, when another component was changed', before.slice(1), null, 'member-missing', ['unit A (A) is not there any more']],
  ])('%s', (_, after, target, cause, evidence) => {
    const check = checkMembers(scheme, before, after, target);
    expect(check).toMatchObject({ name: 'members', result: cause === null ? 'passed' : 'failed', cause, evidence });
  });

  it('are counted, those behind too', () => {
    const check = checkMembers(scheme, before, [...all.slice(0, 1), ...before.slice(1)], '2.0');
    expect([check.before, check.after]).toEqual(['3', '3, 2 of them on another version']);
    expect(checkMembers(scheme, before, all, '2.0').after).toBe('3');
  });

  it('may be led by another one, which is told', () => {
    const roles = (leader: string) => ['A', 'B', 'C'].map((s) => member(s, '2.0', `unit ${s}`, s === leader ? 'leads' : 'follows'));
    const check = checkMembers(scheme, roles('A'), roles('B'), '2.0');
    expect(check.result).toBe('passed');
    expect(check.evidence).toEqual(['unit A (A) was leads, and is follows', 'unit B (B) was follows, and is leads']);
    // Who did not tell it before is none that has changed.
    expect(checkMembers(scheme, before, roles('A'), '2.0').evidence).toEqual([]);
  });

  it('are missed by their serial, not by their place', () => {
    expect(missingMembers(before, [...all].reverse())).toEqual([]);
    expect(missingMembers(before, [all[2]!]).map((m) => m.serial)).toEqual(['A', 'B']);
  });
});
