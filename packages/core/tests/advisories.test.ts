import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  AdvisoryReader,
  AdvisoryUnreadable,
  inAdvisoryRange,
  mappingKey,
  proposeMapping,
  RangeUnreadable,
  readAdvisory,
  VersionUnreadable,
  type ProductMapping,
  type VersionScheme,
} from '@barrow/core';
import { libraryAdvisories } from '@barrow/standins';

const scheme: VersionScheme = {
  patterns: ['(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)'],
  order: ['a', 'b', 'c'].map((part) => ({ part, absent: 'first' })),
  write: '{a}.{b}.{c}',
};
const text = (id: string) => libraryAdvisories().find((a) => a.file.startsWith(id))!.text;

describe('an advisory', () => {
  it('is read with its products, statuses, scores and remedies', () => {
    const found = readAdvisory(text('tbk'));
    expect(found).toMatchObject({ id: 'TBK-2026-004', publisher: 'Tarnbrook', severity: 'High', edition: '1' });
    expect(found.products.map((p) => [p.vendor, p.product, p.version, p.versionIsRange])).toContainEqual([
      'Tarnbrook',
      'TB-3608 stack switches',
      '6.1.2',
      false,
    ]);
    expect(Object.values(found.vulnerabilities[0]!.status).sort()).toEqual([
      'affected',
      'affected',
      'fixed',
      'fixed',
      'under-investigation',
    ]);
    expect(found.vulnerabilities[0]!.remedies[0]!.category).toBe('vendor_fix');
  });

  it('that names a product which it does not define clears nobody; what is no advisory is refused', () => {
    const broken = text('tbk').replace('"known_affected": [', '"known_affected": [ "P-99",');
    expect(readAdvisory(broken).fails).toEqual([expect.stringMatching(/^§6\.1\.1, .*P-99 are named and not defined/)]);
    expect(() => readAdvisory(`${'['.repeat(3000)}${']'.repeat(3000)}`)).toThrow(/3000 levels deep, 100 is the most/);
    expect(() => readAdvisory(text('tbk').replace('Tarnbrook', 'Tarn\\u0000brook'))).toThrow(/NUL/);
    fc.assert(
      fc.property(fc.oneof(fc.string(), fc.json()), (any) => {
        expect(() => readAdvisory(any)).toThrow(AdvisoryUnreadable);
      }),
    );
  });

  it('whose branches never end is refused', () => {
    let branch: object = { category: 'product_version', name: '1', product: { product_id: 'P', name: 'p' } };
    for (let i = 0; i < 31; i++) branch = { category: 'product_family', name: `f${i}`, branches: [branch] };
    const whole = JSON.parse(text('tbk')) as { product_tree: { branches: object[] } };
    whole.product_tree.branches.push(branch);
    expect(() => readAdvisory(JSON.stringify(whole))).toThrow(/nested too deep/);
  });
});

describe('a range of an advisory', () => {
  it.each([
    ['vers:generic/>=4.0.0|<4.3.0', ['4.0.0', '4.2.9'], ['3.9.9', '4.3.0']],
    ['vers:generic/1.0.0|>=2.0.0|<3.0.0|>=5.0.0', ['1.0.0', '2.5.0', '5.0.0', '9.0.0'], ['1.0.1', '3.0.0', '4.9.9']],
    ['vers:generic/>=1.0.0|<3.0.0|!=2.0.0', ['1.0.0', '2.9.0'], ['2.0.0', '3.0.0']],
    ['vers:generic/*', ['0.0.1', '99.0.0'], []],
    ['vers:generic/!=2.0.0', ['1.0.0'], ['2.0.0']],
    ['<5.2.0', ['5.1.9'], ['5.2.0']],
    ['>=4.0.0 <4.3.0', ['4.1.0'], ['4.3.0']],
    ['>= 4.0.0, < 4.3.0', ['4.1.0'], ['3.0.0']],
    ['4.2.1', ['4.2.1'], ['4.2.2']],
  ])('%s', (range, inside, outside) => {
    for (const v of inside) expect(inAdvisoryRange(scheme, range, v), v).toBe(true);
    for (const v of outside) expect(inAdvisoryRange(scheme, range, v), v).toBe(false);
  });
  it.each(['all versions before 4.3', '4.2.1 and older', ''])('in words is never guessed at: %s', (range) =>
    expect(() => inAdvisoryRange(scheme, range, '4.0.0')).toThrow(RangeUnreadable),
  );
  it('with a version of another spelling is told as unreadable', () =>
    expect(() => inAdvisoryRange(scheme, '<R7', '4.0.0')).toThrow(VersionUnreadable));
});

describe('a device against an advisory', () => {
  const schemes = new Map([['f', { versions: scheme }]]);
  const reader = (mapping: Partial<ProductMapping>, id = 'owp') => {
    const advisory = readAdvisory(text(id));
    const { vendor, product } = advisory.products[0]!;
    const full = { vendor: vendor!, product, family: 'f', models: [], ...mapping };
    return new AdvisoryReader(advisory, new Map([[mappingKey(vendor, product), full]]), schemes);
  };
  const device = { family: 'f', model: 'OC-400', firmware: '2.11.3' };
  it.each([
    [{}, device, 'exposed'],
    [{}, { ...device, firmware: '2.12.0' }, 'fixed'],
    [{}, { ...device, firmware: '2.8.0' }, 'not-affected'],
    [{}, { ...device, firmware: null }, 'unknown'],
    [{}, { ...device, firmware: 'beta' }, 'unknown'],
    [{ models: ['OC-400'] }, device, 'exposed'],
    [{ models: ['OC-200'] }, device, undefined],
    [{ family: null }, device, undefined],
    [{}, { ...device, family: 'g' }, undefined],
    [{}, { ...device, family: null }, undefined],
  ])('mapped by %j, %j is %s', (mapping, asked, exposure) => expect(reader(mapping).of(asked)?.exposure).toBe(exposure));

  it('is cleared by no document that fails a mandatory test, and exposed all the same', () => {
    const whole = readAdvisory(text('owp'));
    const { vendor, product } = whole.products[0]!;
    const mapping = new Map([[mappingKey(vendor, product), { vendor: vendor!, product, family: 'f', models: [] }]]);
    const faulty = new AdvisoryReader({ ...whole, fails: ['§6.1.6, at /x: y'] }, mapping, schemes);
    expect(faulty.of({ ...device, firmware: '2.12.0' })).toMatchObject({ exposure: 'unknown', reason: expect.stringContaining('§6.1.6') });
    expect(faulty.of({ ...device, firmware: '2.8.0' })?.exposure).toBe('unknown');
    expect(faulty.of(device)?.exposure).toBe('exposed');
  });

  it('is proposed a family by maker and model, and none by guess', () => {
    const families = [
      { family: 'cam', title: 'Owlpane cameras', maker: 'Owlpane', models: [{ model: 'OC-400' }, { model: 'OC-200' }] },
      { family: 'rec', title: 'Owlpane recorders', maker: 'Owlpane', models: [{ model: 'OR-16' }] },
    ];
    expect(proposeMapping(families, 'Owlpane', 'OC-400 outdoor')).toMatchObject({ family: 'cam', models: ['OC-400'] });
    expect(proposeMapping(families, 'Owlpane', 'Recorders')).toMatchObject({ family: 'rec', models: [] });
    expect(proposeMapping(families, 'Owlpane', 'viewing program')).toBeNull();
    expect(proposeMapping(families, 'Tollard', 'OC-400')).toBeNull();
    expect(proposeMapping(families, null, 'Owlpane OC-200')).toMatchObject({ family: 'cam', models: ['OC-200'] });
  });
});
