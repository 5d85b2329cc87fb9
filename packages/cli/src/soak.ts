import { soakChange, soakWord } from '@barrow/client';
import type { Rollout, SoakFinding, SoakView } from '@barrow/core';
import { clock, count, makeColours, type Io } from './output.js';

export { soakWord };

const bars = '▁▂▃▄▅▆▇█';
const width = 32;
/** So many devices of a kind are drawn. */
const mostDrawn = 4;

/** Values as a line of blocks, from the least to the greatest of all lines that stand together. */
function trend(points: SoakFinding['series'][number]['points'], least: number, greatest: number): string {
  const span = greatest - least;
  return points
    .slice(-width)
    .map(([, value]) => bars[span === 0 ? 0 : Math.round(((value - least) / span) * 7)])
    .join('');
}

function drawn({ measure, series }: SoakFinding): string[] {
  const values = series.flatMap((s) => s.points.map(([, value]) => value));
  const [least, greatest] = [Math.min(...values), Math.max(...values)];
  const picked = [true, false].flatMap((upgraded) =>
    series.filter((s) => s.upgraded === upgraded && s.points.length > 0).slice(0, mostDrawn),
  );
  const names = Math.max(...picked.map((s) => s.name.length));
  return picked.map(
    ({ name, upgraded, points }) =>
      `      ${name.padEnd(names)}  ${upgraded ? 'upgraded ' : 'untouched'}  ${trend(points, least, greatest).padEnd(width)}  ${soakChange(measure, points)}`,
  );
}

/** What devices showed while they soaked, with a small picture of each finding. */
export function soakText(io: Io, soaks: readonly SoakView[], { name, waves }: Rollout): string {
  const c = makeColours(io);
  if (soaks.length === 0)
    return waves.some((w) => w.gate.watch)
      ? `Nothing of ${name} was judged yet: that happens when a soak is over.`
      : `${name} has no soak: nothing is looked at between its waves.`;
  return soaks
    .flatMap((soak) => [
      c.bold(
        `Wave ${soak.wave + 1} (${soak.name}), judged ${clock(soak.at)} after ${count(soak.looks, 'soak sample')}: ${soakWord(soak.findings, soak.looks)}`,
      ),
      ...soak.findings.flatMap((f) => [
        `  ${f.verdict === 'worse' ? c.red('✕ worse  ') : f.verdict === 'unknown' ? c.yellow('? unknown') : '· told   '} ${f.text}`,
        ...(f.series.some((s) => s.points.length > 0) ? drawn(f) : []),
      ]),
    ])
    .join('\n');
}
