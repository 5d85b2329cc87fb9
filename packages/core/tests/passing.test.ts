import { describe, expect, it } from 'vitest';
import { apply, check, type RolloutEvent } from '@barrow/core';
import { done, failed, started, takenBack, upTo } from './course.js';
import { namedAt } from './full-scan.js';
import { atItsHour, hours, nineSteps, passage, planOf, withSides } from './plans.js';
import { World } from './world.js';

const person = 'somebody';
const gate = { soakMs: 0, failureLimit: 9, approval: false };
const retry = (world: World, run = 'd1'): RolloutEvent => ({ kind: 'run-retried', at: world.now, run, by: person });
const goOn = (world: World): void => {
  world.happen({ kind: 'continued', at: world.now, by: person });
  world.settle();
};

describe('a run that is retried', () => {
  it('is forgiven no more: the next failure counts again', () => {
    const sites = ['a', 'b', 'b'].map((site) => ({ site }));
    const world = started({ devices: 3, atOnce: 1, gate: { ...gate, failureLimit: 1 }, each: sites });
    failed(world, 'image-damaged');
    expect(world.state).toMatchObject({ phase: 'held', heldBy: 'Barrow' });
    goOn(world);
    expect(world.state.waves[0]!.forgiven).toBe(1);
    // Another one that was never counted as failed takes nothing of that back.
    const [busy] = world.runsIn('busy');
    world.happen({ kind: 'skip-asked', at: world.now, run: busy!.id, by: person, reason: '' });
    done(world, busy!.id);
    world.happen(retry(world, busy!.id));
    expect(world.state.waves[0]!.forgiven).toBe(1);
    world.happen(retry(world));
    world.settle();
    expect(world.state.waves[0]!.forgiven).toBe(0);
    for (let n = 0; n < 40 && world.state.runs[0]!.phase !== 'busy'; n++) for (const { id } of world.runsIn('busy')) done(world, id);
    failed(world, 'image-damaged');
    expect(world.state).toMatchObject({ phase: 'held', heldBecause: '1 failed in wave 1 (all); the limit is 1' });
  });

  it('is forgiven no more when it was taken back before', () => {
    const world = takenBack();
    expect(world.state.runs[0]!.outcome).toBe('recovered');
    goOn(world);
    expect(world.state.waves[0]!.forgiven).toBe(1);
    world.happen(retry(world));
    expect(world.state.waves[0]!.forgiven).toBe(0);
  });

  it('has a rollout that has ended, or is being stopped, run again', () => {
    const world = started({ devices: 2, gate });
    failed(world, 'image-damaged');
    world.happen({ kind: 'stop-asked', at: world.now, by: person });
    expect(world.state.phase).toBe('stopping');
    // As a journal of before may say.
    const again = apply(world.state, retry(world));
    expect(again).toMatchObject({ phase: 'running', endedAt: null });
    const ended = started({ devices: 1, gate });
    failed(ended, 'image-damaged');
    expect(ended.state).toMatchObject({ phase: 'ended' });
    ended.happen(retry(ended));
    expect(ended.state).toMatchObject({ phase: 'running', endedAt: null, wave: 0 });
    expect(ended.state.waves[0]).toMatchObject({ phase: 'open', waiting: 1 });
    ended.settle();
    ended.finish();
    expect(ended.state.runs[0]!.outcome).toBe('verified');
  });
});

describe('a run that has something set aside', () => {
  const aside = { passage: passage(undefined, withSides(nineSteps())) };
  it('counts as failed from the moment at which it failed, and ends where it failed', () => {
    const world = started({ devices: 2, gate, each: [aside] });
    upTo(world, 'activate');
    const { step, stretch } = world.state.runs[0]!;
    failed(world, 'image-refused');
    expect(world.state.waves[0]).toMatchObject({ broken: 1, ended: { failed: 0 } });
    done(world);
    expect(world.state.runs[0]).toMatchObject({ outcome: 'failed', step, stretch, owes: false, ending: null, detail: 'so' });
    expect(world.state.waves[0]).toMatchObject({ broken: 0, ended: { failed: 1 } });
    // It is before the stretch in which it failed, and not before another one.
    expect(stretch).toBe(2);
  });

  it('ends in the stretch that it failed to begin, and not in the one before', () => {
    const world = started({ devices: 2, gate, each: [aside] });
    upTo(world, 'set-aside');
    const { step, stretch } = world.state.runs[0]!;
    failed(world, 'image-refused');
    done(world);
    expect(world.state.runs[0]).toMatchObject({ outcome: 'failed', step, stretch });
  });

  it('does not count as failed while it is put back because it is left out, and says what remains', () => {
    const world = started({ devices: 2, gate, each: [aside] });
    upTo(world, 'set-aside');
    world.happen({ kind: 'skip-asked', at: world.now, run: 'd1', by: person, reason: 'another day' });
    done(world);
    const { step } = world.state.runs[0]!.ending!;
    expect(namedAt(world.state, 0).step).toBe('put-back');
    expect(world.state.waves[0]).toMatchObject({ broken: 0, active: 2 });
    failed(world, 'unreachable');
    expect(world.state.runs[0]).toMatchObject({ outcome: 'skipped', step, stretch: 2 });
    expect(world.state.runs[0]!.detail).toBe('another day\nwhat was set aside could not be put back: so');
    expect(world.state.waves[0]).toMatchObject({ broken: 0, ended: { skipped: 1 } });
  });
});

describe('a person who has a run taken back', () => {
  it('has one rung tried after the other, also where the plan climbs none by itself', () => {
    const both = { ...nineSteps(), recovery: ['other-slot', 'earlier-image'] as const };
    const world = started({ gate, each: [{ passage: passage(undefined, both, true) }] });
    upTo(world, 'checks');
    failed(world, 'settings-changed');
    expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'failed' });
    world.happen({ kind: 'take-back-asked', at: world.now, run: 'd1', by: person });
    world.settle();
    const { rungs } = world.plan.passages[0]!;
    expect(rungs[world.state.runs[0]!.rung!]!.means).toBe('other-slot');
    failed(world, 'settings-changed');
    expect(world.state.runs[0]!.tried).toHaveLength(1);
    expect(rungs[world.state.runs[0]!.rung!]!.means).toBe('earlier-image');
  });
});

describe('who is armed', () => {
  const armed = (over: object = {}) => ({ passage: passage(undefined, atItsHour(nineSteps())), ...over });
  const toItsHour = (world: World): void => {
    for (let n = 0; n < 9 && !['armed', 'ended'].includes(world.state.runs[0]!.phase); n++) {
      if (namedAt(world.state, 0).step === 'confirm-next-boot') break;
      done(world);
    }
  };

  it('is due at the hour itself when it is armed in that moment', () => {
    const world = started({ each: [armed({ window: hours })] });
    toItsHour(world);
    const [hour] = hours.window.hours!.filter((h) => h > world.now);
    world.now = hour!;
    done(world);
    expect(world.state.runs[0]).toMatchObject({ phase: 'busy' });
    expect(world.journal.findLast((e) => e.kind === 'step-begun')).toMatchObject({ step: 'return', at: hour });
  });

  it('is due at once where nobody knows its hour', () => {
    const plan = planOf({ devices: 1, first: 0, each: [armed()] });
    expect(plan.windows).toBeUndefined();
    const world = new World({ ...plan, windows: { other: hours.window } });
    world.settle();
    toItsHour(world);
    const where = namedAt(world.state, 0);
    const next = apply(world.state, { kind: 'step-done', at: 4242, run: 'd1', ...where } as RolloutEvent);
    expect(next.runs[0]).toMatchObject({ phase: 'armed', dueAt: 4242 });
  });
});

describe('legs and needs', () => {
  it('has no leg after the last one, whether or not something may mend it', () => {
    const skip = (leg: number): RolloutEvent => ({ kind: 'leg-skipped', at: 0, run: 'd1', leg, reason: '' });
    const bare = started({ each: [{ passage: passage(['1', '2'], { ...nineSteps(), recovery: [] }) }] });
    expect(check(bare.state, skip(0))).toBe('there is no leg after it');
    const mended = started({ each: [{ passage: passage(['1', '2'], nineSteps(), true) }] });
    expect(check(mended.state, skip(0))).toBe('there is no leg after it');
    const two = started({ each: [{ passage: passage(['1', '2', '3'], { ...nineSteps(), recovery: [] }) }] });
    expect(check(two.state, skip(0))).toBeNull();
  });

  it('strands nobody who has ended already', () => {
    const world = started({ devices: 3, atOnce: 1, gate, each: [{ site: 'a' }, { site: 'a', needs: [{ leg: 0, device: 'd1' }] }] });
    world.happen({ kind: 'skip-asked', at: world.now, run: 'd2', by: person, reason: '' });
    world.settle();
    failed(world, 'image-damaged');
    expect(world.state.runs[1]!.outcome).toBe('skipped');
    expect([...world.state.stranded]).toEqual([]);
  });
});
