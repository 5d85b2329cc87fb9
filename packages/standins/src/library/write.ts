import { mkdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { createGzip } from 'node:zlib';
import { pipeline } from 'node:stream/promises';
import { createWriteStream } from 'node:fs';
import tar from 'tar-stream';
import yazl from 'yazl';
import { makeImage, payloadOf, sha256, type ImageEffects } from '../image.js';
import { fitImage, ubootImage } from './formats.js';
import { libraryAdvisories } from './advisories.js';
import { libraryArchives, libraryImages, libraryTitles, majorRelease, type LibraryImage } from './recipes.js';

/** When everything in the demo's archives was made, so that the same recipe gives the same bytes. */
const madeAt = new Date('2026-10-01T08:00:00Z');

export interface Library {
  /** What can be added as it is: files with their notes beside them, and archives. */
  readonly add: readonly string[];
  /** A release whose checksum file is wrong: image and checksum file. */
  readonly wrongDigest: { readonly file: string; readonly checksums: string };
  /** A release that resets what it finds, with its note; nobody has added it yet. */
  readonly major: readonly string[];
  readonly advisories: readonly string[];
}

function bytesOf(image: LibraryImage, file: string): Buffer {
  const { models, hardwareRevisions, variant, version, component } = image.note;
  const recipe = {
    ...{ maker: image.maker, models, hardwareRevisions, variant, version, component, part: file, payloadBytes: image.bytes },
    ...effectsOf(image.note),
  };
  if (image.format === 'simg') return makeImage(recipe);
  return (image.format === 'uboot' ? ubootImage : fitImage)(libraryTitles[file]!, payloadOf(recipe));
}

/** What a note says that the image does to a device: so it does. */
function effectsOf({ resets = [], drops = [] }: LibraryImage['note']): { effects?: ImageEffects } {
  const effects = {
    resets: resets.map(({ what, from }) => ({ what, ...(from?.below === undefined ? {} : { below: from.below }) })),
    removes: drops.flatMap((d) => d.services ?? []),
  };
  return effects.resets.length + effects.removes.length > 0 ? { effects } : {};
}

/** The files of a release and its note. */
export function releaseFiles(image: LibraryImage): { name: string; bytes: Buffer }[] {
  const files = image.files.map((name) => ({ name, bytes: bytesOf(image, name) }));
  const note = {
    imageNote: 1,
    ...image.note,
    files: files.map(({ name, bytes }) => ({ file: name, sha256: sha256(bytes), bytes: bytes.length })),
  };
  return [...files, { name: `${image.files[0]!}.note.json`, bytes: Buffer.from(`${JSON.stringify(note, null, 2)}\n`) }];
}

/** Writes the library of the demo to a folder: images with notes, archives, one wrong checksum file, and advisories. */
export async function writeScenarioLibrary(folder: string): Promise<Library> {
  const put = (name: string, bytes: Buffer | string): string => {
    const path = join(folder, name);
    mkdirSync(dirname(path), { recursive: true });
    writeFileSync(path, bytes);
    return path;
  };
  const byFile = new Map(libraryImages.map((i) => [i.files[0]!, i]));
  const packed = new Set(libraryArchives.flatMap((a) => a.images));
  const add: string[] = [];
  for (const image of libraryImages)
    if (!packed.has(image.files[0]!)) for (const { name, bytes } of releaseFiles(image)) add.push(put(name, bytes));
  for (const { archive, images } of libraryArchives) {
    const members = images.flatMap((name) => releaseFiles(byFile.get(name)!));
    const sums = members.map((m) => `${sha256(m.bytes)}  ${m.name}\n`).join('');
    const all = [
      ...members,
      { name: 'SHA256SUMS', bytes: Buffer.from(sums) },
      { name: 'README.txt', bytes: Buffer.from('Read the notes.\n') },
    ];
    mkdirSync(folder, { recursive: true });
    const path = join(folder, archive);
    if (archive.endsWith('.zip')) await writeZip(path, all);
    else await writeTarGz(path, all);
    add.push(path);
  }
  const phone = byFile.get('d40-3.0.2.simg')!;
  const bad = bytesOf({ ...phone, note: { ...phone.note, version: '3.0.3' } }, 'd40-3.0.3.simg');
  return {
    add,
    wrongDigest: {
      file: put('wrong-digest/d40-3.0.3.simg', bad),
      checksums: put('wrong-digest/SHA256SUMS', `${sha256(Buffer.from('another file'))}  d40-3.0.3.simg\n`),
    },
    major: releaseFiles(majorRelease).map(({ name, bytes }) => put(`major/${name}`, bytes)),
    advisories: libraryAdvisories().map(({ file, text }) => put(`advisories/${file}`, text)),
  };
}

async function writeZip(path: string, members: readonly { name: string; bytes: Buffer }[]): Promise<void> {
  const zip = new yazl.ZipFile();
  for (const { name, bytes } of members) zip.addBuffer(bytes, name, { mtime: madeAt, mode: 0o100644 });
  zip.end();
  await pipeline(zip.outputStream, createWriteStream(path));
}

async function writeTarGz(path: string, members: readonly { name: string; bytes: Buffer }[]): Promise<void> {
  const pack = tar.pack();
  for (const { name, bytes } of members) pack.entry({ name: `tollard/${name}`, mtime: madeAt }, bytes);
  pack.finalize();
  await pipeline(pack, createGzip(), createWriteStream(path));
}
