import { compareVersions, sameVersion, VersionUnreadable, type VersionScheme } from '../versions/version.js';
import type { Advisory, AdvisoryProduct } from './csaf.js';

/** What a technician said once: which family and models a product of an advisory is; no family: nothing that is here. */
export interface ProductMapping {
  readonly vendor: string;
  readonly product: string;
  readonly family: string | null;
  /** Empty: every model of the family. */
  readonly models: readonly string[];
}

export const mappingKey = (vendor: string | null, product: string): string => JSON.stringify([vendor ?? '', product]);

/** One bound of a range, as `>=4.0.0`. */
type Comparison = (order: number) => boolean;
const comparators: Record<string, Comparison> = {
  '': (o) => o === 0,
  '=': (o) => o === 0,
  '==': (o) => o === 0,
  '!=': (o) => o !== 0,
  '<': (o) => o < 0,
  '<=': (o) => o <= 0,
  '>': (o) => o > 0,
  '>=': (o) => o >= 0,
};

/** A range text in words that nobody should guess at. */
export class RangeUnreadable extends Error {
  constructor(readonly text: string) {
    super(`the range ${JSON.stringify(text)} cannot be read`);
  }
}

/**
 * Whether a version lies in a range of an advisory. Read are the `vers:` notation that CSAF 2.0 §3.1.2.3.2 recommends, with any
 * scheme name (`vers:generic/>=4.0.0|<4.3.0`; bounds pair up in order, and single versions are joined by or), and bounds parted by
 * spaces or commas (`>=4.0.0 <4.3.0`).
 * @throws RangeUnreadable, VersionUnreadable
 */
export function inAdvisoryRange(scheme: VersionScheme, text: string, version: string): boolean {
  const vers = /^vers:[a-z0-9.+-]+\/(.*)$/.exec(text.trim());
  const body = vers ? vers[1]! : text.trim();
  if (body === '*') return true;
  const parts = body.split(vers ? '|' : /(?:\s*,\s*|\s+(?=[<>=!]))/).map((p) => p.trim());
  const read = parts.map((part) => {
    const match = /^(<=|>=|!=|==|<|>|=)?\s*([^\s<>=!|]+)$/.exec(part);
    if (!match) throw new RangeUnreadable(text);
    return { sign: match[1] ?? '', holds: comparators[match[1] ?? '']!(compareVersions(scheme, version, decodeURIComponent(match[2]!))) };
  });
  if (read.length === 0) throw new RangeUnreadable(text);
  if (read.some((r) => r.sign === '!=' && !r.holds)) return false;
  const isExact = (sign: string): boolean => sign === '' || sign === '=' || sign === '==';
  if (read.some((r) => isExact(r.sign) && r.holds)) return true;
  const bounds = read.filter((r) => r.sign !== '!=' && !isExact(r.sign));
  if (bounds.length === 0) return !read.some((r) => isExact(r.sign));
  // A lower bound and the upper bound after it are one stretch; a bound alone is one by itself.
  let i = 0;
  let within = false;
  while (i < bounds.length) {
    const a = bounds[i]!;
    const b = bounds[i + 1];
    if (a.sign.startsWith('>') && b?.sign.startsWith('<')) {
      within ||= a.holds && b.holds;
      i += 2;
    } else {
      within ||= a.holds;
      i += 1;
    }
  }
  return within;
}

/** A device against one advisory. */
export const exposures = ['exposed', 'fixed', 'not-affected', 'under-investigation', 'unknown'] as const;
export type Exposure = (typeof exposures)[number];

export interface ExposureResult {
  readonly exposure: Exposure;
  /** The vulnerabilities that it is exposed to. */
  readonly vulnerabilities: readonly string[];
  /** The highest base score of them; null when none is scored. */
  readonly score: number | null;
  readonly reason: string | null;
}

export interface ExposedDevice {
  readonly family: string | null;
  readonly model: string | null;
  readonly firmware: string | null;
}

/** One advisory, ready to be asked about devices: its products resolved by the confirmed mappings. */
export class AdvisoryReader {
  readonly #products: readonly { readonly product: AdvisoryProduct; readonly mapping: ProductMapping }[];

  constructor(
    readonly advisory: Advisory,
    mappings: ReadonlyMap<string, ProductMapping>,
    private readonly schemes: ReadonlyMap<string, { readonly versions: VersionScheme }>,
  ) {
    this.#products = advisory.products.flatMap((product) => {
      const mapping = mappings.get(mappingKey(product.vendor, product.product));
      return mapping && mapping.family !== null ? [{ product, mapping }] : [];
    });
  }

  get families(): ReadonlySet<string> {
    return new Set(this.#products.map((p) => p.mapping.family!));
  }

  /** What the advisory says of a device; null when it is about something else. */
  of(device: ExposedDevice): ExposureResult | null {
    const { family, model, firmware } = device;
    if (family === null) return null;
    const about = this.#products.filter(
      ({ mapping }) => mapping.family === family && (mapping.models.length === 0 || (model !== null && mapping.models.includes(model))),
    );
    if (about.length === 0) return null;
    const scheme = this.schemes.get(family)?.versions;
    const unknown = (reason: string): ExposureResult => ({ exposure: 'unknown', vulnerabilities: [], score: null, reason });
    if (firmware === null || !scheme) return unknown('its firmware version has not been read');
    const meant: AdvisoryProduct[] = [];
    let unread: string | null = null;
    for (const { product } of about)
      try {
        if (product.version === null) meant.push(product);
        else if (
          product.versionIsRange ? inAdvisoryRange(scheme, product.version, firmware) : sameVersion(scheme, product.version, firmware)
        )
          meant.push(product);
      } catch (error) {
        if (!(error instanceof VersionUnreadable || error instanceof RangeUnreadable)) throw error;
        unread = error.message;
      }
    const said = (status: string): { names: string[]; score: number | null } => {
      const names = new Set<string>();
      let score: number | null = null;
      for (const v of this.advisory.vulnerabilities)
        for (const p of meant)
          if (v.status[p.id] === status) {
            names.add(v.name);
            if (v.scores[p.id] !== undefined) score = Math.max(score ?? 0, v.scores[p.id]!);
          }
      return { names: [...names], score };
    };
    const affected = said('affected');
    if (affected.names.length > 0) return { exposure: 'exposed', vulnerabilities: affected.names, score: affected.score, reason: null };
    if (unread !== null) return unknown(unread);
    // What contradicts itself, or names what it does not define, clears nobody.
    const [fault] = this.advisory.fails ?? [];
    if (fault !== undefined) return unknown(`the document fails a mandatory test of its standard (${fault})`);
    if (said('under-investigation').names.length > 0)
      return { exposure: 'under-investigation', vulnerabilities: [], score: null, reason: 'the publisher does not know yet' };
    if (said('fixed').names.length > 0) return { exposure: 'fixed', vulnerabilities: [], score: null, reason: null };
    return { exposure: 'not-affected', vulnerabilities: [], score: null, reason: null };
  }
}

export interface MappingProposal {
  readonly family: string;
  readonly models: readonly string[];
  readonly why: string;
}

export interface MappableFamily {
  readonly family: string;
  readonly title: string;
  readonly maker: string;
  readonly models: readonly { readonly model: string }[];
}

/** Which family a product may be: the maker is the vendor, and a model or the title stands in its name. A person confirms it. */
export function proposeMapping(families: Iterable<MappableFamily>, vendor: string | null, product: string): MappingProposal | null {
  const text = product.toLowerCase();
  const has = (word: string): boolean => text.includes(word.toLowerCase());
  let best: (MappingProposal & { weight: number }) | null = null;
  for (const f of families) {
    const ofMaker = vendor === null ? has(f.maker) : vendor.toLowerCase() === f.maker.toLowerCase();
    if (!ofMaker) continue;
    const models = [...new Set(f.models.map((m) => m.model).filter(has))];
    const titled = has(f.title) || (f.title.startsWith(`${f.maker} `) && has(f.title.slice(f.maker.length + 1)));
    const weight = models.length * 2 + (titled ? 1 : 0);
    if (weight === 0 || (best !== null && best.weight >= weight)) continue;
    const why = [
      `the vendor is ${f.maker}`,
      ...(models.length > 0 ? [`the product names ${models.join(', ')}`] : [`the product is named like ${f.title}`]),
    ];
    best = { family: f.family, models: titled && models.length === 0 ? [] : models, why: why.join(', '), weight };
  }
  return best;
}
