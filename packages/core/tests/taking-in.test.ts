import { createHash } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  checksumsFor,
  ChecksumsUnreadable,
  describeRange,
  digestKind,
  disagreements,
  groupFiles,
  ImageHeaderError,
  imageNoteSchema,
  inRange,
  isChecksumName,
  NoteUnreadable,
  readChecksums,
  readFileHeader,
  readNote,
  sayingsOfName,
  whatItRatherIs,
  type HeaderPart,
  type NamingFamily,
  type Saying,
  type VersionScheme,
} from '@barrow/core';
import { fitImage, ubootImage } from '@barrow/standins';

const scheme: VersionScheme = {
  patterns: ['[Vv]?(?P<a>\\d+)[.-](?P<b>\\d+)'],
  order: ['a', 'b'].map((part) => ({ part, absent: 'first' })),
  write: '{a}.{b}',
};

describe('headers of open formats', () => {
  const data = Buffer.from('some firmware, and more of it');
  it('are read as the stand-ins wrote them', () => {
    expect(readFileHeader(ubootImage('SP-8 rev 4 1.13', data))).toMatchObject({
      format: 'uboot',
      title: 'SP-8 rev 4 1.13',
      totalBytes: 64 + data.length,
      content: { offset: 64, bytes: data.length },
    });
    expect(readFileHeader(fitImage('SC-16 rev 2 firmware 4.0.3', data))).toMatchObject({
      format: 'fit',
      title: 'SC-16 rev 2 firmware 4.0.3',
    });
  });

  it('of a tree tell where each part lies, and the hash that the tree has of it', () => {
    const whole = fitImage('a tree', data);
    const { parts, totalBytes } = readFileHeader(whole)!;
    expect(parts).toEqual([
      {
        name: 'firmware-1',
        offset: whole.length - data.length,
        bytes: data.length,
        hashes: [{ algorithm: 'sha256', value: createHash('sha256').update(data).digest('hex') }],
      },
    ]);
    expect(totalBytes).toBe(whole.length);
  });

  it('of a tree that holds its data itself are read beyond the start, and only where they must be', () => {
    const large = Buffer.alloc(3_000_000, 7);
    const whole = fitImage('a large tree', large, 'inside');
    const start = whole.subarray(0, 65_536);
    let read = 0;
    const readOn = (at: number, length: number) => {
      read += length;
      return whole.subarray(at, at + length);
    };
    const { title, parts, totalBytes } = readFileHeader(start, readOn)!;
    expect({ title, totalBytes }).toEqual({ title: 'a large tree', totalBytes: whole.length });
    expect(parts).toMatchObject([{ name: 'firmware-1', bytes: large.length }]);
    const [{ offset, hashes }] = parts as [HeaderPart];
    expect(whole.subarray(offset, offset + large.length).equals(large)).toBe(true);
    expect(hashes).toEqual([{ algorithm: 'sha256', value: createHash('sha256').update(large).digest('hex') }]);
    expect(read).toBeLessThan(100_000);
    expect(() => readFileHeader(start)).toThrow(/its tree is larger than the 65536 octets that were read/);
    // What was cut off is told, not made up.
    expect(() => readFileHeader(start, (at, length) => whole.subarray(at, Math.min(at + length, 2_000_000)))).toThrow(ImageHeaderError);
  });

  it('are never misread: one changed octet of a U-Boot header is always seen', () => {
    const whole = ubootImage('SP-8 rev 4 1.13', data);
    fc.assert(
      fc.property(fc.integer({ min: 4, max: 63 }), fc.integer({ min: 1, max: 255 }), (at, by) => {
        const changed = Buffer.from(whole);
        changed[at] = changed[at]! ^ by;
        expect(() => readFileHeader(changed)).toThrow(ImageHeaderError);
      }),
    );
  });

  it.each([
    ['uboot', Buffer.from([0x27, 0x05, 0x19, 0x56])],
    ['fit', Buffer.from([0xd0, 0x0d, 0xfe, 0xed])],
    ['simg', Buffer.from('SIMG1\n')],
    ['none', Buffer.alloc(0)],
  ])('fail in one way only, whatever follows the mark of %s', (_, mark) => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 400 }), (rest) => {
        try {
          readFileHeader(Buffer.concat([mark, rest]));
        } catch (error) {
          expect(error).toBeInstanceOf(ImageHeaderError);
        }
      }),
      { numRuns: 400 },
    );
  });

  it.each(['behind', 'inside'] as const)('of a tree with changed words fail in one way only, and end; its data %s', (where) => {
    const whole = fitImage('a tree', data, where);
    fc.assert(
      fc.property(fc.integer({ min: 0, max: whole.length - 4 }), fc.nat(0xffffffff), (at, word) => {
        const changed = Buffer.from(whole);
        changed.writeUInt32BE(word, at);
        try {
          readFileHeader(changed, (from, length) => changed.subarray(from, from + length));
        } catch (error) {
          expect(error).toBeInstanceOf(ImageHeaderError);
        }
      }),
      { numRuns: 1000 },
    );
  });

  it.each([
    ['a zip archive', 'PK\u0003\u0004'],
    ['a web page', '  <!DOCTYPE html>'],
    ['a PDF document', '%PDF-1.4'],
    ['a program', '\u007fELF'],
  ])('know %s when they see one', (what, start) => expect(whatItRatherIs(Buffer.from(start, 'latin1'))).toBe(what));
});

describe('what a file is said to be', () => {
  const family = (name: string, names: NonNullable<NamingFamily['images']>['names']): NamingFamily => ({
    family: name,
    maker: 'm',
    models: [{ model: 'M' }],
    versions: scheme,
    images: { header: 'none', names, titles: [] },
  });
  it('is read from its name by the patterns of each family', () => {
    const families = [
      family('a', [{ pattern: '^m(?P<hardwareRevision>[AB])-(?P<version>.+)\\.bin$', models: ['M'] }]),
      family('b', [{ pattern: '^n.*$' }]),
    ];
    expect(sayingsOfName(families, 'mB-1.2.bin')).toEqual([
      { source: 'name', family: 'a', models: ['M'], hardwareRevisions: ['B'], variant: null, version: '1.2', component: null },
    ]);
    expect(sayingsOfName(families, 'x')).toEqual([]);
  });
  it('agrees where a narrower word lies within a wider one, and versions are spellings of one', () => {
    const saying = (source: Saying['source'], over: Partial<Saying>): Saying => ({
      source,
      family: null,
      models: null,
      hardwareRevisions: null,
      variant: null,
      version: null,
      component: null,
      ...over,
    });
    const wide = saying('header', { models: ['M', 'N'], version: 'V1.02', variant: '' });
    expect(disagreements([wide, saying('you', { models: ['N'], version: '1-2' })], scheme)).toEqual([]);
    const found = disagreements([wide, saying('name', { models: ['O'], version: '1.3' }), saying('you', { variant: 'rugged' })], scheme);
    expect(found.map((d) => d.field)).toEqual(['model', 'variant', 'version']);
    expect(found[1]!.said).toEqual([
      { source: 'header', value: 'plain' },
      { source: 'you', value: 'rugged' },
    ]);
  });
});

describe('notes and checksum files', () => {
  it('that are none fail in one way only', () => {
    fc.assert(
      fc.property(fc.oneof(fc.string(), fc.json()), (text) => {
        try {
          readNote(text);
        } catch (error) {
          expect(error).toBeInstanceOf(NoteUnreadable);
        }
        try {
          readChecksums(text);
        } catch (error) {
          expect(error).toBeInstanceOf(ChecksumsUnreadable);
        }
      }),
    );
  });
  it('in the usual form are read, with stars, folders and remarks', () => {
    const [a, b, c] = ['a'.repeat(64), 'B'.repeat(128), 'c'.repeat(32)];
    expect(readChecksums(`# made by hand\n\n${a}  one.bin\r\n${b} *dir/two.bin\n${c}  three.bin\n`)).toEqual([
      { file: 'one.bin', kind: 'sha256', digest: a },
      { file: 'two.bin', kind: 'sha512', digest: b!.toLowerCase() },
      { file: 'three.bin', kind: 'md5', digest: c },
    ]);
    expect(digestKind('d'.repeat(40))).toBe('sha1');
    expect(digestKind('d'.repeat(41))).toBeNull();
    expect(['SHA256SUMS', 'md5sums.txt', 'x.sha512', 'checksums.txt', 'firmware.bin', 'sha.bin'].map(isChecksumName)).toEqual([
      true,
      true,
      true,
      true,
      false,
      false,
    ]);
  });
  it('part files into releases', () => {
    const note = imageNoteSchema.parse({
      imageNote: 1,
      family: 'f',
      version: '1',
      models: ['M'],
      hardwareRevisions: ['1'],
      files: ['a.bin', 'b.bin'].map((file) => ({ file, sha256: '0'.repeat(64), bytes: 1 })),
    });
    const grouped = groupFiles(['c.bin', 'a.bin', 'b.bin', 'a.bin.note.json', 'd.bin', 'd.bin.note.json', 'SHA256SUMS'], (n) =>
      n.startsWith('a') ? note : null,
    );
    expect(grouped).toEqual({
      groups: [['a.bin', 'b.bin', 'a.bin.note.json'], ['d.bin', 'd.bin.note.json'], ['c.bin']],
      checksumFiles: ['SHA256SUMS'],
    });
    const sums = [
      { file: 'c.bin', kind: 'md5' as const, digest: 'ff' },
      { file: 'x', kind: 'md5' as const, digest: 'ee' },
    ];
    expect(checksumsFor(sums, new Set(['c.bin']))).toBe('ff  c.bin\n');
  });
});

describe('a range of versions', () => {
  it.each([
    [{ atLeast: '1.2', below: '2.0' }, ['1.2', 'V1.09', '1-99'], ['1.1', '2.0'], '1.2 or newer, older than 2.0'],
    [{ above: '1.2', upTo: '2.0' }, ['1.3', '2.0'], ['1.2', '2.1'], 'newer than 1.2, 2.0 or older'],
    [{ only: '1.2' }, ['01.02'], ['1.3'], 'exactly 1.2'],
  ])('%j', (range, inside, outside, words) => {
    for (const v of inside) expect(inRange(scheme, range, v), v).toBe(true);
    for (const v of outside) expect(inRange(scheme, range, v), v).toBe(false);
    expect(describeRange(range)).toBe(words);
  });
});
