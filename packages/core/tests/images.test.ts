import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  describeMismatches,
  ImageHeaderError,
  imageNoteSchema,
  knownHardware,
  mismatches,
  PathBook,
  readImageHeader,
  standingOf,
  type PathImage,
  type StandingInput,
  type Targeting,
  type VersionScheme,
} from '@barrow/core';

const header = {
  maker: 'Tarnbrook',
  models: ['TB-2408'],
  hardwareRevisions: ['A1'],
  variant: '',
  version: '4.3.0',
  payloadBytes: 3,
  payloadSha256: 'a'.repeat(64),
};

function file(json: unknown, length?: number): Uint8Array {
  const body = new TextEncoder().encode(typeof json === 'string' ? json : JSON.stringify(json));
  const all = new Uint8Array(10 + body.length + 3);
  all.set(new TextEncoder().encode('SIMG1\n'));
  new DataView(all.buffer).setUint32(6, length ?? body.length);
  all.set(body, 10);
  return all;
}

describe('the header of an image', () => {
  it('is read, with where the payload begins', () => {
    const { header: found, payloadOffset } = readImageHeader(file(header));
    expect(found).toEqual(header);
    expect(payloadOffset).toBe(10 + JSON.stringify(header).length);
  });

  it.each([
    ['another file', new TextEncoder().encode('<html>not found</html>'), 'image-foreign'],
    ['an end inside the header', file(header).subarray(0, 40), 'image-truncated'],
    ['a length that lies', file(header, 4_000_000_000), 'image-malformed'],
    ['a header that is no JSON', file('{"maker": '), 'image-malformed'],
    ['a header without models', file({ ...header, models: [] }), 'image-malformed'],
  ])('is refused for %s', (_, bytes, code) => {
    expect(() => readImageHeader(bytes)).toThrow(expect.objectContaining({ code }) as Error);
  });

  it('never fails in another way, whatever the bytes', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), fc.boolean(), (bytes, marked) => {
        const all = marked ? Uint8Array.from([...new TextEncoder().encode('SIMG1\n'), ...bytes]) : bytes;
        try {
          readImageHeader(all);
        } catch (error) {
          expect(error).toBeInstanceOf(ImageHeaderError);
        }
      }),
    );
  });
});

const note = imageNoteSchema.parse({ imageNote: 1, family: 'f', version: '4.3.0', models: ['TB-2408'], hardwareRevisions: ['A1'] });
const image: PathImage = {
  ...note,
  family: 'f',
  models: ['TB-2408', 'TB-2424'],
  hardwareRevisions: ['A1', 'A2'],
  variant: '',
  version: '4.3.0',
  sha256: 'a'.repeat(64),
  file: 'tb.simg',
  bytes: 10,
};
const hardware = { family: 'f', model: 'TB-2408', hardwareRevision: 'A1', variant: '' };

describe('an image and a device', () => {
  it('fit only when family, model, hardware revision and variant do', () => {
    expect(mismatches(image, hardware)).toEqual([]);
    const found = mismatches(image, { family: 'g', model: 'TB-9900', hardwareRevision: 'B1', variant: 'rugged' });
    expect(found.map((m) => m.field)).toEqual(['family', 'model', 'hardware revision', 'variant']);
    expect(describeMismatches(found)).toContain('hardware revision: image is for A1, A2, device is B1');
  });

  it('do not fit when the device does not tell what it is', () => {
    expect(mismatches(image, { ...hardware, hardwareRevision: null })).toEqual([
      { field: 'hardware revision', imageIsFor: 'A1, A2', deviceIs: 'not known' },
    ]);
  });
});

describe('the standing of a device', () => {
  const scheme: VersionScheme = {
    patterns: ['(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)'],
    order: ['a', 'b', 'c'].map((part) => ({ part, absent: 'first' })),
    write: '{a}.{b}.{c}',
  };
  const schemes = new Map([['f', { versions: scheme }]]);
  const book = (over: Partial<PathImage> = {}) => new PathBook(schemes, [{ ...image, ...over }]);
  const targeting: Targeting = { rule: null, pin: null, family: 'f', version: '4.3.0', acceptUnreleased: false, why: '', conflict: null };
  const base: StandingInput = { hardware, firmware: '4.2.1', bootLoader: null, partner: null, targeting, schemes, book: book() };

  it.each<[string, StandingInput, string, RegExp | null]>([
    ['behind', base, 'behind', null],
    ['at its target in another spelling', { ...base, firmware: '04.03.00' }, 'at-target', null],
    [
      'at its target, which was withdrawn',
      { ...base, firmware: '4.3.0', book: book({ withdrawn: { why: 'it burns' } }) },
      'at-target',
      /it burns/,
    ],
    ['ahead, and never quietly taken down', { ...base, firmware: '5.0.0' }, 'ahead', /newer than its target/],
    ['without a target', { ...base, targeting: null }, 'no-target', null],
    ['blocked without an image', { ...base, book: new PathBook(schemes, []) }, 'blocked', /the store has no image of 4\.3\.0/],
    ['blocked by two targets', { ...base, targeting: { ...targeting, conflict: 'two targets' } }, 'blocked', /two targets/],
    [
      'blocked by its hardware',
      { ...base, hardware: { ...hardware, hardwareRevision: 'B1' } },
      'blocked',
      /image is for A1, A2, device is B1/,
    ],
    [
      'blocked by a variant that it did not tell',
      { ...base, hardware: { ...hardware, variant: null } },
      'blocked',
      /variant: image is for plain, device is not known/,
    ],
    ['unknown without a version', { ...base, firmware: null }, 'unknown', /has not been read/],
    ['unknown with an unreadable version', { ...base, firmware: 'beta' }, 'unknown', /cannot read the version "beta"/],
    ['unknown without a family', { ...base, hardware: { ...hardware, family: null } }, 'unknown', /no family/],
  ])('is told when it is %s', (_, input, standing, reason) => {
    const found = standingOf(input);
    expect(found.standing).toBe(standing);
    if (reason) expect(found.reason).toMatch(reason);
    expect(found.path?.steps.length ?? 0).toBe(standing === 'behind' ? 1 : 0);
  });

  it('shows the way down only when it is asked for, and only by images that allow it', () => {
    const ahead = { ...base, firmware: '5.0.0' };
    expect(standingOf(ahead).path).toBeNull();
    expect(standingOf({ ...ahead, down: true })).toMatchObject({ standing: 'ahead', path: null });
    expect(standingOf({ ...ahead, down: true, book: book({ goingDown: 'allowed' }) }).path?.steps.length).toBe(1);
  });
});

describe('what follows from a model', () => {
  const models = [
    { model: 'A', variant: '', revisions: ['1'] },
    { model: 'A', variant: 'rugged', revisions: ['1'] },
    { model: 'B', variant: '', revisions: ['-'] },
  ];
  it('is its only variant, and no revision where it has none; a twin stays unknown', () => {
    const told = { family: 'f', hardwareRevision: null, variant: null };
    expect(knownHardware(models, { ...told, model: 'A' })).toMatchObject({ variant: null, hardwareRevision: null });
    expect(knownHardware(models, { ...told, model: 'A', variant: '' })).toMatchObject({ variant: '' });
    expect(knownHardware(models, { ...told, model: 'B' })).toMatchObject({ variant: '', hardwareRevision: '-' });
    expect(knownHardware(models, { ...told, model: 'C' })).toMatchObject({ variant: null, hardwareRevision: null });
  });
});
