import { rmSync } from 'node:fs';
import { mkdir, readdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { FamilyFileError, parseFamily, type Family } from '@barrow/families';
import type { Context } from '../context.js';
import { notFound, Refusal } from '../errors.js';
import { playAll, type Conversations } from './family-archive.js';

interface Counted {
  readonly n: number;
}

/** The family files that were added to this service; those that ship with it are not among them. */
export class FamilyFiles {
  #added = new Set<string>();

  constructor(
    private readonly context: Context,
    private readonly folder: string,
  ) {}

  async load(): Promise<void> {
    const files = await readdir(this.folder);
    this.#added = new Set(files.filter((f) => f.endsWith('.yaml')).map((f) => f.slice(0, -'.yaml'.length)));
  }

  isAdded(family: string): boolean {
    return this.#added.has(family) && this.context.families.has(family);
  }

  /** @throws Refusal */
  text(family: string): string {
    const text = this.context.familyTexts.get(family);
    if (text === undefined) throw notFound('family', family, `The families are ${[...this.context.families.keys()].join(', ')}.`);
    return text;
  }

  /** Keeps a file that was read, and goes by it from now on; what runs keeps the one that its plan was made with. */
  async keep(family: Family, text: string, conversations: Conversations | null = null): Promise<void> {
    if (conversations !== null) await this.#keepBeside(family.family, conversations);
    // Whole or not at all: a service that dies here finds the file of before, or none.
    const path = join(this.folder, `${family.family}.yaml`);
    await writeFile(`${path}.part`, text, { mode: 0o600, flush: true });
    await rename(`${path}.part`, path);
    this.#added.add(family.family);
    this.context.families.set(family.family, family);
    this.context.familyTexts.set(family.family, text);
    this.context.live.changed('families');
  }

  /**
   * Takes a family file in, with what was said while it was taught.
   * @param replace instead of one that was added before
   * @param conversations null: nothing is said of them, and those that are here stay
   * @throws Refusal with every fault of it, or when there is one of that name
   */
  async add(
    text: string,
    replace: boolean,
    conversations: Conversations | null = null,
  ): Promise<{ readonly family: Family; readonly what: 'added' | 'replaced' | 'the same'; readonly remarks: readonly string[] }> {
    const refuse = (status: 409 | 422, code: string, why: string, next: string): Refusal =>
      new Refusal(status, code, 'The family file was not taken', why, next);
    let family: Family;
    try {
      family = parseFamily(text, 'line');
    } catch (error) {
      if (!(error instanceof FamilyFileError)) throw error;
      throw refuse(422, 'family-file', error.message, 'Mend these; `barrow family check FILE` tells them without the service.');
    }
    const { family: name } = family;
    const before = this.context.familyTexts.get(name);
    const isShipped = before !== undefined && !this.isAdded(name);
    const { remarks, clean } = conversations === null ? { remarks: [], clean: null } : await playAll(family, conversations);
    if (before === text) {
      if (clean !== null && !isShipped) await this.#keepBeside(name, clean);
      return { family, what: 'the same', remarks };
    }
    if (isShipped)
      throw refuse(409, 'family-shipped', `${name} came with Barrow.`, 'Give yours a name of its own: the key `family` at its top.');
    if (before !== undefined && !replace)
      throw refuse(409, 'family-known', `${name} was added before, and is another file.`, 'Say that it is to be replaced: --replace.');
    await this.keep(family, text, clean);
    return { family, what: before === undefined ? 'added' : 'replaced', remarks };
  }

  #beside(family: string): string {
    return join(this.folder, `${family}.conversations`);
  }

  /** What was said while it was taught, by procedure. @throws Refusal */
  async conversations(family: string): Promise<Conversations> {
    this.text(family);
    const folder = this.#beside(family);
    const files = (await readdir(folder).catch(() => [])).filter((f) => f.endsWith('.yaml')).sort();
    return new Map(
      await Promise.all(files.map(async (f) => [f.slice(0, -'.yaml'.length), await readFile(join(folder, f), 'utf8')] as const)),
    );
  }

  async #keepBeside(family: string, conversations: Conversations): Promise<void> {
    const folder = this.#beside(family);
    await rm(folder, { recursive: true, force: true });
    if (conversations.size === 0) return;
    await mkdir(folder, { mode: 0o700 });
    for (const [procedure, text] of conversations) await writeFile(join(folder, `${procedure}.yaml`), text, { mode: 0o600 });
  }

  /** @throws Refusal for one that ships, or that something still needs */
  async remove(name: string): Promise<void> {
    const { db, families, familyTexts, live } = this.context;
    this.text(name);
    const refuse = (code: string, why: string, next: string): Refusal => new Refusal(409, code, 'The family was not removed', why, next);
    if (!this.isAdded(name)) throw refuse('family-shipped', `${name} came with Barrow.`, 'Only what was added can be removed.');
    const uses = await Promise.all(
      ['device', 'image', 'target'].map(async (word) => {
        const [counted] = await db.select<Counted>(`select count(*) as n from ${word} where family = ?`, [name]);
        return { n: counted?.n ?? 0, word };
      }),
    );
    const told = uses.filter(({ n }) => n > 0).map(({ n, word }) => `${n} ${word}${n === 1 ? '' : 's'}`);
    if (told.length > 0)
      throw refuse(
        'family-used',
        `${told.join(', ')} of ${name} ${told.length === 1 && told[0]!.startsWith('1 ') ? 'is' : 'are'} here.`,
        'Remove these first.',
      );
    rmSync(join(this.folder, `${name}.yaml`), { force: true });
    rmSync(this.#beside(name), { recursive: true, force: true });
    this.#added.delete(name);
    families.delete(name);
    familyTexts.delete(name);
    live.changed('families');
  }
}
