/** A value as one text, whatever the order of its keys (RFC 8785; numbers and strings as ECMAScript writes them). */
export function canonicalText(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(canonicalText).join(',')}]`;
  if (value === null || typeof value !== 'object') return JSON.stringify(value) ?? 'null';
  const members = Object.entries(value).filter(([, v]) => v !== undefined);
  return `{${members
    .sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0))
    .map(([key, v]) => `${JSON.stringify(key)}:${canonicalText(v)}`)
    .join(',')}}`;
}

/** One line of a report: where it stands, and what it says. */
export interface ReportLine {
  /** A list of the report, or one device in it: `deeds`, `runs/quay-sw-1`, `runs/quay-sw-1/checks`. */
  readonly group: string;
  readonly text: string;
}

const isRecord = (value: unknown): value is Record<string, unknown> => typeof value === 'object' && value !== null && !Array.isArray(value);

/** The lines of a report: each thing of which one can say that it was changed, is missing, or was added. What proves them is none. */
export function linesOf(report: Readonly<Record<string, unknown>>): ReportLine[] {
  const lines: ReportLine[] = [];
  const walk = (group: string, value: unknown): void => {
    if (Array.isArray(value)) {
      for (const item of value as unknown[]) {
        const name = isRecord(item) && typeof item['name'] === 'string' && typeof item['device'] === 'string' ? item['name'] : null;
        // Encoded, so that no name can look like the path of another list.
        if (name !== null && group === 'runs') walk(`${group}/${encodeURIComponent(name)}`, item);
        else lines.push({ group, text: canonicalText(item) });
      }
      return;
    }
    if (!isRecord(value) || (group !== '' && !group.startsWith('runs/'))) return void lines.push({ group, text: canonicalText(value) });
    const plain: Record<string, unknown> = {};
    for (const [key, member] of Object.entries(value))
      if (Array.isArray(member) || (group === '' && isRecord(member))) {
        if (group !== '' || key !== 'proof') walk(group === '' ? key : `${group}/${key}`, member);
      } else plain[key] = member;
    lines.push({ group, text: canonicalText(plain) });
  };
  walk('', report);
  return lines;
}

/** What the signature covers. `whole` binds the order and everything that no line tells apart. */
export const signedText = (proof: {
  readonly journal: { readonly last: number; readonly head: string | null };
  readonly count: number;
  readonly whole: string;
  readonly lines: readonly SignedLine[];
}): string => canonicalText({ journal: proof.journal, count: proof.count, whole: proof.whole, lines: proof.lines });

/** A report as one text, without its proof: its digest is signed as `whole`. */
export const unprovenText = ({ proof: _, ...report }: Readonly<Record<string, unknown>>): string => JSON.stringify(report);

/** The one way in which a report is written to a file. A text that differs from it is not verified. */
export const reportText = (report: object): string => `${JSON.stringify(report, null, 2)}\n`;

/** A line as it was signed, by the digest of its text. */
export interface SignedLine {
  readonly group: string;
  readonly digest: string;
}

export interface LineFault {
  readonly group: string;
  /** Its place in its list, from 1; null where there is only one. */
  readonly line: number | null;
  readonly what: 'changed' | 'missing' | 'added' | 'moved';
}

/** How lines differ from what was signed of them; empty: not at all. */
export function lineFaults(signed: readonly SignedLine[], present: readonly SignedLine[]): LineFault[] {
  const faults: LineFault[] = [];
  const [then, now] = [grouped(signed), grouped(present)];
  for (const group of new Set([...then.keys(), ...now.keys()])) {
    const [before, after] = [then.get(group) ?? [], now.get(group) ?? []];
    const place = (at: number): number | null => (Math.max(before.length, after.length) > 1 ? at + 1 : null);
    const gone = notIn(before, after);
    const come = notIn(after, before);
    const changed = new Set(gone.filter((at) => come.includes(at)));
    for (const at of changed) faults.push({ group, line: place(at), what: 'changed' });
    for (const at of gone) if (!changed.has(at)) faults.push({ group, line: place(at), what: 'missing' });
    for (const at of come) if (!changed.has(at)) faults.push({ group, line: place(at), what: 'added' });
    if (gone.length + come.length === 0 && before.some((digest, at) => digest !== after[at])) {
      const at = before.findIndex((digest, i) => digest !== after[i]);
      faults.push({ group, line: place(at), what: 'moved' });
    }
  }
  return faults;
}

function grouped(lines: readonly SignedLine[]): Map<string, string[]> {
  const groups = new Map<string, string[]>();
  for (const { group, digest } of lines) {
    const list = groups.get(group);
    if (list) list.push(digest);
    else groups.set(group, [digest]);
  }
  return groups;
}

/** The places of those in one list that the other has not, or not as often. */
function notIn(list: readonly string[], other: readonly string[]): number[] {
  const left = new Map<string, number>();
  for (const digest of other) left.set(digest, (left.get(digest) ?? 0) + 1);
  return list.flatMap((digest, at) => {
    const n = left.get(digest) ?? 0;
    if (n > 0) left.set(digest, n - 1);
    return n > 0 ? [] : [at];
  });
}
