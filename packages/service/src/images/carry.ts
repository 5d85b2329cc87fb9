import { createReadStream } from 'node:fs';
import { createHash } from 'node:crypto';
import { readFile, rm } from 'node:fs/promises';
import { PassThrough, type Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import tar from 'tar-stream';
import { z } from 'zod';
import { describeScope, NoteUnreadable, readNote, targetInput, type Carried, type ImageNote } from '@barrow/core';
import { FamilyFileError, parseFamily, type Family } from '@barrow/families';
import type { Context } from '../context.js';
import { ImageEntity, TargetEntity, type ImageRow, type TargetRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { playAll, type Conversations } from '../devices/family-archive.js';
import type { FamilyFiles } from '../devices/family-files.js';
import { Refusal } from '../errors.js';
import { checkVersionsOf, examine, noClaims, type Release } from './examine.js';
import type { Intake } from './intake.js';
import { releaseDigest } from './rows.js';
import type { ImageStore } from './store.js';
import { archiveKind, unpack, type Member } from './unpack.js';

const manifestName = 'carry.json';
const targetShape = targetInput.omit({ device: true });
const manifestSchema = z.strictObject({
  carry: z.literal(1),
  madeAt: z.string(),
  /** Every other member of the archive with its digest. */
  members: z.array(z.strictObject({ member: z.string(), sha256: z.string(), bytes: z.number().int() })).max(5000),
  images: z.array(z.strictObject({ sha256: z.string(), note: z.string(), compared: z.enum(['strong', 'weak']).nullable().default(null) })),
  families: z.array(
    z.strictObject({
      family: z.string(),
      member: z.string(),
      /** What was said while it was taught. */
      conversations: z
        .array(z.strictObject({ procedure: z.string(), member: z.string() }))
        .max(100)
        .default([]),
    }),
  ),
  targets: z.array(targetShape),
});
type Manifest = z.infer<typeof manifestSchema>;

const refuse = (detail: string): Refusal =>
  new Refusal(422, 'carry-unfit', 'The archive is refused', detail, 'Make it again with `barrow image export`. Nothing of it was taken.');
const sha256Of = (text: string): string => createHash('sha256').update(text).digest('hex');

/** Takes images with their notes, families and targets to a place without a network, as one archive. */
export class Carrying {
  constructor(
    private readonly context: Context,
    private readonly store: ImageStore,
    private readonly intake: Intake,
    private readonly familyFiles: FamilyFiles,
  ) {}

  /** Writes the archive: a tar with the manifest first. Each content is in it once. @throws Refusal for rotten content */
  async export(images: readonly ImageRow[]): Promise<Readable> {
    for (const image of images)
      if (!(await this.store.isSound(image)))
        throw new Refusal(
          422,
          'image-missing',
          'Nothing was written',
          `The content of ${image.file} no longer has its digest.`,
          'Add it again from its source; that mends it.',
        );
    const families = [...new Set(images.map((i) => i.family))].filter((f) => this.context.familyTexts.has(f));
    const targets = (await this.context.db.find(TargetEntity)).filter((t) => t.device === null && families.includes(t.family));
    const said = await Promise.all(
      families.map(async (family) =>
        [...(await this.familyFiles.conversations(family))].map(([procedure, text]) => ({
          family,
          procedure,
          member: `${family}.${procedure}.conversation.yaml`,
          text,
        })),
      ),
    ).then((all) => all.flat());
    const texts: { member: string; text: string }[] = [
      ...images.map((i) => ({ member: `${i.sha256}.note.json`, text: JSON.stringify(i.note, null, 2) })),
      ...families.map((f) => ({ member: `${f}.family.yaml`, text: this.context.familyTexts.get(f)! })),
      ...said,
    ];
    const contents = new Map(images.flatMap((i) => i.files.map((f) => [f.sha256, f.bytes] as const)));
    const manifest: Manifest = {
      carry: 1,
      madeAt: new Date().toISOString(),
      members: [
        ...texts.map(({ member, text }) => ({ member, sha256: sha256Of(text), bytes: Buffer.byteLength(text) })),
        ...[...contents].map(([sha256, bytes]) => ({ member: sha256, sha256, bytes })),
      ],
      images: images.map((i) => ({ sha256: i.sha256, note: `${i.sha256}.note.json`, compared: i.compared })),
      families: families.map((family) => ({
        family,
        member: `${family}.family.yaml`,
        conversations: said.filter((s) => s.family === family).map(({ procedure, member }) => ({ procedure, member })),
      })),
      targets: targets.map(({ family, version, fromFamilies, model, hardwareRevision, site, tag, acceptUnreleased }) => ({
        family,
        version,
        fromFamilies,
        model,
        hardwareRevision,
        site,
        tag,
        acceptUnreleased,
      })),
    };
    const pack = tar.pack();
    const out = new PassThrough({ highWaterMark: 1 << 20 });
    const write = async (): Promise<void> => {
      pack.entry({ name: manifestName }, JSON.stringify(manifest, null, 2));
      for (const { member, text } of texts) pack.entry({ name: member }, text);
      for (const [sha256, size] of contents)
        await pipeline(createReadStream(this.store.pathOf(sha256), { highWaterMark: 1 << 18 }), pack.entry({ name: sha256, size }));
      pack.finalize();
    };
    pipeline(pack, out).catch(() => undefined);
    write().catch((error: Error) => out.destroy(error));
    return out;
  }

  /** Checks an archive as a whole, then takes what is in it. @throws Refusal; nothing is taken then */
  async import(body: Readable, dryRun: boolean, by: string): Promise<Carried> {
    const folder = this.intake.uploads.scratch();
    try {
      const source = await this.store.receive(body, 'the archive', folder);
      const kind = source.bytes === 0 ? null : await archiveKind(source.path);
      if (kind !== 'tar') throw refuse('It is not an archive that Barrow wrote.');
      const members = new Map((await unpack(kind, source, folder)).map((m) => [m.file, m]));
      const manifest = await readManifest(members);
      const families = await this.#families(manifest, members);
      const said = await this.#said(manifest, members, families);
      const releases = await this.#releases(manifest, members, families);
      return await this.#take(manifest, members, families, said, releases, dryRun, by);
    } finally {
      await rm(folder, { recursive: true, force: true });
    }
  }

  /** The families here and those that come along, which are read whole. @throws Refusal */
  async #families(manifest: Manifest, members: ReadonlyMap<string, Member>): Promise<Map<string, Family>> {
    const all = new Map(this.context.families);
    for (const { family, member } of manifest.families) {
      try {
        const read = parseFamily(await readFile(members.get(member)!.path, 'utf8'), member);
        if (read.family !== family) throw refuse(`${member} describes ${read.family}, the manifest says ${family}.`);
        if (!all.has(family)) all.set(family, read);
      } catch (error) {
        if (error instanceof FamilyFileError) throw refuse(error.message);
        throw error;
      }
    }
    return all;
  }

  /** What was said while the families were taught that are not known here, as it may be kept. @throws Refusal */
  async #said(
    manifest: Manifest,
    members: ReadonlyMap<string, Member>,
    families: ReadonlyMap<string, Family>,
  ): Promise<ReadonlyMap<string, Conversations>> {
    const said = new Map<string, Conversations>();
    for (const { family, conversations } of manifest.families) {
      if (this.context.familyTexts.has(family) || conversations.length === 0) continue;
      const texts = new Map<string, string>();
      for (const { procedure, member } of conversations) texts.set(procedure, await readFile(members.get(member)!.path, 'utf8'));
      said.set(family, (await playAll(families.get(family)!, texts)).clean);
    }
    return said;
  }

  async #releases(manifest: Manifest, members: ReadonlyMap<string, Member>, families: ReadonlyMap<string, Family>): Promise<Release[]> {
    const releases: Release[] = [];
    for (const { sha256, note: member } of manifest.images) {
      const found = members.get(member);
      if (!found) throw refuse(`${member} is not in it.`);
      const note = noteOf(await readFile(found.path, 'utf8'), member);
      const files = note.files.map((f): Member => {
        const found = members.get(f.sha256);
        if (!found) throw refuse(`${f.file} is not in it.`);
        return { ...found, file: f.file };
      });
      if (files.length === 0 || releaseDigest(files) !== sha256) throw refuse(`${member} is not the note of ${sha256.slice(0, 12)}….`);
      const release = await examine(families, files, note, noClaims);
      checkVersionsOf(families, release.note, member);
      releases.push(release);
    }
    return releases;
  }

  async #take(
    manifest: Manifest,
    members: ReadonlyMap<string, Member>,
    families: ReadonlyMap<string, Family>,
    said: ReadonlyMap<string, Conversations>,
    releases: readonly Release[],
    dryRun: boolean,
    by: string,
  ): Promise<Carried> {
    const here = new Set((await this.context.db.find(ImageEntity)).map((i) => i.sha256));
    const added = dryRun ? ('would be added' as const) : ('added' as const);
    const images = releases.map((r) => {
      const sha256 = releaseDigest(r.files);
      return {
        file: r.files.map((f) => f.file).join(', '),
        version: r.note.version,
        sha256,
        what: here.has(sha256) ? ('was here' as const) : added,
      };
    });
    const files = (how: 'strong' | 'weak'): Set<string> =>
      new Set(manifest.images.flatMap((i, at) => (i.compared === how ? releases[at]!.files.map((f) => f.sha256) : [])));
    if (!dryRun) await this.intake.commit(releases, by, { strong: files('strong'), weak: files('weak') });
    const carried: Carried['families'] = [];
    for (const { family, member } of manifest.families) {
      const text = await readFile(members.get(member)!.path, 'utf8');
      const known = this.context.familyTexts.get(family);
      carried.push({ family, what: known === undefined ? added : known === text ? 'the same' : 'kept as it is here' });
      if (known !== undefined || dryRun) continue;
      await this.familyFiles.keep(families.get(family)!, text, said.get(family));
    }
    const rules = await this.context.db.find(TargetEntity);
    const fresh: TargetRow[] = [];
    const targets = manifest.targets.map((t) => {
      const row = { ...t, id: newId('g'), device: null, setAt: Date.now(), setBy: by } as TargetRow;
      const scope = describeScope(row);
      const same = rules.find((r) => r.family === t.family && r.device === null && describeScope(r) === scope);
      if (!families.has(t.family)) return { family: t.family, version: t.version, scope, what: 'left out' as const };
      if (same) return { family: t.family, version: t.version, scope, what: 'was here' as const };
      fresh.push(row);
      return { family: t.family, version: t.version, scope, what: added };
    });
    if (!dryRun && fresh.length > 0) {
      await this.context.db.write(async (em) => em.insertMany(TargetEntity, fresh));
      this.context.live.changed('targets');
    }
    return { images, families: carried, targets };
  }
}

/** The manifest, once every member is there and has its digest. @throws Refusal */
async function readManifest(members: ReadonlyMap<string, Member>): Promise<Manifest> {
  const own = members.get(manifestName);
  if (!own) throw refuse('It holds no manifest.');
  const read = manifestSchema.safeParse(parseJson(await readFile(own.path, 'utf8')));
  if (!read.success) throw refuse(`Its manifest: ${read.error.issues[0]?.path.join('.')}: ${read.error.issues[0]?.message}.`);
  const told = new Set([manifestName]);
  for (const { member, sha256, bytes } of read.data.members) {
    told.add(member);
    const found = members.get(member);
    if (!found) throw refuse(`${member} is in the manifest and not in the archive.`);
    if (found.sha256 !== sha256 || found.bytes !== bytes) throw refuse(`${member} does not have the digest that the manifest tells.`);
  }
  const stray = [...members.keys()].find((m) => !told.has(m));
  if (stray !== undefined) throw refuse(`${stray} is in the archive and not in the manifest.`);
  for (const { member } of read.data.families.flatMap((f) => [f, ...f.conversations]))
    if (!told.has(member)) throw refuse(`${member} is not in it.`);
  return read.data;
}

/** @throws Refusal */
function noteOf(text: string, member: string): ImageNote {
  try {
    return readNote(text);
  } catch (error) {
    if (error instanceof NoteUnreadable) throw refuse(`${member}: ${error.message}.`);
    throw error;
  }
}

function parseJson(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
