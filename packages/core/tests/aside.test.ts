import { describe, expect, it } from 'vitest';
import { checkWord, entriesBefore, legSteps, opensAt, spansOf, whyWaiting } from '@barrow/core';
import { namedAt } from './full-scan.js';
import { atItsHour, hours, nineSteps, passage, planOf, withSides } from './plans.js';
import { World } from './world.js';

const minute = 60_000;
const started = (shape: Parameters<typeof planOf>[0] = {}): World => {
  const world = new World(planOf({ devices: 1, first: 0, ...shape }));
  world.settle();
  return world;
};
const run = (world: World, index = 0) => world.state.runs[index]!;
const step = (world: World, index = 0): string => namedAt(world.state, index).step;
const done = (world: World, id = 'd1'): void => {
  world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
  world.settle();
};
const upTo = (world: World, name: string): void => {
  for (let n = 0; n < 30 && step(world) !== name; n++) done(world);
};
const fail = (world: World, cause = 'settings-changed'): void => {
  world.happen({ kind: 'step-failed', at: world.now, run: 'd1', ...namedAt(world.state, 0), cause, detail: 'so it was' });
  world.settle();
};

describe('what is set aside for the time of a change', () => {
  const sides = [{ passage: passage(['4.2.1', '4.3.0'], withSides(nineSteps()), true) }];
  const guardsOf = (world: World): string[] => (run(world).claims ?? []).map((c) => c.key);

  it('is put back by a step of its own, after all others, that nobody comes to who puts it back on the way', () => {
    const [{ passage: one }] = sides as [(typeof sides)[0]];
    expect(one.stretches.at(-1)).toMatchObject({ name: 'put-back', putsBack: true, to: one.steps.length });
    expect(one.putBack).toEqual({ stretch: one.stretches.length - 1, step: one.steps.length - 1 });
    expect(one.steps[legSteps(one) - 1]!.step).toBe('put-back');
    const world = started({ each: sides });
    world.finish();
    expect(run(world)).toMatchObject({ outcome: 'verified', owes: false, ending: null });
    expect(world.journal.filter((e) => e.kind === 'step-begun' && e.step === 'put-back')).toHaveLength(1);
  });

  it('is not put back when it was not set aside yet', () => {
    const world = started({ each: sides });
    upTo(world, 'verify-image');
    fail(world, 'image-damaged');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', owes: false });
    expect(world.journal.some((e) => 'step' in e && e.step === 'put-back')).toBe(false);
  });

  it('is put back before a failure counts as the end of the run, and the failure holds the rollout at once', () => {
    const world = started({ devices: 2, atOnce: 1, each: [{ ...sides[0]!, site: 'a' }, { site: 'a' }] });
    upTo(world, 'reboot');
    fail(world, 'reboot-not-begun');
    expect(step(world)).toBe('put-back');
    expect(run(world)).toMatchObject({ phase: 'busy', outcome: null, ending: { outcome: 'failed', counted: true } });
    expect(world.state.heldBecause).toBe('1 failed in wave 1 (all); the limit is 1');
    // It takes no place, and goes on guarding what it may be down or writing with.
    expect(guardsOf(world)).toEqual(['device:d1', 'up:d1']);
    done(world);
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'reboot-not-begun', detail: 'so it was' });
    expect(step(world)).toBe('reboot');
    expect(guardsOf(world)).toEqual(['up:d1']);
    expect(world.state.waves[0]).toMatchObject({ broken: 0, ended: { failed: 1 } });
  });

  it('is put back after a rung led back, and after none did', () => {
    for (const good of [true, false]) {
      const world = started({ each: sides, wayBack: true });
      upTo(world, 'checks');
      fail(world);
      while (run(world).rung !== null && !run(world).ending) {
        if (good) done(world);
        else fail(world);
      }
      expect(step(world)).toBe('put-back');
      done(world);
      expect(run(world)).toMatchObject({ outcome: good ? 'recovered' : 'failed', owes: false });
    }
  });

  it('is left to nobody: who is to be left out, or is in a rollout that is stopped, has it put back first', () => {
    const skipped = started({ each: sides });
    upTo(skipped, 'set-aside');
    skipped.happen({ kind: 'skip-asked', at: 0, run: 'd1', by: 'somebody', reason: 'another day' });
    done(skipped);
    expect([step(skipped), run(skipped).phase]).toEqual(['put-back', 'busy']);
    expect(checkWord(skipped.state, { kind: 'run-retried', at: 0, run: 'd1', by: 'x' })).toBe('sw-1 is in the middle of a step');
    done(skipped);
    expect(run(skipped)).toMatchObject({ outcome: 'skipped', detail: 'another day' });

    const stopped = started({ each: sides });
    upTo(stopped, 'set-aside');
    stopped.happen({ kind: 'stop-asked', at: 0, by: 'somebody' });
    done(stopped);
    expect([step(stopped), stopped.state.phase]).toEqual(['put-back', 'stopping']);
    // A kill in the middle of it: it does no harm to say it twice.
    stopped.happen({ kind: 'service-started', at: 0 });
    stopped.settle();
    expect(run(stopped).phase).toBe('busy');
    done(stopped);
    expect([run(stopped).outcome, stopped.state.phase]).toEqual(['withdrawn', 'ended']);
  });

  it('is said to remain when it cannot be put back, and is set aside anew with a retry', () => {
    const world = started({ each: sides });
    upTo(world, 'activate');
    fail(world, 'image-refused');
    fail(world, 'unexpected-answer');
    expect(run(world)).toMatchObject({
      outcome: 'failed',
      cause: 'image-refused',
      detail: 'so it was\nwhat was set aside could not be put back: so it was',
      owes: false,
    });
    world.happen({ kind: 'run-retried', at: 0, run: 'd1', by: 'somebody' });
    world.settle();
    world.finish();
    expect(run(world)).toMatchObject({ outcome: 'verified', detail: null });
  });
});

describe('a device that takes an image at an hour of its own', () => {
  const each = [{ passage: passage(['4.2.1', '4.3.0'], atItsHour(nineSteps())), window: hours }];
  const [first] = hours.window.hours!;

  it('is armed until then, with its guards and no place; a hold, a stop and a restart change nothing of that', () => {
    const world = started({ each: [...each, ...each], devices: 2, atOnce: 1 });
    upTo(world, 'return');
    expect(run(world)).toMatchObject({ phase: 'armed', dueAt: first, pastReturn: true });
    expect(run(world).claims!.map((c) => c.key)).toEqual(['device:d1', 'up:d1']);
    // The only place is another's now.
    expect(run(world, 1).phase).toBe('busy');
    expect(whyWaiting(world.state, 0, world.ledger, (h) => h.run)).toEqual({
      text: 'is armed: it takes what it holds by itself, at its own hour',
      until: first,
    });
    world.happen({ kind: 'held', at: 0, by: 'somebody', reason: 'a word' });
    world.happen({ kind: 'service-started', at: 0 });
    world.settle();
    expect(run(world).phase).toBe('armed');
    expect(checkWord(world.state, { kind: 'skip-asked', at: 0, run: 'd1', by: 'x', reason: '' })).toBe(
      'sw-1 is armed, and waits for its own hour',
    );
    world.happen({ kind: 'stop-asked', at: 0, by: 'somebody' });
    world.now = first!;
    world.settle();
    expect([run(world).phase, step(world)]).toEqual(['busy', 'return']);
    done(world);
    done(world);
    expect(run(world).outcome).toBe('verified');
  });

  it('is not waited for longer than there are hours', () => {
    const none = { ...hours, window: { ...hours.window, hours: [0] } };
    const world = started({ each: [{ ...each[0]!, window: none }] });
    upTo(world, 'activate');
    done(world);
    done(world);
    expect([run(world).phase, step(world)]).toEqual(['busy', 'return']);
  });

  it('may be begun with only so long before that it is not armed for longer than it must, and where its hour lies in a window', () => {
    const day = { zone: 'Europe/London', days: [], from: 3 * 60 + 30, to: 3 * 60 + 31 };
    const at = (text: string): number => Date.parse(text);
    // The clocks go back on 25 October: that night it comes an hour later.
    const hoursOf = spansOf(day, at('2026-10-23T12:00Z'), at('2026-10-26T12:00Z')).map(([from]) => from);
    const shown = (spans: readonly (readonly [number, number])[]): string[][] =>
      spans.map((span) => span.map((t) => new Date(t).toISOString().slice(5, 16)));
    const needs = { beforeMs: 2 * minute, afterMs: 20 * minute, marginMs: 10 * minute };
    expect(shown(entriesBefore(hoursOf, needs, null))).toEqual([
      ['10-24T02:18', '10-24T02:28'],
      ['10-25T03:18', '10-25T03:28'],
      ['10-26T03:18', '10-26T03:28'],
    ]);
    const window = (from: string, until: string) => [[at(from), at(until)] as const];
    // All of it, from when it is armed on, lies in the window; what follows the hour too.
    expect(shown(entriesBefore(hoursOf, needs, window('2026-10-24T02:20Z', '2026-10-24T04:00Z')))).toEqual([
      ['10-24T02:20', '10-24T02:28'],
    ]);
    expect(entriesBefore(hoursOf, needs, window('2026-10-24T00:00Z', '2026-10-24T02:45Z'))).toEqual([]);
    expect(entriesBefore(hoursOf, needs, window('2026-10-24T02:29Z', '2026-10-24T04:00Z'))).toEqual([]);
    const plan = planOf({ devices: 1, each });
    const [planned] = plan.runs;
    const [[opens, closes]] = hours.window.spans as [readonly [number, number]];
    expect([opens - 1, opens, closes - 1, closes].map((now) => opensAt(plan, planned!, 2, now))).toEqual([
      opens,
      opens,
      closes - 1,
      opens + 7_200_000,
    ]);
    // What is brought before needs no hour.
    expect(opensAt(plan, planned!, 1, 5)).toBe(5);
  });
});
