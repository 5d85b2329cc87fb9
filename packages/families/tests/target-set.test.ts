import { describe, expect, it } from 'vitest';
import { readTargetSet, TargetSetError, writeTargetSet } from '@barrow/families';

const faultsOf = (text: string): string[] => {
  try {
    readTargetSet(text, 'autumn.yaml');
  } catch (error) {
    if (error instanceof TargetSetError) return error.message.split('\n');
    throw error;
  }
  throw new Error('it was taken');
};

describe('the file of a set of versions', () => {
  it('says one version for a family, or several for parts of it; what looks like a number stays what it is', () => {
    const set = readTargetSet(
      [
        'set: autumn',
        'note: agreed on 4 November',
        'versions:',
        '  access: 4.10',
        '  desk:',
        '    - version: 3.0.2',
        '    - { version: 2.9.0, site: quay-house, acceptUnreleased: yes }',
      ].join('\n'),
    );
    expect(set).toMatchObject({ name: 'autumn', note: 'agreed on 4 November' });
    expect(set.targets.map(({ family, version, site, acceptUnreleased }) => [family, version, site, acceptUnreleased])).toEqual([
      ['access', '4.10', null, false],
      ['desk', '3.0.2', null, false],
      ['desk', '2.9.0', 'quay-house', true],
    ]);
  });

  it('is written so that it reads the same again', () => {
    const text = ['set: a', 'versions:', '  access:', '    - version: "4.10"', '      device: sw-1', '  desk: 3.0.2'].join('\n');
    const { targets } = readTargetSet(text);
    const rules = targets.map((t, i) => ({ ...t, id: `${i}`, device: t.device === null ? null : 'id-of-it' }));
    const written = writeTargetSet('a', rules, (id) => (id === 'id-of-it' ? 'sw-1' : id));
    expect(readTargetSet(written).targets).toEqual(targets);
    expect(written).toContain('  desk: 3.0.2');
  });

  it.each([
    [
      'set: a\nversions:\n  access: [',
      'autumn.yaml:3:12: Flow sequence in block collection must be sufficiently indented and end with a ]',
    ],
    ['versions: { access: 4.3.0 }', 'autumn.yaml:1:1: set: it is missing'],
    ['set: a', 'autumn.yaml:1:1: versions: it is missing'],
    ['set: a\nversions: {}', 'autumn.yaml:2:11: versions: says no version'],
    ['set: a\nversion:\n  access: 4.3.0', 'autumn.yaml:2:1: "version" is not known here: is versions meant?'],
    ['set: a\nversions:\n  access:\n    - vesion: 4.3.0', 'autumn.yaml:4:7: versions.access.0.version: it is missing'],
    ['set: a\nversions:\n  access:\n    version: 4.3.0', 'autumn.yaml:4:5: versions.access: it is a list'],
    [
      'set: a\nversions:\n  access: [{ version: 4, acceptUnreleased: perhaps }]',
      'autumn.yaml:3:44: versions.access.0.acceptUnreleased: it is one of yes, no, true, false, not "perhaps"',
    ],
    ['set: a\nversions:\n  access: 4.3.0\n  access: 4.2.0', 'autumn.yaml:4:3: Map keys must be unique'],
  ])('tells where it cannot be taken: %j', (text, fault) => {
    expect(faultsOf(text)).toContain(fault);
  });
});
