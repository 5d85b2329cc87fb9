import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  describeMismatches,
  ImageHeaderError,
  mismatches,
  readImageHeader,
  standingOf,
  type KnownImage,
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

const image: KnownImage = {
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
  const base = { hardware, firmware: '4.2.1', target: '4.3.0', scheme, images: [image] };

  it.each([
    ['behind', base, 'behind', null],
    ['at its target in another spelling', { ...base, firmware: '04.03.00' }, 'at-target', null],
    ['ahead, and never quietly taken down', { ...base, firmware: '5.0.0' }, 'ahead', /newer than its target/],
    ['without a target', { ...base, target: null }, 'no-target', null],
    ['blocked without an image', { ...base, images: [] }, 'blocked', /the store has no image of 4\.3\.0/],
    [
      'blocked by its hardware',
      { ...base, hardware: { ...hardware, hardwareRevision: 'B1' } },
      'blocked',
      /image is for A1, A2, device is B1/,
    ],
    ['unknown without a version', { ...base, firmware: null }, 'unknown', /has not been read/],
    ['unknown with an unreadable version', { ...base, firmware: 'beta' }, 'unknown', /cannot read the version "beta"/],
  ] as const)('is told when it is %s', (_, input, standing, reason) => {
    const found = standingOf(input);
    expect(found.standing).toBe(standing);
    if (reason) expect(found.reason).toMatch(reason);
    expect(found.path.length).toBe(standing === 'behind' ? 1 : 0);
  });
});
