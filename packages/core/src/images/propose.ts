import { pattern, sameVersion, type VersionScheme } from '../versions/version.js';
import type { FileHeader } from './uboot.js';

/** How a family's files tell what they are. */
export interface FileRules {
  /** The format that they begin with; `none` when they begin with nothing that can be read. */
  readonly header: 'simg' | 'uboot' | 'fit' | 'none';
  /** Patterns over the file name; named groups `model`, `hardwareRevision`, `variant`, `version`, `component`, or fixed values. */
  readonly names: readonly NameRule[];
  /** The same over the title that stands in a header without fields of its own. */
  readonly titles: readonly NameRule[];
}
export interface NameRule {
  readonly pattern: string;
  readonly models?: readonly string[] | undefined;
  readonly hardwareRevisions?: readonly string[] | undefined;
  readonly variant?: string | undefined;
  readonly component?: 'system' | 'boot-loader' | undefined;
}

export interface NamingFamily {
  readonly family: string;
  readonly maker: string;
  readonly models: readonly { readonly model: string }[];
  readonly versions: VersionScheme;
  readonly images?: FileRules | undefined;
}

/** What one source says of a file; null is "it does not say". */
export interface Saying {
  readonly source: 'name' | 'header' | 'note' | 'you';
  readonly family: string | null;
  readonly models: readonly string[] | null;
  readonly hardwareRevisions: readonly string[] | null;
  readonly variant: string | null;
  readonly version: string | null;
  readonly component: string | null;
}

/** Who a source is, in a sentence. */
export const sourceWords: Record<Saying['source'], string> = {
  name: 'the file name',
  header: 'the header in the file',
  note: 'the note beside it',
  you: 'you',
};

function byRules(source: Saying['source'], family: string, rules: readonly NameRule[], text: string): Saying | null {
  for (const rule of rules) {
    const match = pattern(rule.pattern).matcher(text);
    if (!match.matches()) continue;
    const caught = match.getNamedGroups() as Record<string, string | null>;
    const one = (name: string): string | null => caught[name] ?? null;
    const list = (name: string, fixed: readonly string[] | undefined): readonly string[] | null => {
      const value = one(name);
      return value === null ? (fixed ?? null) : [value];
    };
    return {
      source,
      family,
      models: list('model', rule.models),
      hardwareRevisions: list('hardwareRevision', rule.hardwareRevisions),
      variant: one('variant') ?? rule.variant ?? null,
      version: one('version'),
      component: one('component') ?? rule.component ?? null,
    };
  }
  return null;
}

/** What a file's name says, by the name patterns of each family; several families may claim one name. */
export function sayingsOfName(families: Iterable<NamingFamily>, file: string): Saying[] {
  const found: Saying[] = [];
  for (const f of families) {
    const saying = f.images ? byRules('name', f.family, f.images.names, file) : null;
    if (saying) found.push(saying);
  }
  return found;
}

/** What a header says: its own fields, or what the families' patterns read in its title. */
export function sayingsOfHeader(families: Iterable<NamingFamily>, header: FileHeader): Saying[] {
  const found: Saying[] = [];
  for (const f of families) {
    if (header.models !== null) {
      if (f.maker !== header.maker || !header.models.some((m) => f.models.some((known) => known.model === m))) continue;
      const { models, hardwareRevisions, variant, version, component } = header;
      found.push({ source: 'header', family: f.family, models, hardwareRevisions, variant, version, component });
    } else if (header.title !== null && f.images) {
      const saying = byRules('header', f.family, f.images.titles, header.title);
      if (saying) found.push(saying);
    }
  }
  return found;
}

export interface Disagreement {
  readonly field: 'family' | 'model' | 'hardware revision' | 'variant' | 'version' | 'component';
  readonly said: readonly { readonly source: Saying['source']; readonly value: string }[];
}

/**
 * Compares what all sources say of one file. Lists agree when every model (or revision) that a narrower source names is among
 * those of the wider one.
 */
export function disagreements(sayings: readonly Saying[], scheme: VersionScheme | null): Disagreement[] {
  const found: Disagreement[] = [];
  const compare = <T>(
    field: Disagreement['field'],
    read: (s: Saying) => T | null,
    agree: (a: T, b: T) => boolean,
    write: (value: T) => string,
  ): void => {
    const said = sayings.flatMap((s) => {
      const value = read(s);
      return value === null ? [] : [{ source: s.source, value }];
    });
    if (said.some((a, i) => said.slice(i + 1).some((b) => !agree(a.value, b.value))))
      found.push({ field, said: said.map(({ source, value }) => ({ source, value: write(value) })) });
  };
  const within = (a: readonly string[], b: readonly string[]): boolean => a.every((x) => b.includes(x)) || b.every((x) => a.includes(x));
  const same = (a: string, b: string): boolean => a === b;
  const list = (value: readonly string[]): string => value.join(', ');
  compare('family', (s) => s.family, same, String);
  compare('model', (s) => s.models, within, list);
  compare('hardware revision', (s) => s.hardwareRevisions, within, list);
  compare(
    'variant',
    (s) => s.variant,
    same,
    (v) => v || 'plain',
  );
  compare(
    'version',
    (s) => s.version,
    (a, b) => a === b || (scheme !== null && sameVersion(scheme, a, b)),
    String,
  );
  compare('component', (s) => s.component, same, String);
  return found;
}

/** All three (or four) sayings as one sentence. */
export function describeDisagreement({ field, said }: Disagreement): string {
  return `${field}: ${said.map((s) => `${sourceWords[s.source]} ${s.source === 'you' ? 'say' : 'says'} ${s.value}`).join(', ')}`;
}
