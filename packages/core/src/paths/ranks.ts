import { compareRead, readVersion, VersionUnreadable, type Version, type VersionScheme } from '../versions/version.js';

/**
 * The known versions of one scheme in order, so that a comparison is one of numbers. A version that is not among the known ones
 * ranks half-way between its neighbours.
 */
export class Ranks {
  readonly #known: readonly Version[];
  readonly #byText = new Map<string, number | null>();

  /** Texts that the scheme cannot read are left out; they rank as null. */
  constructor(
    private readonly scheme: VersionScheme,
    texts: Iterable<string>,
  ) {
    const read: Version[] = [];
    for (const text of new Set(texts)) {
      const version = this.#read(text);
      if (version) read.push(version);
    }
    read.sort((a, b) => compareRead(scheme, a, b));
    this.#known = read.filter((v, i) => i === 0 || compareRead(scheme, read[i - 1]!, v) !== 0);
  }

  #read(text: string): Version | null {
    try {
      return readVersion(this.scheme, text);
    } catch (error) {
      if (error instanceof VersionUnreadable) return null;
      throw error;
    }
  }

  /** The place of a version among the known ones; null when it cannot be read. */
  of(text: string): number | null {
    const found = this.#byText.get(text);
    if (found !== undefined) return found;
    const version = this.#read(text);
    let rank: number | null = null;
    if (version) {
      let low = 0;
      let high = this.#known.length;
      while (low < high) {
        const middle = (low + high) >> 1;
        if (compareRead(this.scheme, this.#known[middle]!, version) < 0) low = middle + 1;
        else high = middle;
      }
      const at = this.#known[low];
      rank = at !== undefined && compareRead(this.scheme, at, version) === 0 ? low : low - 0.5;
    }
    this.#byText.set(text, rank);
    return rank;
  }
}
