import { describe, expect, it } from 'vitest';
import { checkWord, darkWith, legAt, legSteps, whyWaiting, type RolloutEvent } from '@barrow/core';
import { namedAt } from './full-scan.js';
import { nineSteps, passage, planOf } from './plans.js';
import { World } from './world.js';

const started = (shape: Parameters<typeof planOf>[0] = {}): World => {
  const world = new World(planOf({ devices: 1, first: 0, wayBack: true, ...shape }));
  world.settle();
  return world;
};
const run = (world: World, index = 0) => world.state.runs[index]!;
const done = (world: World, id = 'd1'): void => {
  world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
  world.settle();
};
/** Goes well up to a step, and then fails there. */
const failAt = (world: World, step: string, cause: string, id = 'd1'): void => {
  const index = world.state.indexOf.get(id)!;
  for (let n = 0; n < 20 && namedAt(world.state, index).step !== step; n++) done(world, id);
  world.happen({ kind: 'step-failed', at: world.now, run: id, ...namedAt(world.state, index), cause, detail: `${cause} it was` });
  world.settle();
};
const takeBack = (id = 'd1', more: { cutsOff?: true } = {}): RolloutEvent => ({
  kind: 'take-back-asked',
  at: 0,
  run: id,
  by: 'somebody',
  ...more,
});

describe('a passage with a way back', () => {
  const full = passage(['4.2.1', '4.3.0', '5.0.0'], nineSteps(), true);
  it('has after its legs the steps of its rungs, which bring back what the leg came from', () => {
    expect(full.rungs.map((r) => [r.means, r.leg, r.takes?.to ?? null])).toEqual([
      ['wait', 0, null],
      ['other-slot', 0, '4.2.1'],
      ['earlier-image', 0, '4.2.1'],
      ['wait', 1, null],
      ['other-slot', 1, '4.3.0'],
      ['earlier-image', 1, '4.3.0'],
    ]);
    expect(legSteps(full)).toBe(18);
    for (const rung of full.rungs) {
      const steps = full.steps.slice(rung.step, full.stretches[rung.stretch]!.to);
      if (rung.means === 'wait') expect(steps[0]).toMatchObject({ step: 'return', leg: rung.leg });
      else expect(steps.every((s) => s.pastReturn && s.leg === steps[0]!.leg)).toBe(true);
      expect(steps.at(-1)!.step).toBe('checks');
    }
    const plan = planOf({ devices: 1, each: [{ passage: full }] });
    const [planned] = plan.runs;
    expect([2, 3, 4, 5].map((leg) => [legAt(plan, planned!, leg).to, legAt(plan, planned!, leg).image[0]])).toEqual([
      ['4.2.1', 'a'],
      ['4.2.1', '0'],
      ['4.3.0', 'b'],
      ['4.3.0', '1'],
    ]);
  });
  it('brings nothing back by an image that the store does not have, nor by steps that its way does not know', () => {
    expect(passage().rungs.map((r) => r.means)).toEqual(['wait', 'other-slot']);
    const restartsItself = {
      ...nineSteps('transfer'),
      stretches: [
        {
          name: 'all',
          steps: [
            { step: 'preflight', usualMs: 1 },
            { step: 'transfer', usualMs: 1, traits: { down: true } },
            { step: 'return', usualMs: 1 },
            { step: 'checks', usualMs: 1 },
          ],
        },
      ],
      recovery: ['wait', 'earlier-image'] as const,
    };
    const made = passage(['1', '2'], restartsItself, true);
    expect(made.steps.slice(legSteps(made)).map((s) => [s.step, s.down])).toEqual([
      ['take-stock', false],
      ['transfer', true],
      ['return', true],
      ['checks', false],
    ]);
  });
});

describe('a device whose power can be cut', () => {
  const powered = passage(['4.2.1', '4.3.0', '5.0.0'], nineSteps(), false, true, true);
  const each = [{ passage: powered, power: { device: 'd9', name: 'strip', outlet: 'outlet 3' } }];

  it('has steps for that which stand for the end of its leg, and bring nothing back', () => {
    const [waits, cut] = powered.rungs;
    expect(waits!.means).toBe('wait');
    expect(cut).toMatchObject({ means: 'power-cycle', leg: 0, joins: 9 });
    const { from, to } = powered.stretches[cut!.stretch]!;
    expect(powered.steps.slice(from, to).map((s) => [s.step, s.leg, s.down, s.pastReturn])).toEqual([
      ['cut-power', 0, true, true],
      ['give-power', 0, true, true],
      ['return', 0, true, true],
      ['checks', 0, false, true],
    ]);
    expect(legSteps(powered)).toBe(20);
    const none = passage(['4.2.1', '4.3.0'], nineSteps(), false, true);
    expect(none.rungs.map((r) => r.means)).toEqual(['wait', 'other-slot']);
  });

  it('goes on with its next image when it came back by that, and soaks after the last', () => {
    const world = started({ each });
    for (const leg of [0, 1]) {
      failAt(world, 'return', 'never-returned');
      failAt(world, 'return', 'never-returned');
      expect(namedAt(world.state, 0)).toEqual({ step: 'cut-power', ...(leg === 0 ? {} : { leg }) });
      expect(run(world)).toMatchObject({ phase: 'busy', cause: 'never-returned' });
      for (let n = 0; n < 4; n++) done(world);
      expect(run(world)).toMatchObject({ legs: leg + 1, rung: null, cause: null });
    }
    expect(run(world)).toMatchObject({ phase: 'parked', met: true });
    expect(namedAt(world.state, 0)).toEqual({ step: 'settle', leg: 1 });
    expect(world.state.waves[0]!.broken).toBe(0);
  });

  it('ends where its way ends when that was its last image', () => {
    const world = started({ each: [{ ...each[0], passage: passage(undefined, nineSteps(), false, false, true) }] });
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    for (let n = 0; n < 4; n++) done(world);
    expect(run(world)).toMatchObject({
      phase: 'ended',
      outcome: 'verified',
      step: 8,
      stretch: 2,
      rung: null,
      failedStep: null,
      claims: null,
    });
  });

  it('is taken back by its other slot when that brought it up on what it ran before, and never cut off while it answers', () => {
    const world = started({ each });
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    failAt(world, 'checks', 'old-version');
    expect(run(world)).toMatchObject({ phase: 'busy', tried: [{ rung: 0 }, { rung: 1, step: 'checks', cause: 'old-version' }] });
    expect(namedAt(world.state, 0).step).toBe('take-stock');
    for (const cause of ['locked-out', 'settings-changed']) {
      const other = started({ each });
      failAt(other, cause === 'locked-out' ? 'return' : 'checks', cause);
      expect(namedAt(other.state, 0).step, cause).toBe(cause === 'locked-out' ? 'return' : 'take-stock');
      if (cause !== 'locked-out') continue;
      // It is waited for once more, and that is all.
      failAt(other, 'return', cause);
      expect(run(other)).toMatchObject({ phase: 'ended', outcome: 'failed', cause });
    }
  });

  it('is told first to be dark by our doing, when its power could not be given again', () => {
    const world = started({ each });
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    failAt(world, 'give-power', 'power-left-off');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'power-left-off', detail: 'power-left-off it was' });
    expect(run(world).tried.map((t) => t.cause)).toEqual(['never-returned', 'power-left-off']);
  });

  it('keeps what it hangs on from going down until its power is back, and is not left in between', () => {
    const world = started({ each: [{ ...each[0], under: ['d1', 'd9'] }] });
    failAt(world, 'return', 'never-returned');
    failAt(world, 'return', 'never-returned');
    expect(world.ledger.holdersOf('up:d9')).toHaveLength(1);
    world.happen({ kind: 'service-stopping', at: world.now });
    done(world);
    expect(namedAt(world.state, 0).step).toBe('give-power');
    expect(run(world).phase).toBe('busy');
    done(world);
    expect(run(world).phase).toBe('ready');
  });
});

describe('a device whose power others share', () => {
  const shared = passage(['4.2.1', '4.3.0'], nineSteps(), false, false, 'cuts-off');
  const outlet = (other: string) => ({ device: 'd9', name: 'strip', outlet: 'outlet 3', others: [{ device: other, name: `sw-${other}` }] });
  const each = [{ site: 'a', passage: shared, power: outlet('d2') }, { site: 'a', passage: shared, power: outlet('d1') }, { site: 'a' }];
  const gate = { soakMs: 0, failureLimit: 9, approval: false };
  const failed = (...ids: string[]): World => {
    const world = started({ devices: 3, atOnce: 2, each, gate });
    // Twice: it is waited for once more.
    for (const id of ids.flatMap((one) => [one, one])) failAt(world, 'return', 'never-returned', id);
    return world;
  };
  const mayCutOff = { cutsOff: true } as const;

  it('is not cut off from it until a person says that they may go dark', () => {
    const world = failed('d1');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'never-returned', tried: [{ rung: 0 }] });
    expect(darkWith(world.state, 0)).toEqual([{ device: 'd2', name: 'sw-d2' }]);
    expect(darkWith(world.state, 1)).toBeNull();
    // Without that word it is waited for once more, and that is all.
    world.happen(takeBack());
    for (const id of ['d2', 'd3']) world.happen({ kind: 'run-skipped', at: world.now, run: id, by: 'somebody', reason: 'room for it' });
    world.settle();
    failAt(world, 'return', 'never-returned');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', mayCutOff: false });
  });

  it('is, with that word, when nothing of theirs is being written', () => {
    const world = failed('d1');
    expect(namedAt(world.state, 1).step).toBe('preflight');
    expect(checkWord(world.state, takeBack('d1', mayCutOff))).toBe('sw-d2, which would lose its power with it, is in hand');
    world.happen({ kind: 'step-failed', at: world.now, run: 'd2', step: 'preflight', cause: 'login-refused', detail: '' });
    world.settle();
    world.happen(takeBack('d1', mayCutOff));
    world.settle();
    failAt(world, 'return', 'never-returned');
    expect(namedAt(world.state, 0).step).toBe('cut-power');
    expect(world.ledger.holdersOf('up:d2')).toEqual([{ rollout: world.state.plan.id, run: 'd1' }]);
    for (let n = 0; n < 4; n++) done(world);
    expect(run(world)).toMatchObject({ outcome: 'verified', mayCutOff: false });
  });

  it('waits for who may still be writing, and names it; two are not taken back with the power of each other', () => {
    const world = failed('d1', 'd2');
    world.happen(takeBack('d1', mayCutOff));
    world.settle();
    expect(checkWord(world.state, takeBack('d2', mayCutOff))).toBe('sw-d1, which would lose its power with it, is in hand');
    failAt(world, 'return', 'never-returned');
    expect(run(world).phase).toBe('broken');
    expect(whyWaiting(world.state, 0, world.ledger, () => 'sw-d2')?.text).toBe('waits for sw-d2, which would lose power with it');
    world.happen({ kind: 'run-released', at: world.now, run: 'd2', by: 'somebody', reason: 'it is dark' });
    world.settle();
    expect(namedAt(world.state, 0).step).toBe('cut-power');
  });

  it('says why it cannot be taken back without that word', () => {
    const only = { ...nineSteps(), recovery: ['power-cycle'] as const };
    const world = started({ each: [{ passage: passage(undefined, only, false, false, 'cuts-off'), power: outlet('d7') }] });
    failAt(world, 'return', 'never-returned');
    expect(checkWord(world.state, takeBack())).toBe(
      'sw-1 could only be started anew by cutting its power, and sw-d7 would lose theirs with it: that has to be accepted',
    );
    expect(checkWord(world.state, takeBack('d1', mayCutOff))).toBeNull();
    // Of who answers the power is not cut, whatever is accepted.
    const other = started({ each: [{ passage: shared, power: outlet('d7') }], wayBack: false });
    failAt(other, 'return', 'locked-out');
    expect(darkWith(other.state, 0)).toBeNull();
  });
});

describe('a device that fails past its point of no return', () => {
  it('is taken back at once where the plan says so, counts as failed from the first moment, and ends recovered', () => {
    const world = started({ devices: 3, first: 1, each: [{ site: 'a' }] });
    failAt(world, 'checks', 'settings-changed');
    expect(world.state).toMatchObject({ phase: 'held', heldBy: 'Barrow', heldBecause: expect.stringContaining('1 failed in wave 1') });
    expect(run(world)).toMatchObject({ phase: 'busy', rung: 1, cause: 'settings-changed', failedStep: 8, outcome: null });
    expect(namedAt(world.state, 0)).toEqual({ step: 'take-stock', leg: 1 });
    expect(world.state.waves[0]).toMatchObject({ active: 1, broken: 1 });
    for (let n = 0; n < 6; n++) done(world);
    expect(run(world)).toMatchObject({
      phase: 'ended',
      outcome: 'recovered',
      cause: 'settings-changed',
      tried: [],
      rung: null,
      claims: null,
    });
    expect(world.state.waves[0]).toMatchObject({ active: 0, broken: 0, ended: { recovered: 1, failed: 0 } });
    // It is where it was, and the wave has proven nothing.
    expect(world.state.phase).toBe('held');
    expect(run(world, 1).phase).toBe('waiting');
  });

  it('keeps what it guards until it is good again, and gives its place to others', () => {
    const each = [{ site: 'a', rings: ['a'] }, { site: 'a' }];
    const world = started({ devices: 2, atOnce: 1, perSite: 1, each, gate: { soakMs: 0, failureLimit: 3, approval: false } });
    for (let n = 0; n < 8; n++) done(world);
    world.happen({ kind: 'held', at: world.now, by: 'somebody', reason: 'a word' });
    failAt(world, 'checks', 'settings-changed');
    expect(run(world)).toMatchObject({ phase: 'broken', rung: 1 });
    const own = { rollout: 'r-test', run: 'd1' };
    for (const key of ['device:d1', 'up:d1', 'ring:a']) expect(world.ledger.holdersOf(key), key).toEqual([own]);
    for (const key of ['rollout:r-test', 'site:a']) expect(world.ledger.holdersOf(key), key).toEqual([]);
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    // Who is broken goes before who has not begun.
    expect([run(world).phase, run(world, 1).phase]).toEqual(['busy', 'waiting']);
  });

  it('is waited for once more when it is not back in time, and is verified when it comes', () => {
    const world = started();
    failAt(world, 'return', 'never-returned');
    expect(run(world)).toMatchObject({ phase: 'busy', rung: 0, cause: 'never-returned' });
    expect(namedAt(world.state, 0)).toEqual({ step: 'return' });
    done(world);
    done(world);
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'verified', cause: null, detail: null, rung: null, failedStep: null });
    expect(world.state.waves[0]).toMatchObject({ broken: 0, ended: { verified: 1 } });
  });

  it('holds those beside it, also when it came back after all; and nobody when it is the last', () => {
    const world = started({ devices: 2, each: [{ site: 'a' }] });
    failAt(world, 'return', 'never-returned');
    expect(world.state.phase).toBe('held');
    done(world);
    done(world);
    expect(run(world).outcome).toBe('verified');
    expect(world.state.phase).toBe('held');
    for (let n = 0; n < 20 && run(world, 1).phase === 'busy'; n++) done(world, 'd2');
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    for (let n = 0; n < 20 && run(world, 1).phase === 'busy'; n++) done(world, 'd2');
    expect(world.state.phase).toBe('ended');
    const alone = started();
    failAt(alone, 'return', 'never-returned');
    expect(alone.state.phase).toBe('running');
  });

  it('is not taken by itself where nobody has seen the family work, and is when a person says so', () => {
    const world = started({ each: [{ unproven: true }] });
    failAt(world, 'checks', 'settings-changed');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', rung: null });
    world.happen(takeBack());
    world.settle();
    expect(run(world)).toMatchObject({ phase: 'busy', rung: 1 });
    // What was proven is taken back at once.
    const proven = started({ each: [{}] });
    failAt(proven, 'checks', 'settings-changed');
    expect(run(proven)).toMatchObject({ phase: 'busy', rung: 1 });
  });

  it('lets its rollout end by itself when everybody has ended while Barrow held it', () => {
    const world = started({ devices: 2, each: [{ site: 'a' }], wayBack: false });
    for (let n = 0; n < 8; n++) for (const id of ['d1', 'd2']) done(world, id);
    failAt(world, 'checks', 'settings-changed');
    expect(world.state.phase).toBe('held');
    failAt(world, 'checks', 'settings-changed', 'd2');
    expect(world.journal.slice(-5).map((e) => e.kind)).toEqual(['step-failed', 'continued', 'wave-ended', 'gate-passed', 'rollout-ended']);
  });

  it('goes on with its next image after it was waited for', () => {
    const world = started({ each: [{ passage: passage(['4.2.1', '4.3.0', '5.0.0']) }] });
    failAt(world, 'return', 'never-returned');
    done(world);
    done(world);
    expect(run(world)).toMatchObject({ phase: 'busy', legs: 1, rung: null, cause: null, pastReturn: false });
    expect(world.state.waves[0]!.broken).toBe(0);
    // The second leg has rungs of its own.
    failAt(world, 'checks', 'settings-changed');
    expect(run(world)).toMatchObject({ rung: 3 });
    for (let n = 0; n < 6; n++) done(world);
    expect(run(world)).toMatchObject({ outcome: 'recovered', legs: 1 });
  });

  it('is not asked to log in again when nobody answers, or somebody else does', () => {
    for (const cause of ['never-returned', 'host-key-changed', 'login-refused', 'another-device']) {
      const world = started({ devices: 2, each: [{ site: 'a' }] });
      failAt(world, 'return', cause);
      if (cause === 'never-returned') {
        world.happen({ kind: 'step-failed', at: world.now, run: 'd1', ...namedAt(world.state, 0), cause, detail: 'still not' });
        world.settle();
        expect(run(world).tried).toMatchObject([{ rung: 0, step: 'return', cause }]);
      }
      expect(run(world), cause).toMatchObject({ phase: 'ended', outcome: 'failed', cause });
      // Nobody knows how it is: what it hangs on stays up.
      if (cause === 'never-returned') expect(run(world).claims).not.toBeNull();
    }
  });

  it('is tried by the next rung when one fails, and fails with all that was tried', () => {
    const world = started({ each: [{ passage: passage(undefined, nineSteps(), true) }] });
    failAt(world, 'checks', 'settings-changed');
    failAt(world, 'fall-back', 'nothing-to-go-back-to');
    expect(run(world)).toMatchObject({ phase: 'busy', rung: 2, cause: 'settings-changed' });
    expect(namedAt(world.state, 0)).toEqual({ step: 'take-stock', leg: 2 });
    failAt(world, 'transfer', 'never-asked');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'settings-changed', failedStep: 8 });
    expect(run(world).tried).toMatchObject([
      { rung: 1, step: 'fall-back', cause: 'nothing-to-go-back-to' },
      { rung: 2, step: 'transfer', cause: 'never-asked' },
    ]);
  });

  it('has failed, also where the rung that is tried last does not get to touch it', () => {
    const world = started({ each: [{ passage: passage(undefined, nineSteps(), true) }] });
    failAt(world, 'checks', 'settings-changed');
    failAt(world, 'fall-back', 'nothing-to-go-back-to');
    failAt(world, 'take-stock', 'device-busy');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'settings-changed' });
  });

  it('is not taken back while a person holds the rollout, and says that it waits', () => {
    const world = started();
    world.happen({ kind: 'held', at: world.now, by: 'somebody', reason: 'a word' });
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    for (let n = 0; n < 8; n++) done(world);
    world.happen({ kind: 'held', at: world.now, by: 'somebody', reason: 'a word' });
    failAt(world, 'checks', 'settings-changed');
    expect(run(world).phase).toBe('broken');
    expect(whyWaiting(world.state, 0, world.ledger, (h) => h.run)?.text).toBe('waits: the rollout is held');
    expect(checkWord(world.state, { kind: 'skip-asked', at: 0, run: 'd1', by: '', reason: '' })).toMatch(/past its point of no return/);
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(run(world).phase).toBe('busy');
  });

  it('waits for who hangs on it, and says for whom', () => {
    const each = [{}, { under: ['d2', 'd1'] }];
    const gate = { soakMs: 0, failureLimit: 9, approval: false };
    const plan = planOf({ devices: 2, first: 0, wayBack: false, atOnce: 1, each: each.map((e) => ({ ...e, site: 'a' })), gate });
    // A plan would have the leaf go first.
    expect(plan.runs.map((r) => r.id)).toEqual(['d2', 'd1']);
    const world = new World({ ...plan, runs: [...plan.runs].reverse() });
    world.settle();
    failAt(world, 'checks', 'settings-changed');
    expect(run(world)).toMatchObject({ phase: 'ended', claims: null });
    for (let n = 0; n < 2; n++) done(world, 'd2');
    expect(namedAt(world.state, 1).step).toBe('transfer');
    world.happen(takeBack());
    world.settle();
    expect(run(world).phase).toBe('broken');
    expect(whyWaiting(world.state, 0, world.ledger, (h) => h.run)?.text).toBe(
      'waits for d2: it hangs on this device, and must not lose it now',
    );
    for (let n = 0; n < 2; n++) done(world, 'd2');
    expect(run(world).phase).toBe('busy');
  });

  it('is given up when the rollout is stopped, unless it is being taken back already', () => {
    const world = started({ devices: 2 });
    for (let n = 0; n < 8; n++) for (const id of ['d1', 'd2']) done(world, id);
    world.happen({ kind: 'held', at: world.now, by: 'somebody', reason: 'a word' });
    failAt(world, 'checks', 'settings-changed');
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    world.happen({ kind: 'held', at: world.now, by: 'somebody', reason: 'a word' });
    failAt(world, 'checks', 'settings-changed', 'd2');
    world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
    world.settle();
    expect(run(world, 1)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'settings-changed' });
    expect(run(world, 0).phase).toBe('busy');
    for (let n = 0; n < 6; n++) done(world);
    expect(run(world, 0).outcome).toBe('recovered');
    expect(world.state.phase).toBe('ended');
  });

  it('goes on being taken back after a restart of the service, which asks whether it has restarted', () => {
    const world = started();
    failAt(world, 'checks', 'settings-changed');
    for (let n = 0; n < 3; n++) done(world);
    expect(namedAt(world.state, 0)).toEqual({ step: 'reboot', leg: 1 });
    world.happen({ kind: 'service-started', at: world.now });
    world.settle();
    expect(run(world).phase).toBe('asking');
    world.happen({ kind: 'reconciled', at: world.now, run: 'd1', ...namedAt(world.state, 0), truth: 'done', detail: 'asked' });
    world.settle();
    expect(namedAt(world.state, 0)).toEqual({ step: 'return', leg: 1 });
  });
});

describe('a person has who failed taken back', () => {
  it('also after the rollout has ended, which it opens again; and what was taken back can be retried', () => {
    const world = started({ wayBack: false });
    failAt(world, 'checks', 'settings-changed');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', tried: [] });
    expect(world.state.phase).toBe('ended');
    world.happen(takeBack());
    world.settle();
    expect(world.state.phase).toBe('running');
    expect(run(world)).toMatchObject({ phase: 'busy', rung: 1, cause: 'settings-changed' });
    expect(world.state.waves[0]).toMatchObject({ active: 1, broken: 1, ended: { failed: 0 } });
    for (let n = 0; n < 6; n++) done(world);
    expect(run(world)).toMatchObject({ outcome: 'recovered' });
    expect(world.state.phase).toBe('ended');
    expect(checkWord(world.state, takeBack())).toBe('sw-1 has ended recovered: there is nothing to take back');
    world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
    world.settle();
    expect(run(world)).toMatchObject({ phase: 'busy', step: 0, outcome: null, cause: null, failedStep: null });
  });

  it('only where something can be', () => {
    const early = started();
    expect(checkWord(early.state, takeBack())).toMatch(/sw-1 is in the middle of a step/);
    failAt(early, 'backup', 'unexpected-answer');
    expect(checkWord(early.state, takeBack())).toBe('sw-1 failed before it was changed: there is nothing to take back');
    const lost = started({ wayBack: false });
    failAt(lost, 'return', 'host-key-changed');
    expect(checkWord(lost.state, takeBack())).toBe('after this failure sw-1 has no way back that Barrow could try');
  });

  describe('who failed after it was changed, and again when it was begun anew,', () => {
    const retried = (settings: Parameters<typeof started>[0] = {}): World => {
      const world = started({ wayBack: false, ...settings });
      failAt(world, 'checks', 'ports-down');
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      expect(run(world)).toMatchObject({ phase: 'busy', step: 0, pastReturn: false, changed: true });
      return world;
    };

    it('can still be taken back, by the rungs that a failure after its change would have had, however often it is begun anew', () => {
      const world = retried();
      failAt(world, 'preflight', 'ports-down');
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      failAt(world, 'preflight', 'ports-down');
      expect(run(world)).toMatchObject({ outcome: 'failed', cause: 'ports-down', claims: null });
      world.happen(takeBack());
      world.settle();
      expect(run(world)).toMatchObject({ phase: 'busy', rung: 1, pastReturn: true });
      world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
      world.settle();
      // What has begun is not left in the middle.
      for (let n = 0; n < 6; n++) done(world);
      expect(run(world)).toMatchObject({ outcome: 'recovered' });
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      expect(run(world)).toMatchObject({ changed: false });
    });

    it('is one that never returned, where it is not there then, and not one that was never begun', () => {
      const world = retried();
      failAt(world, 'preflight', 'unreachable');
      expect(run(world)).toMatchObject({ outcome: 'failed', cause: 'unreachable' });
      world.happen(takeBack());
      expect(run(world)).toMatchObject({ phase: 'broken', rung: 0 });
    });

    it('has nothing to be taken back once it was found as it was before', () => {
      const world = retried();
      done(world);
      failAt(world, 'backup', 'unexpected-answer');
      expect(run(world)).toMatchObject({ outcome: 'failed', changed: false });
      expect(checkWord(world.state, takeBack())).toBe('sw-1 failed before it was changed: there is nothing to take back');
    });

    it('is told to have been changed where it is left out, or is stopped before it was looked at', () => {
      const world = retried();
      world.happen({ kind: 'skip-asked', at: world.now, run: 'd1', by: 'somebody', reason: 'not today' });
      failAt(world, 'preflight', 'login-refused');
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
      world.settle();
      expect(run(world)).toMatchObject({ outcome: 'withdrawn', detail: 'stopped before it began; an earlier attempt had changed it' });
    });

    it('is not waited for as one that was never begun, and is a failure where it was in a journal of before', () => {
      const world = retried();
      world.happen({ kind: 'run-absent', at: world.now, run: 'd1', cause: 'unreachable', detail: '' });
      world.happen({ kind: 'run-missed', at: world.now, run: 'd1' });
      expect(run(world)).toMatchObject({ outcome: 'failed' });
    });
  });

  it('and it fails in the same way as it would have at once, when that fails too', () => {
    const world = started({ wayBack: false });
    failAt(world, 'checks', 'settings-changed');
    world.happen(takeBack());
    world.settle();
    failAt(world, 'reboot', 'reboot-not-begun');
    expect(run(world)).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'settings-changed' });
    expect(run(world).tried).toMatchObject([{ step: 'reboot', cause: 'reboot-not-begun' }]);
  });

  it('that others wait for is waited for again when it is taken back by a word', () => {
    const world = started({
      devices: 2,
      wayBack: false,
      atOnce: 2,
      gate: { soakMs: 0, failureLimit: 1, approval: false },
      each: [{}, { needs: [{ leg: 0, device: 'd1' }] }],
    });
    // Held for the failure: who needs it is not ended yet.
    failAt(world, 'checks', 'settings-changed');
    expect([run(world).outcome, run(world, 1).phase, world.state.phase]).toEqual(['failed', 'waiting', 'held']);
    world.happen(takeBack());
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(run(world, 1)).toMatchObject({ phase: 'waiting', outcome: null });
    expect(whyWaiting(world.state, 1, world.ledger, (h) => h.run)?.text).toBe('waits for sw-1, which has to be done first');
  });
});
