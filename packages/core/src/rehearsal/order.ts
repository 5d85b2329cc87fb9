import type { Plan, PlannedRun } from '../plan/plan.js';
import type { DeviceId, Instant, RunId } from '../units.js';
import { chainOf, leastOf } from './chain.js';
import { rehearse } from './rehearse.js';

/** So many orders are tried, and only of plans that are rehearsed in a moment. */
const mostTries = 4;
const mostRuns = 600;
/** A night that is within this of the least is not tried to be made shorter. */
const goodEnough = 1.02;
/** Who is moved begins so many rounds of the limit earlier; a round is as many as may be under way at once. */
const rounds = 1.5;
/** Who carries more than this part of all others keeps its place, at the end. */
const mostCarried = 1 / 3;

/**
 * The same plan in an order in which it takes less: those that decide its end (its chain) begin a little earlier, never in another wave, and
 * the shortest of a few rehearsals is kept. What hangs on one still begins before it, or beside it. What is too large to be rehearsed
 * a few times, or is as short as it can be, comes back as it is.
 */
export function shortened(plan: Plan, now: Instant): Plan {
  const atOnce = plan.capacity[`rollout:${plan.id}`] ?? 1;
  if (plan.runs.length > mostRuns || plan.runs.length <= atOnce) return plan;
  const carried = new Map<DeviceId, number>();
  for (const { device, under } of plan.runs)
    for (const above of under) if (above !== device) carried.set(above, (carried.get(above) ?? 0) + 1);
  const stays = ({ device }: PlannedRun): boolean => (carried.get(device) ?? 0) > mostCarried * plan.runs.length;
  let best = plan;
  let played = rehearse(plan, now);
  let shortest = played.endsAt - played.beginsAt;
  const enough = goodEnough * leastOf(plan, played);
  const moved = new Set<RunId>();
  for (let tries = 0; tries < mostTries && shortest > enough && played.stuck === null; tries++) {
    const before = moved.size;
    for (const { run } of chainOf(played)) moved.add(run);
    if (moved.size === before) break;
    const place = (run: PlannedRun, index: number): number => (moved.has(run.id) && !stays(run) ? index - rounds * atOnce - 0.5 : index);
    const order = plan.runs.map((run, index) => ({ run, place: place(run, index), index }));
    order.sort((a, b) => a.run.wave - b.run.wave || a.place - b.place || a.index - b.index);
    const next = { ...plan, runs: order.map(({ run }) => run) };
    played = rehearse(next, now);
    const lasts = played.endsAt - played.beginsAt;
    if (played.stuck === null && lasts < shortest) {
      shortest = lasts;
      best = next;
    }
  }
  return best;
}
