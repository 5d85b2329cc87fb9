import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { kinds } from '@barrow/core';
import { FamilyFileError, isUpgradable, loadFamilies, parseFamily, recognise, shippedFamilies } from '@barrow/families';

const file = join(shippedFamilies, 'tarnbrook-access.yaml');
const text = readFileSync(file, 'utf8');
const lineOf = (needle: string) => text.slice(0, text.indexOf(needle)).split('\n').length;

function faults(changed: string) {
  try {
    parseFamily(changed, 'f.yaml');
  } catch (error) {
    if (error instanceof FamilyFileError) return error.faults;
    throw error;
  }
  return [];
}

describe('a family file', () => {
  it('that ships is without fault', () => {
    const families = [...loadFamilies().values()];
    expect(families.filter(isUpgradable).map((f) => f.family)).toEqual(['tarnbrook-access', 'wendlock-branch']);
    expect(new Set(families.map((f) => f.kind)).size).toBe(kinds.length - 1);
  });

  it.each([
    ['an unknown cause', "{ when: '^no: busy ', cause: device-busy }", "{ when: '^no: busy ', cause: busybody }", /Invalid option/],
    ['a pattern that runs in more than linear time', "objectId: '^1", "objectId: '(?=x)^1", /RE2 syntax/],
    ['a span without a unit', 'preflight: 12 s', 'preflight: 12', /expected string|span of time/],
    ['a key that nobody knows', 'rebootsItself: false', 'rebootsItself: false\nwarrantyUntil: 2030', /[Uu]nrecognized key.*warrantyUntil/],
    ['a step of no kind', '      - say: tell unit\n', '      - shout: tell unit\n', /a step is exactly one of/],
    ['a kind of no kind', 'kind: switch', 'kind: toaster', /Invalid option/],
  ])('with %s is refused at its line', (_, before, after, message) => {
    const found = faults(text.replace(before, after));
    expect(found.length).toBeGreaterThan(0);
    expect(found[0]!.message).toMatch(message);
    const expected = after.includes('\nwarranty') ? lineOf(before) + 1 : lineOf(before);
    expect(Math.abs(found[0]!.line - expected), `line ${found[0]!.line}, expected about ${expected}`).toBeLessThanOrEqual(1);
  });

  it('that is no YAML is refused at its line', () => {
    expect(faults('family: x\n  title: [')[0]).toMatchObject({ file: 'f.yaml', line: expect.any(Number) as number });
  });

  it('without a procedure is refused', () => {
    expect(faults(text.replace('  verify-image:\n', '  verify-imago:\n')).map((f) => f.where)).toContain('procedures.verify-image');
  });
});

describe('recognising', () => {
  const families = [...loadFamilies().values()];
  it('takes the rule that says most, and tells its evidence', () => {
    const found = recognise(families, {
      snmp: { objectId: '1.3.6.1.4.1.32473.10.1.24', description: 'Tarnbrook TB-2424 switch, firmware 4.2.1' },
    });
    expect(found?.family.family).toBe('tarnbrook-access');
    expect(found?.evidence).toMatch(/^SNMP object ID matches .* and SNMP description matches /);
  });
  it('takes none when one of its conditions is not met', () => {
    expect(recognise(families, { snmp: { objectId: '1.3.6.1.4.1.32473.10.1.24', description: null } })).toBeNull();
    expect(recognise(families, { snmp: { objectId: null, description: null } })).toBeNull();
    expect(recognise(families, {})).toBeNull();
  });
  it('catches what a rule names: model and firmware of a SIP phone', () => {
    const found = recognise(families, { sip: { userAgent: 'Tollard D40/2.8.1 (hw B)', server: null } });
    expect(found?.family.family).toBe('tollard-desk');
    expect(found?.caught).toEqual({ model: 'D40', firmware: '2.8.1', hardwareRevision: 'B' });
  });
});
