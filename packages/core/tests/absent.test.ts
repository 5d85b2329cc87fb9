import { describe, expect, it } from 'vitest';
import { check, checkWord, decide, mostAbsences, whyWaiting } from '@barrow/core';
import { namedAt } from './full-scan.js';
import { passage, planOf } from './plans.js';
import { World } from './world.js';

const gate = { soakMs: 60_000, failureLimit: 1, approval: false };
const started = (shape: Parameters<typeof planOf>[0] = {}): World => {
  const world = new World(planOf({ devices: 4, first: 2, atOnce: 4, gate, each: [{ site: 'a' }, { site: 'a' }], ...shape }));
  world.settle();
  return world;
};
const run = (world: World, index = 0) => world.state.runs[index]!;
const absent = (world: World, id = 'd1') =>
  ({ kind: 'run-absent', at: world.now, run: id, cause: 'unreachable', detail: 'no answer' }) as const;
const goes = (world: World, id = 'd1'): void => {
  world.happen(absent(world, id));
  world.settle();
};
const seen = (world: World, id = 'd1'): void => {
  world.happen({ kind: 'run-seen', at: world.now, run: id, detail: 'it answers' });
  world.settle();
};
const done = (world: World, id: string, times = 9): void => {
  for (let n = 0; n < times; n++) {
    world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
    world.settle();
  }
};
const pass = (world: World, ms: number): void => {
  world.now += ms;
  world.settle();
};

describe('a device that is not there when it is to be begun with', () => {
  it('holds nothing, counts in no wave, says why it waits, and keeps nobody from going on', () => {
    const world = started();
    goes(world);
    expect(run(world)).toMatchObject({ phase: 'absent', claims: null, outcome: null, cause: 'unreachable', detail: 'no answer' });
    expect(run(world).absentSince).toBe(world.now);
    expect(world.ledger.holdersOf('device:d1')).toEqual([]);
    expect(world.state.waves[0]).toMatchObject({ phase: 'open', absent: 1, active: 1, waiting: 0 });
    expect(whyWaiting(world.state, 0, world.ledger, (h) => h.run)?.text).toMatch(/^was not there; it goes on as soon as it answers/);
    done(world, 'd2');
    expect(world.state.waves[0]!.phase).toBe('soaking');
    pass(world, gate.soakMs);
    expect(world.state.waves[1]!.phase).toBe('open');
  });

  it('or is not ready then, is asked again, and says so', () => {
    const world = started({ devices: 2, first: 0 });
    world.happen({ ...absent(world), cause: 'device-busy', detail: 'it writes' });
    world.settle();
    expect(run(world)).toMatchObject({ phase: 'absent', cause: 'device-busy' });
    expect(whyWaiting(world.state, 0, world.ledger, (h) => h.run)?.text).toMatch(/^was not ready; it is asked again/);
    seen(world);
    expect(run(world)).toMatchObject({ phase: 'busy', cause: null });
    world.happen({ ...absent(world), cause: 'device-busy', detail: 'it writes' });
    done(world, 'd2');
    expect(run(world)).toMatchObject({ outcome: 'not-begun', cause: 'device-busy', detail: 'it writes' });
  });

  it('goes on in the wave that is open when it is seen', () => {
    const world = started();
    goes(world);
    done(world, 'd2');
    pass(world, gate.soakMs);
    seen(world);
    expect(run(world)).toMatchObject({ phase: 'busy', wave: 1, attempt: 1, cause: null, detail: null, absentSince: null });
    expect(world.state.waves.map((w) => w.absent)).toEqual([0, 0]);
    for (const id of ['d1', 'd3', 'd4']) done(world, id);
    expect(world.state.phase).toBe('ended');
    expect(world.state.runs.map((r) => r.outcome)).toEqual(Array(4).fill('verified'));
  });

  it('opens a wave again that soaks, and soaks with it from the beginning', () => {
    const world = started();
    goes(world);
    done(world, 'd2');
    pass(world, gate.soakMs - 1);
    seen(world);
    expect(world.state.waves[0]).toMatchObject({ phase: 'open', endedAt: null });
    done(world, 'd1');
    pass(world, gate.soakMs - 1);
    expect(world.state.waves[0]!.phase).toBe('soaking');
    pass(world, 1);
    expect(world.state.waves[0]!.phase).toBe('passed');
  });

  it('is not begun when all others have ended and it was not seen, with the reason of then, and can be retried', () => {
    const world = started({ devices: 2, first: 0 });
    goes(world);
    expect(run(world).phase).toBe('absent');
    done(world, 'd2');
    expect(run(world)).toMatchObject({
      phase: 'ended',
      outcome: 'not-begun',
      cause: 'unreachable',
      detail: 'no answer',
      absentSince: null,
    });
    expect(world.state.phase).toBe('ended');
    world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
    world.settle();
    expect(run(world)).toMatchObject({ phase: 'busy', absences: 0, attempt: 2 });
  });

  it('alone is not begun at once: there is nobody to wait beside', () => {
    const world = started({ devices: 1, first: 0 });
    goes(world);
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'not-begun' });
    expect(world.state.phase).toBe('ended');
  });

  it('proves nothing: a first wave of which nobody was there holds', () => {
    const world = started();
    goes(world);
    goes(world, 'd2');
    expect(world.state).toMatchObject({ phase: 'held', heldBecause: expect.stringContaining('proves nothing') as string });
    seen(world);
    expect([world.state.phase, run(world).phase]).toEqual(['held', 'parked']);
  });

  it('may be so a few times, and is not waited for for ever', () => {
    const world = started();
    for (let n = 0; n < mostAbsences; n++) {
      expect(check(world.state, absent(world))).toBeNull();
      goes(world);
      seen(world);
    }
    expect(check(world.state, absent(world))).toBe(`sw-1 was not there ${mostAbsences} times`);
  });

  it('is left out at a word, and withdrawn when the rollout is stopped', () => {
    const world = started();
    goes(world);
    goes(world, 'd2');
    world.happen({ kind: 'skip-asked', at: world.now, run: 'd1', by: 'somebody', reason: 'moved' });
    world.settle();
    expect(run(world)).toMatchObject({ outcome: 'skipped', detail: 'moved' });
    world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
    world.settle();
    expect(run(world, 1)).toMatchObject({ outcome: 'withdrawn', detail: 'stopped before it began' });
    expect(world.state.waves[0]!.absent).toBe(0);
  });

  it('is left out at a word that comes when all others have ended, and not told to be missing as well', () => {
    const world = started({ devices: 2, first: 0, gate: { ...gate, soakMs: 0 } });
    goes(world);
    done(world, 'd2', 8);
    const { now } = world;
    world.happen({ kind: 'skip-asked', at: now, run: 'd1', by: 'somebody', reason: 'moved' });
    world.happen({ kind: 'step-done', at: now, run: 'd2', ...namedAt(world.state, 1) });
    for (const kind of ['wave-ended', 'gate-passed'] as const) world.happen({ kind, at: now, wave: 0 });
    expect(decide(world.state, world.ledger, now)).toEqual([{ kind: 'skip-run', run: 'd1', by: 'somebody', reason: 'moved' }]);
  });

  it('is none that was begun with, that others wait for, or that is not being asked', () => {
    const world = started({ each: [{ site: 'a' }, { site: 'a' }, { needs: [{ leg: 0, device: 'd1' }] }] });
    expect(check(world.state, absent(world))).toBe('others wait for sw-1');
    done(world, 'd2', 1);
    expect(check(world.state, absent(world, 'd2'))).toBe('sw-2 was begun with');
    expect(check(world.state, absent(world, 'd3'))).toBe('sw-3 is waiting for its turn');
    const legs = started({ devices: 1, first: 0, each: [{ passage: passage(['4.2.1', '4.3.0', '5.0.0']) }] });
    done(legs, 'd1');
    expect(namedAt(legs.state, 0)).toEqual({ step: 'preflight', leg: 1 });
    expect(check(legs.state, absent(legs))).toBe('sw-1 was begun with');
    const alone = started({ devices: 2, first: 0 });
    expect(check(alone.state, { ...absent(alone), cause: 'login-refused' })).toBe('login-refused does not pass by itself');
    for (const kind of ['run-seen', 'run-missed'] as const)
      expect(checkWord(world.state, { kind, at: 0, run: 'd2', detail: '' })).toBe('sw-2 is in the middle of a step');
  });
});
