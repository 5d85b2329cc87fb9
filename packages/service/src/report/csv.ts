import type { Report } from '@barrow/core';

const columns = [
  'name',
  'address',
  'site',
  'serial',
  'outcome',
  'cause',
  'before',
  'after',
  'target',
  'image',
  'digestOnDevice',
  'backup',
  'begunAt',
  'endedAt',
  'downMs',
  'attempts',
  'rungs',
] as const;

/** RFC 4180, with a header line; a field that a spreadsheet would run as a formula is led by an apostrophe. */
export function reportCsv(report: Report): string {
  const field = (value: string | number | null): string => {
    const text = value === null ? '' : String(value);
    const safe = /^[=+\-@\t\r]/.test(text) && typeof value !== 'number' ? `'${text}` : text;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  const rungs = (run: Report['runs'][number]): string =>
    run.rungs
      .map((r) => `${r.text}: ${r.failed?.cause.code ?? (r.endedAt === null ? 'not ended' : r.unsure === null ? 'worked' : 'came back')}`)
      .join('; ');
  const lines = report.runs.map((run) =>
    columns.map((c) => field(c === 'cause' ? (run.cause?.code ?? null) : c === 'rungs' ? rungs(run) : run[c])).join(','),
  );
  return [columns.join(','), ...lines, ''].join('\r\n');
}
