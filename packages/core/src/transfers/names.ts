/** How near two names are: the number of letters to change, leave out or add (Levenshtein), names of at most 200 letters. */
export function editDistance(a: string, b: string): number {
  const [left, right] = [a.slice(0, 200), b.slice(0, 200)];
  let row = Array.from({ length: right.length + 1 }, (_, i) => i);
  for (let i = 1; i <= left.length; i++) {
    const next = [i];
    for (let j = 1; j <= right.length; j++)
      next[j] = Math.min(next[j - 1]! + 1, row[j]! + 1, row[j - 1]! + (left[i - 1] === right[j - 1] ? 0 : 1));
    row = next;
  }
  return row[right.length]!;
}

const lastPart = (name: string): string => name.slice(Math.max(name.lastIndexOf('/'), name.lastIndexOf('\\')) + 1);
const stem = (name: string): string => name.replace(/\.[A-Za-z0-9]{1,5}$/, '');

export interface NearName {
  readonly name: string;
  /** How it differs, in words. */
  readonly how: string;
}

/** The staged names that were probably meant by what was asked for, nearest first. */
export function nearestNames(asked: string, staged: readonly string[], most = 3): NearName[] {
  const ranked = staged.map((name): { near: NearName; rank: number } => {
    const as = (how: string, rank: number) => ({ near: { name, how }, rank });
    if (name.toLowerCase() === asked.toLowerCase()) return as('the same but for capital letters', 0);
    if (lastPart(asked) === name) return as('the same with a folder before it', 1);
    if (lastPart(asked).toLowerCase() === name.toLowerCase()) return as('a folder before it, and other capital letters', 2);
    if (stem(lastPart(asked)).toLowerCase() === stem(name).toLowerCase()) return as('the same but for its ending', 3);
    const letters = editDistance(asked, name);
    return as(`${letters} ${letters === 1 ? 'letter differs' : 'letters differ'}`, 4 + letters);
  });
  return ranked
    .sort((a, b) => a.rank - b.rank || (a.near.name < b.near.name ? -1 : 1))
    .slice(0, most)
    .map((r) => r.near);
}

/** The known name that was probably meant; null when none is near enough to be named. */
export function meantName(asked: string, known: Iterable<string>): string | null {
  let best: { name: string; letters: number } | null = null;
  for (const name of new Set(known)) {
    const letters = name.toLowerCase() === asked.toLowerCase() ? 0 : editDistance(asked.toLowerCase(), name.toLowerCase());
    if (best === null || letters < best.letters) best = { name, letters };
  }
  // Two letters may be wrong in a short name (most often they were exchanged), a third of them in a longer one; never half.
  const most = Math.min(Math.floor(asked.length / 2), Math.max(2, Math.floor(asked.length / 3)));
  return best !== null && best.letters <= most ? best.name : null;
}
