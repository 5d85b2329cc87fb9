import { namedAt } from './full-scan.js';
import { nineSteps, passage, planOf, type PlanShape } from './plans.js';
import { World } from './world.js';

/** A rollout that has begun; what follows leads its devices through their steps, one by one. */
export const started = (shape: Partial<PlanShape> = {}): World => {
  const world = new World(planOf({ devices: 1, first: 0, ...shape }));
  world.settle();
  return world;
};
export const done = (world: World, id = 'd1'): void => {
  world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
  world.settle();
};
export const failed = (world: World, cause: string, id = 'd1'): void => {
  world.happen({ kind: 'step-failed', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!), cause, detail: 'so' });
  world.settle();
};
export const upTo = (world: World, step: string, id = 'd1'): void => {
  for (let n = 0; n < 30 && namedAt(world.state, world.state.indexOf.get(id)!).step !== step; n++) done(world, id);
};
/** Three devices, of which the first failed its checks, and was taken back; that is one failure too many. */
export const takenBack = (): World => {
  const world = started({
    devices: 3,
    atOnce: 1,
    wayBack: true,
    gate: { soakMs: 0, failureLimit: 1, approval: false },
    each: [{ site: 'a', passage: passage(undefined, nineSteps(), true) }, { site: 'b' }, { site: 'b' }],
  });
  upTo(world, 'checks');
  failed(world, 'settings-changed');
  for (let n = 0; n < 9 && world.state.runs[0]!.phase !== 'ended'; n++) done(world);
  return world;
};
