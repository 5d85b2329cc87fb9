import { cutOffs, rungText, type Plan, type Played, type RehearsalView, type RungMeans } from '@barrow/core';
import { rfc3339, rfc3339OrNull } from '../context.js';

/** What was played or happened, for whoever shows it. */
export function playedView(plan: Plan, played: Pick<Played, 'runs' | 'waves'>): Pick<RehearsalView, 'runs' | 'waves'> {
  const cuts = cutOffs(plan, played);
  const nameOf = new Map(plan.runs.map((run) => [run.id, run.name]));
  const span = ({ from, until }: { from: number; until: number }) => ({ from: rfc3339(from), until: rfc3339(until) });
  return {
    waves: played.waves.map((w) => ({ wave: w.wave, opensAt: rfc3339(w.opensAt), endsAt: rfc3339(w.endsAt) })),
    runs: played.runs.map((run) => ({
      run: run.run,
      name: run.name,
      wave: run.wave,
      beginsAt: rfc3339(run.beginsAt),
      endsAt: rfc3339(run.endsAt),
      downFrom: rfc3339OrNull(run.downFrom),
      downUntil: rfc3339OrNull(run.downUntil),
      downs: run.downs,
      downMs: run.downMs,
      parts: run.parts.map((part) => ({ name: part.name, ...span(part), waited: part.waited })),
      dark: run.dark.map(([from, until]) => span({ from, until })),
      cut: (cuts.get(run.run) ?? []).map((cut) => ({ ...span(cut), by: nameOf.get(cut.by) ?? cut.by })),
      outcome: run.outcome,
      cause: run.cause,
      rungs: run.rungs.map((means) => rungText(means as RungMeans)),
    })),
  };
}
