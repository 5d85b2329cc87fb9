import type { Rollout, RunView } from '../api/shapes.js';

/** The step of a run as it is said: with what is tried, or with the version that its leg brings, where there are several legs. */
export function stepText({ step, leg, legs, rung }: Pick<RunView, 'step' | 'leg' | 'legs'> & { readonly rung?: RunView['rung'] }): string {
  if (rung) return `${rung.text}: ${rung.step}`;
  return legs.length > 1 ? `${step} of ${legs[leg]!.to}` : step;
}

export interface WayShown {
  /** The families that go this way; empty when all do. */
  readonly who: string;
  readonly steps: readonly { readonly step: string; readonly meaning: string; readonly pastReturn: boolean; readonly afterSoak: boolean }[];
}

/** The ways by which the devices of a rollout take one image, each once. */
export function waysIn({ passages, runs }: Pick<Rollout, 'passages' | 'runs'>): WayShown[] {
  const families = new Map<string, { readonly steps: WayShown['steps']; readonly of: Set<string> }>();
  const familiesOf = passages.map(() => new Set<string>());
  for (const run of runs) familiesOf[run.passage]?.add(run.family);
  passages.forEach(({ steps }, index) => {
    const legs = new Set(steps.map((s) => s.leg));
    for (const leg of legs) {
      const own = steps.filter((s) => s.leg === leg);
      const key = own.map((s) => `${s.step}${s.pastReturn ? '!' : ''}`).join(' ');
      const known = families.get(key) ?? { steps: own, of: new Set<string>() };
      families.set(key, known);
      for (const family of familiesOf[index]!) known.of.add(family);
    }
  });
  const all = [...families.values()];
  return all.map(({ steps, of }) => ({ who: all.length === 1 ? '' : [...of].join(', '), steps }));
}
