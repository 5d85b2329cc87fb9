import { readSync } from 'node:fs';
import { open } from 'node:fs/promises';
import {
  describeDisagreement,
  disagreements,
  ImageHeaderError,
  imageNoteSchema,
  rankFamilies,
  rankImage,
  readFileHeader,
  readVersion,
  sayingsOfHeader,
  sayingsOfName,
  startLength,
  VersionUnreadable,
  whatItRatherIs,
  type Channel,
  type DigestName,
  type FileHeader,
  type HeaderPart,
  type ImageNote,
  type ReadAt,
  type Saying,
  type VersionScheme,
} from '@barrow/core';
import { versionsOf, type Family } from '@barrow/families';
import { Refusal } from '../errors.js';
import { crcOfFile, digestOfFile } from './digest.js';
import { pathImageOf } from './rows.js';
import type { Member } from './unpack.js';

/** What the person who adds files says of them; a contradiction with the files themselves is refused. */
export interface Claims {
  readonly family: string | null;
  readonly model: string | null;
  readonly hardwareRevision: string | null;
  readonly variant: string | null;
  readonly version: string | null;
  readonly channel: Channel | null;
}
export const noClaims: Claims = { family: null, model: null, hardwareRevision: null, variant: null, version: null, channel: null };

/** Files that make one release, with everything that is known of it. */
export interface Release {
  readonly files: readonly Member[];
  readonly family: Family;
  readonly note: ImageNote;
}

/** What stands at the start of a file. */
export interface Start {
  readonly header: FileHeader | null;
  readonly ratherIs: string | null;
}

export const refuseImage = (code: string, detail: string, next: string): Refusal =>
  new Refusal(422, code, 'The image is refused', detail, next);
const damaged = 'The file was damaged on its way. Fetch it again from its source.';

/** Reads what a file says of itself, and whether its content is what its header tells. @throws Refusal */
export async function readStart(member: Member): Promise<Start> {
  const { file, path, bytes } = member;
  if (bytes === 0) throw refuseImage('image-empty', `${file}: the file is empty.`, 'Fetch it again from its source.');
  const start = Buffer.alloc(Math.min(bytes, startLength));
  const handle = await open(path);
  let header: FileHeader | null;
  try {
    await handle.read(start, 0, start.length, 0);
    header = readFileHeader(start, readsOf(handle.fd));
  } catch (error) {
    if (!(error instanceof ImageHeaderError)) throw error;
    throw refuseImage(
      error.code,
      `${file}: ${error.message}.`,
      'Check that this is the image itself and not an archive or a page that holds it.',
    );
  } finally {
    await handle.close();
  }
  // An archive that the device takes whole is an archive.
  return { header, ratherIs: header || member.asIs ? null : whatItRatherIs(start) };
}

/** Reads single octets of a file, a page of it at a time. */
function readsOf(fd: number): ReadAt {
  const page = Buffer.alloc(64 * 1024);
  let from = 0;
  let length = 0;
  return (at, wanted) => {
    if (at < from || at + wanted > from + length) {
      from = at;
      length = readSync(fd, page, 0, page.length, at);
    }
    return page.subarray(at - from, Math.min(at - from + wanted, length));
  };
}

async function checkContent({ file, path, bytes, content: taken }: Member, header: FileHeader): Promise<void> {
  const { content, totalBytes } = header;
  const exact = header.format === 'simg';
  if (bytes < totalBytes || (exact && bytes !== totalBytes))
    throw refuseImage(
      'image-truncated',
      content
        ? `${file}: its header tells of ${content.bytes} octets, it has ${bytes - content.offset}.`
        : `${file}: its header tells of ${totalBytes} octets, it has ${bytes}.`,
      damaged,
    );
  for (const part of header.parts ?? []) await checkPart({ file, path }, part);
  if (!content) return;
  if (content.sha256 !== null) {
    const digest = taken?.offset === content.offset ? taken.sha256 : await digestOfFile(path, { from: content.offset });
    if (digest !== content.sha256)
      throw refuseImage('image-damaged', `${file}: its header tells SHA-256 ${content.sha256}, the content has ${digest}.`, damaged);
  }
  if (content.crc32 !== null) {
    const crc = await crcOfFile(path, content.offset, content.bytes);
    if (crc !== content.crc32)
      throw refuseImage(
        'image-damaged',
        `${file}: its header tells CRC-32 ${content.crc32.toString(16)}, the content has ${crc.toString(16)}.`,
        damaged,
      );
  }
}

const hashWords: Readonly<Record<string, DigestName | 'crc32'>> = {
  crc32: 'crc32',
  md5: 'md5',
  sha1: 'sha1',
  sha256: 'sha256',
  sha512: 'sha512',
};

/** Compares a part of the file with every hash that the file tells of it, and that can be computed. @throws Refusal */
async function checkPart({ file, path }: Pick<Member, 'file' | 'path'>, { name, offset, bytes, hashes }: HeaderPart): Promise<void> {
  for (const { algorithm, value } of hashes) {
    const kind = hashWords[algorithm];
    if (!kind) continue;
    const is =
      kind === 'crc32'
        ? (await crcOfFile(path, offset, bytes)).toString(16).padStart(8, '0')
        : await digestOfFile(path, { from: offset, bytes, kind });
    if (is !== value)
      throw refuseImage('image-damaged', `${file}: of its part ${name} it tells the ${algorithm} ${value}, the part has ${is}.`, damaged);
  }
}

const canRead = (scheme: VersionScheme, text: string): boolean => {
  try {
    readVersion(scheme, text);
    return true;
  } catch (error) {
    if (error instanceof VersionUnreadable) return false;
    throw error;
  }
};

const sayingOfNote = (note: ImageNote): Saying => ({
  source: 'note',
  family: note.family,
  models: note.models,
  hardwareRevisions: note.hardwareRevisions,
  variant: note.variant,
  version: note.version,
  component: note.component,
});
const sayingOfClaims = (claims: Claims): Saying => ({
  source: 'you',
  family: claims.family,
  models: claims.model === null ? null : [claims.model],
  hardwareRevisions: claims.hardwareRevision === null ? null : [claims.hardwareRevision],
  variant: claims.variant,
  version: claims.version,
  component: null,
});

/**
 * Finds out what the files of one release are, from their names, their headers, the note and the person's word, and
 * stops where these disagree. @throws Refusal
 */
export async function examine(
  families: ReadonlyMap<string, Family>,
  files: readonly Member[],
  given: ImageNote | null,
  claims: Claims,
): Promise<Release> {
  const label = files.map((f) => f.file).join(', ');
  const told: Saying[][] = [];
  const headers = new Map<Member, FileHeader | null>();
  for (const member of files) {
    const { header, ratherIs } = await readStart(member);
    headers.set(member, header);
    const byName = sayingsOfName(families.values(), member.file);
    const byHeader = header ? sayingsOfHeader(families.values(), header) : [];
    if (header && header.models !== null && byHeader.length === 0)
      throw refuseImage(
        'image-for-unknown-model',
        `${member.file} is for ${header.maker} ${header.models.join(', ')}; no family here has such a model.`,
        'Check that it is the right file; `barrow family list` shows the models that Barrow knows.',
      );
    const named = [...byName.map((s) => s.family), claims.family].filter((f): f is string => f !== null);
    if (!header && named.every((f) => families.get(f)?.images?.header !== 'none') && (given === null || ratherIs !== null))
      throw refuseImage(
        'image-foreign',
        `${member.file}: ${ratherIs === null ? 'the file does not begin with a header that Barrow can read' : `the file is ${ratherIs}, and no image`}.`,
        'Check that this is the image itself and not an archive or a page that holds it.',
      );
    told.push(byName, byHeader);
  }
  if (given) told.push([sayingOfNote(given)]);
  told.push([sayingOfClaims(claims)]);

  const family = chooseFamily(families, told, label);
  const sayings = told.flatMap((group) => {
    if (group.length === 0) return [];
    // Of a name or header that several families claim, only what it says for the chosen one counts.
    const own = group.find((s) => s.family === family.family);
    return own ? [own] : [group[0]!];
  });
  const said = <T>(read: (s: Saying) => T | null): T | null => {
    for (const source of ['note', 'header', 'name', 'you'] as const)
      for (const s of sayings) if (s.source === source && read(s) !== null) return read(s);
    return null;
  };
  const component = (said((s) => s.component) ?? 'system') as ImageNote['component'];
  const scheme = versionsOf(family, component);
  const found = disagreements(sayings, scheme);
  if (found.length > 0)
    throw refuseImage(
      'image-contradiction',
      `${label}: ${found.map(describeDisagreement).join('; ')}.`,
      'Find out which is right: take the file for the hardware you have, give it its true name, or mend the note.',
    );
  const format = family.images?.header;
  for (const member of files) {
    const header = headers.get(member) ?? null;
    if (format !== undefined && format !== (header?.format ?? 'none'))
      throw refuseImage(
        'image-foreign',
        `${member.file}: the files of ${family.title} begin with a header of the format ${format}, this one ${header ? `is ${header.format}` : 'does not begin with a header that Barrow can read'}.`,
        'Check that this is the image itself and not an archive or a page that holds it.',
      );
    if (header) await checkContent(member, header);
  }
  return { files, family, note: makeNote(family, files, given, claims, sayings, component, said, label) };
}

function chooseFamily(families: ReadonlyMap<string, Family>, told: readonly Saying[][], label: string): Family {
  const named = told.filter((group) => group.some((s) => s.family !== null));
  for (const group of named)
    for (const s of group)
      if (s.family !== null && !families.has(s.family))
        throw refuseImage(
          'family-unknown',
          `${label}: the family ${s.family} is not known here.`,
          `The families are ${[...families.keys()].join(', ')}.`,
        );
  const all = [...new Set(named.flatMap((group) => group.map((s) => s.family!)))];
  if (all.length === 0)
    throw refuseImage(
      'image-scope-unknown',
      `${label}: neither its name nor a header tells which family it is for.`,
      'Say it: `--family`, `--model`, `--revision` and `--version`, or put a note beside it.',
    );
  // Lines of one maker may share models; then the spelling of the version tells them apart.
  const everywhere = all.filter((f) => named.every((group) => group.some((s) => s.family === f)));
  const pool = everywhere.length > 0 ? everywhere : all;
  if (pool.length === 1 || everywhere.length === 0) return families.get(pool[0]!)!;
  const readable = pool.filter((name) => {
    const family = families.get(name)!;
    return told
      .flat()
      .filter((s) => s.version !== null && (s.family === null || s.family === name))
      .every((s) => canRead(versionsOf(family, s.component ?? 'system'), s.version!));
  });
  if (readable.length === 1) return families.get(readable[0]!)!;
  throw refuseImage(
    'family-ambiguous',
    `${label} may be for ${(readable.length > 0 ? readable : pool).join(' or ')}.`,
    'Say which: `--family`.',
  );
}

function makeNote(
  family: Family,
  files: readonly Member[],
  given: ImageNote | null,
  claims: Claims,
  sayings: readonly Saying[],
  component: ImageNote['component'],
  said: <T>(read: (s: Saying) => T | null) => T | null,
  label: string,
): ImageNote {
  /** The narrowest list that anybody but the person gives; the person's word only where nobody else has one. */
  const narrowest = (read: (s: Saying) => readonly string[] | null): string[] | null => {
    const lists = sayings.flatMap((s) => (s.source === 'you' ? [] : (read(s) ?? null) === null ? [] : [read(s)!]));
    const best = lists.length > 0 ? lists.reduce((a, b) => (b.length < a.length ? b : a)) : said(read);
    return best ? [...best] : null;
  };
  const models = narrowest((s) => s.models);
  const hardwareRevisions = narrowest((s) => s.hardwareRevisions);
  const versionText = said((s) => s.version);
  const unsaid = [
    models === null ? 'model' : null,
    hardwareRevisions === null ? 'hardware revision' : null,
    versionText === null ? 'version' : null,
  ].filter((u) => u !== null);
  if (models === null || hardwareRevisions === null || versionText === null)
    throw refuseImage(
      'image-scope-unknown',
      `${label}: nothing tells its ${unsaid.join(' and ')}.`,
      'Say it: `--model`, `--revision`, `--version`, or put a note beside it.',
    );
  const strange = models.filter((m) => !family.models.some((known) => known.model === m));
  if (strange.length === models.length)
    throw refuseImage(
      'image-for-unknown-model',
      `${label} is for ${models.join(', ')}; ${family.title} are ${[...new Set(family.models.map((m) => m.model))].join(', ')}.`,
      'Check that it is the right file; `barrow family list` shows the models that Barrow knows.',
    );
  let version: string;
  try {
    version = readVersion(versionsOf(family, component), versionText).canonical;
  } catch (error) {
    if (!(error instanceof VersionUnreadable)) throw error;
    throw refuseImage('version-unreadable', `${label}: ${error.message}.`, 'Check the version that you gave, or the family file.');
  }
  if (claims.channel !== null && given !== null && given.channel !== claims.channel)
    throw refuseImage(
      'image-contradiction',
      `${label}: channel: the note beside it says ${given.channel}, you say ${claims.channel}.`,
      'Find out which is right, and mend the note.',
    );
  return imageNoteSchema.parse({
    ...(given ?? {}),
    imageNote: 1,
    family: family.family,
    version,
    component,
    channel: claims.channel ?? given?.channel ?? 'release',
    models,
    hardwareRevisions,
    variant: said((s) => s.variant) ?? '',
    files: files.map(({ file, sha256, bytes }) => ({ file, sha256, bytes })),
  });
}

/** Refuses a note that names versions which the families cannot read. @throws Refusal */
export function checkVersionsOf(families: ReadonlyMap<string, Family>, note: ImageNote, label: string): void {
  const image = pathImageOf({ sha256: '0'.repeat(64), file: label, bytes: 1, note });
  const ranked = rankImage(rankFamilies(families, [image]), image);
  if ('why' in ranked)
    throw refuseImage('note-unreadable', `${label}: ${ranked.why}.`, 'Mend the note; docs/images.md tells what stands in it.');
}
