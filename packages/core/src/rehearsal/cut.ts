import type { Plan } from '../plan/plan.js';
import type { Instant, RunId } from '../units.js';
import type { Played } from './play.js';

/** A time for which a device is cut off or without power, because another of the plan is down. */
export interface CutOff {
  readonly from: Instant;
  readonly until: Instant;
  /** The run of that other one. */
  readonly by: RunId;
}

/** Who of a played plan is cut off when, by whom: whatever hangs on a device is, while that is down. In the order in which it begins. */
export function cutOffs(plan: Plan, played: Pick<Played, 'runs'>): Map<RunId, CutOff[]> {
  const darkOf = new Map(played.runs.map((r) => [r.run, r.dark]));
  const dark = new Map(plan.runs.map((r) => [r.device, { by: r.id, spans: darkOf.get(r.id) ?? [] }]));
  return new Map(
    plan.runs.flatMap(({ id, device, under }) => {
      const cuts = under
        .filter((above) => above !== device)
        .flatMap((above) => {
          const found = dark.get(above);
          return (found?.spans ?? []).map(([from, until]): CutOff => ({ from, until, by: found!.by }));
        });
      return cuts.length === 0 ? [] : [[id, cuts.sort((a, b) => a.from - b.from)] as const];
    }),
  );
}
