import { describe, expect, it } from 'vitest';
import { z } from 'zod';
import { describeIssue, meantName, planInput } from '@barrow/core';

const first = (schema: z.ZodType, value: unknown): string => describeIssue(schema.safeParse(value).error!.issues[0]!, value);

describe('a fault of what a person gave', () => {
  it.each([
    [{ atOnce: 999999999999999 }, 'atOnce is at most 1000'],
    [{ atOnce: 0 }, 'atOnce is at least 1'],
    [{ atOnce: 'many' }, 'atOnce is a number'],
    [{ name: '' }, 'name is empty'],
    [{ name: 'x'.repeat(200) }, 'name has at most 100 characters'],
    [{ unsaved: 'hlod' }, 'unsaved is one of hold, save, not "hlod"; is hold meant?'],
    [{ wave: 1 }, '"wave" is not known here'],
    [{ devices: 'quay-sw-1' }, 'devices is a list'],
  ])('%j is told in words: %s', (given, told) => expect(first(planInput, given)).toBe(told));
  it('that is missing, is of no form at all, or has words of its own', () => {
    expect(first(z.object({ name: z.string() }), {})).toBe('name is missing');
    expect(first(z.object({ at: z.union([z.number(), z.boolean()]) }), { at: 'x' })).toBe('at is in none of the forms that it may have');
    expect(first(z.object({ day: z.iso.date() }), { day: 'soon' })).toBe('day is no day such as 2027-03-31');
    expect(first(z.object({ a: z.object({ b: z.array(z.string()).min(1) }) }), { a: { b: [] } })).toBe('a.b has no entry');
    expect(first(z.object({ a: z.string().refine(() => false, 'an address, e.g. 192.0.2.10') }), { a: 'x' })).toBe(
      'a: an address, e.g. 192.0.2.10',
    );
    expect(first(z.strictObject({}), 'x')).toBe('the request is an object');
  });
});

describe('the name that was meant', () => {
  const names = ['quay-sw-1', 'quay-sw-2', 'eelgate'];
  it.each([
    ['eelgat', 'eelgate'],
    ['EELGATE', 'eelgate'],
    ['quay-sw1', 'quay-sw-1'],
    ['banana', null],
    ['', null],
  ])('by "%s" is %s', (asked, meant) => expect(meantName(asked, names)).toBe(meant));
});
