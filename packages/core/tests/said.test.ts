import { describe, expect, it } from 'vitest';
import {
  apply,
  check,
  checkWord,
  decide,
  eventOf,
  ImpossibleEvent,
  initialState,
  Ledger,
  whyWaiting,
  type Command,
  type RolloutEvent,
} from '@barrow/core';
import { namedAt } from './full-scan.js';
import { atItsHour, hours, nineSteps, passage, planOf, withSides } from './plans.js';
import { done, failed, started, takenBack, upTo } from './course.js';
import { World } from './world.js';

const person = 'somebody';
const gate = { soakMs: 0, failureLimit: 9, approval: false };
const skip = (run = 'd1'): RolloutEvent => ({ kind: 'skip-asked', at: 0, run, by: person, reason: 'left out' });
const retry = (run = 'd1'): RolloutEvent => ({ kind: 'run-retried', at: 0, run, by: person });
const takeBack = (run = 'd1'): RolloutEvent => ({ kind: 'take-back-asked', at: 0, run, by: person });
const stop: RolloutEvent = { kind: 'stop-asked', at: 0, by: person };
const release = (run = 'd1'): RolloutEvent => ({ kind: 'run-released', at: 0, run, by: person, reason: 'seen' });

describe('what is decided', () => {
  it('is written down word for word before it is carried out', () => {
    const claims = [{ key: 'device:d1', mode: 'exclusive' }] as const;
    const table: [Command, object | null][] = [
      [
        { kind: 'enter-stretch', run: 'd1', stretch: 2, claims, attempt: 3 },
        { kind: 'stretch-entered', run: 'd1', stretch: 2, claims, attempt: 3 },
      ],
      [
        { kind: 'begin-step', run: 'd1', step: 'backup', attempt: 1 },
        { kind: 'step-begun', run: 'd1', step: 'backup', attempt: 1 },
      ],
      [
        { kind: 'begin-step', run: 'd1', step: 'backup', leg: 1, attempt: 1 },
        { kind: 'step-begun', run: 'd1', step: 'backup', leg: 1, attempt: 1 },
      ],
      [
        { kind: 'reconcile', run: 'd1', step: 'reboot' },
        { kind: 'reconcile-begun', run: 'd1', step: 'reboot' },
      ],
      [
        { kind: 'reconcile', run: 'd1', step: 'reboot', leg: 2 },
        { kind: 'reconcile-begun', run: 'd1', step: 'reboot', leg: 2 },
      ],
      [
        { kind: 'skip-run', run: 'd1', by: person, reason: 'a' },
        { kind: 'run-skipped', run: 'd1', by: person, reason: 'a' },
      ],
      [
        { kind: 'withdraw-run', run: 'd1', reason: 'b' },
        { kind: 'run-withdrawn', run: 'd1', reason: 'b' },
      ],
      [
        { kind: 'give-up', run: 'd1', reason: 'c' },
        { kind: 'run-given-up', run: 'd1', reason: 'c' },
      ],
      [
        { kind: 'end-needless', run: 'd1', need: 'd2', detail: 'd' },
        { kind: 'run-needless', run: 'd1', need: 'd2', detail: 'd' },
      ],
      [
        { kind: 'miss-run', run: 'd1' },
        { kind: 'run-missed', run: 'd1' },
      ],
      [
        { kind: 'open-wave', wave: 1 },
        { kind: 'wave-opened', wave: 1 },
      ],
      [
        { kind: 'end-wave', wave: 1 },
        { kind: 'wave-ended', wave: 1 },
      ],
      [
        { kind: 'end-soak', wave: 1 },
        { kind: 'soak-ended', wave: 1 },
      ],
      [
        { kind: 'pass-gate', wave: 1 },
        { kind: 'gate-passed', wave: 1 },
      ],
      [
        { kind: 'hold', reason: 'e' },
        { kind: 'held', by: 'Barrow', reason: 'e' },
      ],
      [{ kind: 'resume' }, { kind: 'continued', by: 'Barrow' }],
      [{ kind: 'end-rollout' }, { kind: 'rollout-ended' }],
      [{ kind: 'wake', at: 5 }, null],
    ];
    for (const [command, event] of table) expect(eventOf(command, 77), command.kind).toStrictEqual(event && { at: 77, ...event });
  });

  it('is nothing before the start, and after the end', () => {
    const plan = planOf({ devices: 1, first: 0 });
    const before = initialState(plan);
    before.ready.add(0);
    expect(decide(before, new Ledger(), 0)).toEqual([]);
    const world = started();
    world.finish();
    world.state.ready.add(0);
    expect(world.decide()).toEqual([]);
  });

  it('leaves alone who is being asked what is true, and who is taken up while the service ends', () => {
    const world = started();
    upTo(world, 'reboot');
    world.happen({ kind: 'service-stopping', at: world.now });
    world.happen({ kind: 'service-started', at: world.now });
    world.happen({ kind: 'service-stopping', at: world.now });
    expect(world.state.runs[0]!.phase).toBe('lost');
    expect(world.decide()).toEqual([]);
    // Not past its point of no return before it restarts: the wish waits for the answer all the same.
    const other = started({ each: [{ passage: passage(undefined, nineSteps('reboot')) }] });
    upTo(other, 'activate');
    other.happen({ ...skip(), at: other.now });
    expect(other.state.runs[0]).toMatchObject({ pastReturn: false, wish: { by: person } });
    other.happen({ kind: 'service-started', at: other.now });
    expect(other.decide().map((c) => c.kind)).toEqual(['reconcile']);
    other.settle();
    expect(other.state.runs[0]!.phase).toBe('asking');
    expect(other.decide()).toEqual([]);
    other.happen({ kind: 'reconciled', at: other.now, run: 'd1', step: 'activate', truth: 'not-done', detail: '' });
    expect(other.decide()).toEqual([{ kind: 'skip-run', run: 'd1', by: person, reason: 'left out' }]);
  });

  it('wakes at the first hour of those who are armed, and at the next window, whatever the clock of waits says', () => {
    const hourly = { passage: passage(undefined, atItsHour(nineSteps())), window: hours };
    const later = { ...hours, name: 'later', window: { ...hours.window, hours: hours.window.hours!.map((h) => h + 60_000) } };
    const world = started({
      devices: 2,
      atOnce: 2,
      each: [
        { ...hourly, window: later, site: 'a' },
        { ...hourly, site: 'a' },
      ],
    });
    for (let n = 0; n < 9 && world.runsIn('armed').length < 2; n++) for (const { id } of world.runsIn('busy')) done(world, id);
    const [one, two] = world.state.runs;
    expect([one!.phase, two!.phase]).toEqual(['armed', 'armed']);
    expect(one!.dueAt! - two!.dueAt!).toBe(60_000);
    const wake = (wall: number) => decide(world.state, world.ledger, 500, wall).find((c) => c.kind === 'wake');
    expect(wake(two!.dueAt! - 7000)).toEqual({ kind: 'wake', at: 7500 });
    expect(decide(world.state, world.ledger, 500, two!.dueAt!).filter((c) => c.kind === 'begin-step')).toHaveLength(1);
    // Whatever made it restart before: it is asked at once what it runs.
    expect(check(world.state, { kind: 'taken-early', at: 0, run: 'd7', detail: '' })).toBe('there is no device d7 in this rollout');
    world.happen({ kind: 'taken-early', at: world.now, run: 'd1', detail: 'it restarted' });
    expect(world.state.runs[0]!.dueAt).toBe(world.now);
    expect(world.decide()).toContainEqual({ kind: 'begin-step', run: 'd1', step: 'return', attempt: 1 });
    world.happen({ kind: 'service-stopping', at: world.now });
    expect(decide(world.state, world.ledger, 500, two!.dueAt! + 1)).toEqual([]);

    const window = { text: '', spans: [[10_000_000, 20_000_000] as const] };
    const closed = started({ window });
    upTo(closed, 'activate');
    expect(closed.state.runs[0]!.phase).toBe('parked');
    expect(decide(closed.state, closed.ledger, 300, 9_999_000)).toEqual([{ kind: 'wake', at: 1300 }]);
    const over = started({ window });
    upTo(over, 'activate');
    expect(decide(over.state, over.ledger, 300, 20_000_001)).toEqual([
      { kind: 'hold', reason: 'its last window is over, and devices still wait for one' },
    ]);
  });

  it('is for who is to be left out only that, whatever else would be', () => {
    const needs = [{ leg: 0, device: 'd1' }];
    const world = started({ devices: 2, gate, each: [{}, { needs }] });
    world.happen({ ...skip('d2'), at: world.now });
    world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'preflight', cause: 'image-damaged', detail: '' });
    expect(world.decide().map((c) => c.kind)).toContain('skip-run');
    expect(world.decide().map((c) => c.kind)).not.toContain('end-needless');
    // Who is not there is not ended for want of another, before it is seen.
    const away = started({ devices: 2, atOnce: 2, gate, each: [{}, { needs }] });
    away.happen({ kind: 'run-skipped', at: away.now, run: 'd1', by: 'Barrow', reason: 'there already' });
    away.settle();
    away.happen({ kind: 'run-absent', at: away.now, run: 'd2', cause: 'unreachable', detail: 'silent' });
    away.happen(retry());
    away.settle();
    away.happen({ kind: 'step-failed', at: away.now, run: 'd1', step: 'preflight', cause: 'image-damaged', detail: '' });
    expect([...away.state.stranded]).toEqual([away.state.indexOf.get('d2')]);
    expect(away.decide().map((c) => c.kind)).not.toContain('end-needless');
  });

  it('takes nobody back any more when the rollout is being stopped, though Barrow had held it', () => {
    const world = started({
      devices: 2,
      wayBack: true,
      gate: { ...gate, failureLimit: 1 },
      each: [{ site: 'a', passage: passage(undefined, nineSteps(), true) }, { site: 'b' }],
    });
    upTo(world, 'checks');
    world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'checks', cause: 'settings-changed', detail: '' });
    world.happen({ kind: 'held', at: world.now, by: 'Barrow', reason: 'too many' });
    expect(world.decide().map((c) => c.kind)).toEqual(['enter-stretch']);
    world.happen({ ...stop, at: world.now });
    expect(world.decide().map((c) => c.kind)).not.toContain('enter-stretch');
    expect(world.decide()).toContainEqual({ kind: 'give-up', run: 'd1', reason: 'the rollout was stopped' });
  });

  it('stays held by Barrow, though nobody is left in the last wave', () => {
    const named = [{ name: 'first', devices: ['d1', 'd2'] }];
    const world = started({ devices: 3, named, atOnce: 1, gate: { ...gate, failureLimit: 1 } });
    world.happen({ ...skip('d3'), at: world.now });
    world.settle();
    const [busy] = world.runsIn('busy');
    failed(world, 'image-damaged', busy!.id);
    expect(world.state).toMatchObject({ phase: 'held', heldBy: 'Barrow', wave: 0 });
    expect(world.decide()).toEqual([]);
  });

  it('is held no more when it was stopped, and one of it is retried', () => {
    const sites = ['a', 'b'].map((site) => ({ site }));
    const world = started({ devices: 2, atOnce: 1, gate: { ...gate, failureLimit: 1 }, each: sites });
    failed(world, 'image-damaged');
    expect(world.state).toMatchObject({ phase: 'held', heldBy: 'Barrow' });
    world.happen({ ...stop, at: world.now });
    world.settle();
    expect(world.state.phase).toBe('ended');
    world.happen({ ...retry('d2'), at: world.now });
    expect(world.state).toMatchObject({ phase: 'running', heldBy: null, heldBecause: null });
  });

  it('holds for a share of all that the wave has, those that are absent too, and for a wave that proved nothing after its soak', () => {
    const share = { soakMs: 0, failureLimit: 9, failureShare: 30, approval: false };
    const world = started({ devices: 5, atOnce: 5, gate: share });
    world.happen({ kind: 'run-absent', at: world.now, run: 'd3', cause: 'unreachable', detail: 'silent' });
    world.happen({ kind: 'run-absent', at: world.now, run: 'd4', cause: 'unreachable', detail: 'silent' });
    failed(world, 'image-damaged');
    expect(world.state.phase).toBe('running');
    failed(world, 'image-damaged', 'd2');
    expect(world.state.heldBecause).toBe('2 of 5 failed in wave 1 (all); the limit is 30 %');

    const proves = { passage: passage(undefined, nineSteps(), false, true) };
    const named = [{ name: 'first', devices: ['d1'] }];
    const unproven = started({ devices: 2, named, gate: { ...gate, soakMs: 1000 }, each: [proves, proves] });
    upTo(unproven, 'checks');
    done(unproven);
    unproven.now += 1000;
    unproven.settle();
    expect(namedAt(unproven.state, 0).step).toBe('settle');
    expect(unproven.state.phase).toBe('running');
    failed(unproven, 'old-version');
    expect(unproven.state).toMatchObject({
      phase: 'held',
      heldBecause: 'no device of wave 1 (first) was verified, so it proves nothing',
    });
  });

  it('counts attempts from the one before, and a share of failures only when there is one', () => {
    const world = started({ devices: 3, atOnce: 3, gate: { soakMs: 0, failureLimit: 9, failureShare: 30, approval: false } });
    expect(world.state.phase).toBe('running');
    expect(world.journal.find((e) => e.kind === 'stretch-entered')).toMatchObject({ attempt: 1 });
    failed(world, 'image-damaged');
    expect(world.state).toMatchObject({ phase: 'held', heldBecause: '1 of 3 failed in wave 1 (all); the limit is 30 %' });
    world.happen(retry());
    world.happen({ kind: 'continued', at: world.now, by: person });
    world.settle();
    world.finish();
    const attempts = world.journal.flatMap((e) => (e.kind === 'stretch-entered' && e.run === 'd1' ? [e.attempt] : []));
    expect([attempts[0], attempts.at(-1)]).toEqual([1, 2]);
  });
});

describe('what cannot follow', () => {
  it('is refused with its reason, and changes nothing', () => {
    const { state } = started();
    const before = structuredClone(state.runs);
    const event: RolloutEvent = { kind: 'step-done', at: 0, run: 'd1', step: 'reboot' };
    const why = 'sw-1 is at preflight, not at reboot';
    expect(check(state, event)).toBe(why);
    const error = ((): unknown => {
      try {
        return apply(state, event);
      } catch (thrown) {
        return thrown;
      }
    })();
    expect(error).toBeInstanceOf(ImpossibleEvent);
    expect(error).toMatchObject({
      code: 'impossible-event',
      why,
      message: `after what was written down, "step-done" cannot follow: ${why}`,
    });
    expect(state.runs).toEqual(before);
  });

  it('is no fault where an outcome came too late', () => {
    const world = started();
    world.finish();
    const { events } = world.state;
    const ended = structuredClone(world.state.runs);
    const late = { at: 0, run: 'd1', step: 'backup' };
    for (const event of [
      { kind: 'step-done', ...late },
      { kind: 'step-failed', ...late, cause: 'no-space', detail: '' },
      { kind: 'reconciled', ...late, truth: 'done', detail: '' },
    ] as RolloutEvent[]) {
      expect(check(world.state, event), event.kind).toBeNull();
      world.state = apply(world.state, event);
    }
    expect(world.state.runs).toEqual(ended);
    expect(world.state.events).toBe(events + 3);
    expect(check(world.state, { kind: 'step-begun', at: 0, run: 'd1', step: 'backup', attempt: 1 })).toBe('sw-1 has ended: verified');
    expect(check(world.state, { kind: 'step-done', ...late, run: 'd7' })).toBe('there is no device d7 in this rollout');
  });

  it('tells where a run is, in words', () => {
    const twice = { passage: passage(['1', '2', '3']) };
    const world = started({ each: [twice] });
    const at = 0;
    const table: [RolloutEvent, string][] = [
      [{ kind: 'run-seen', at, run: 'd1', detail: '' }, 'sw-1 is in the middle of a step'],
      [{ kind: 'leg-skipped', at, run: 'd1', leg: 1, reason: '' }, 'that is not leg 2'],
      [{ kind: 'run-needless', at, run: 'd1', need: 'd2', detail: '' }, 'sw-1 is in the middle of a step'],
      [{ kind: 'run-absent', at, run: 'd1', cause: 'image-damaged', detail: '' }, 'image-damaged does not pass by itself'],
      [{ kind: 'run-given-up', at, run: 'd1', reason: '' }, 'sw-1 is in the middle of a step'],
      [retry(), 'sw-1 is in the middle of a step'],
      [release(), 'sw-1 is in the middle of a step'],
      [takeBack(), 'sw-1 is in the middle of a step'],
      [{ kind: 'wave-opened', at, wave: 0 }, 'wave 1 is open'],
      [{ kind: 'wave-opened', at, wave: 4 }, 'there is one wave, and none with the number 5'],
      [{ kind: 'wave-ended', at, wave: 0 }, 'devices of the wave have not ended'],
      [{ kind: 'soak-ended', at, wave: 0 }, 'wave 1 is open'],
      [{ kind: 'gate-passed', at, wave: 0 }, 'wave 1 is open'],
      [{ kind: 'approved', at, wave: 3, by: person }, 'there is one wave, and none with the number 4'],
      [{ kind: 'continued', at, by: person }, 'the rollout is running'],
      [{ kind: 'rollout-started', at, by: person }, 'the rollout is running'],
    ];
    for (const [event, why] of table) expect(check(world.state, event), event.kind).toBe(why);
    upTo(world, 'backup');
    expect(check(world.state, { kind: 'run-absent', at, run: 'd1', cause: 'unreachable', detail: '' })).toBe('sw-1 was begun with');
    for (let n = 0; n < 9; n++) done(world);
    expect(namedAt(world.state, 0)).toEqual({ step: 'backup', leg: 1 });
    expect(check(world.state, { kind: 'step-done', at, run: 'd1', step: 'backup' })).toBe(
      'sw-1 is at backup of leg 2, not at backup of leg 1',
    );
    expect(check(world.state, { kind: 'leg-skipped', at, run: 'd1', leg: 1, reason: '' })).toBe('there is no leg after it');
    upTo(world, 'reboot');
    for (const event of [skip(), { kind: 'run-withdrawn', at, run: 'd1', reason: '' } as RolloutEvent])
      expect(check(world.state, event)).toBe('sw-1 is past its point of no return: to stop there would harm it');
    const planned = initialState(planOf({ devices: 1, first: 0 }));
    expect(check(planned, stop)).toBe('the rollout is planned and was not started');
  });

  it('is refused before another stretch, by whom nothing needs, and before all have ended', () => {
    const world = started({ devices: 2, gate, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }] });
    const at = 0;
    const enter = (run: string, stretch: number): RolloutEvent => ({ kind: 'stretch-entered', at, run, stretch, attempt: 1, claims: [] });
    expect(check(world.state, enter('d2', 1))).toBe('sw-2 is before another stretch');
    expect(check(world.state, enter('d2', 0))).toBeNull();
    expect(check(world.state, enter('d1', 0))).toBe('sw-1 is in the middle of a step');
    const needless: RolloutEvent = { kind: 'run-needless', at, run: 'd2', need: 'd1', detail: '' };
    expect(check(world.state, needless)).toBe('sw-2 needs nothing that has ended');
    expect(check(world.state, { ...needless, run: 'd9' } as RolloutEvent)).toBe('there is no device d9 in this rollout');
    expect(check(world.state, { kind: 'leg-skipped', at, run: 'd2', leg: 0, reason: '' })).toBe('sw-2 is waiting for its turn');
    expect(check(world.state, { kind: 'rollout-ended', at })).toBe('devices have not ended');
    failed(world, 'image-damaged');
    expect(world.state.runs[1]!.cause).toBe('needed-run');
    const half = started({ devices: 2, gate });
    failed(half, 'image-damaged');
    expect(half.state.runs.map((r) => r.phase === 'ended')).toEqual([true, false]);
    expect(check(half.state, { kind: 'rollout-ended', at })).toBe('devices have not ended');
    // A journal of before had no stretches: the first step was the entry, also of who was between two.
    const old = started({ devices: 1 });
    upTo(old, 'backup');
    const parked = new World(planOf({ devices: 1, first: 0, window: { text: '', spans: [[9_000_000, 9_900_000]] } }));
    parked.settle();
    upTo(parked, 'activate');
    expect(parked.state.runs[0]!.phase).toBe('parked');
    const begun = apply(parked.state, { kind: 'step-begun', at: parked.now, run: 'd1', step: 'activate', attempt: 1 });
    expect(begun.runs[0]).toMatchObject({ phase: 'busy', pastReturn: true });
    expect(begun.runs[0]!.claims).toContainEqual({ key: 'up:d1', mode: 'exclusive' });
  });

  it('is told of who is asked what is true, or taken up: a wish waits, an end does not come, and a restart asks again', () => {
    const world = started({ devices: 1 });
    upTo(world, 'reboot');
    world.happen({ kind: 'service-started', at: world.now });
    expect(check(world.state, skip())).toBe('sw-1 is past its point of no return: to stop there would harm it');
    world.settle();
    expect(world.state.runs[0]!.phase).toBe('asking');
    expect(check(world.state, { kind: 'step-failed', at: 0, run: 'd1', step: 'reboot', cause: 'outcome-unknown', detail: '' })).toBeNull();
    world.happen({ kind: 'service-started', at: world.now });
    expect(world.state.runs[0]!.phase).toBe('lost');
    const early = started({ devices: 1 });
    early.happen({ kind: 'service-started', at: early.now });
    expect(early.state.runs[0]!.phase).toBe('lost');
    expect(check(early.state, skip())).toBeNull();
    expect(check(early.state, { kind: 'run-withdrawn', at: 0, run: 'd1', reason: '' })).toBeNull();
  });

  it('is gone on with before its first wave, and accepted as unproven while its devices are looked at once more', () => {
    const early = new World(planOf({ devices: 1, first: 0 }));
    early.happen({ kind: 'held', at: early.now, by: person, reason: 'so' });
    early.happen({ kind: 'continued', at: early.now, by: person });
    expect(early.state.phase).toBe('running');
    for (const phase of ['soaking', 'proving', 'open'] as const) {
      const { state } = started({ devices: 1, first: 0 });
      state.waves[0]!.phase = phase;
      state.phase = 'held';
      const after = apply(state, { kind: 'continued', at: 0, by: person });
      expect(after.waves[0]!.unprovenAccepted, phase).toBe(phase !== 'open');
    }
  });

  it('counts who was taken back with those that failed, when a person has it go on', () => {
    const world = takenBack();
    expect(world.state.waves[0]!.ended).toMatchObject({ recovered: 1, failed: 0 });
    world.happen({ kind: 'continued', at: world.now, by: person });
    expect(world.state.waves[0]!.forgiven).toBe(1);
    world.settle();
    expect(world.state.phase).toBe('running');
  });

  it('keeps who came back from waiting for one that has ended, and has who was left out by a person not met', () => {
    const away: RolloutEvent = { kind: 'run-absent', at: 0, run: 'd2', cause: 'unreachable', detail: 'silent' };
    const world = started({
      devices: 3,
      gate,
      atOnce: 3,
      each: [{}, { needs: [{ leg: 1, device: 'd1' }], passage: passage(['1', '2', '3']) }],
    });
    world.happen({ ...away, at: world.now });
    failed(world, 'image-damaged');
    world.happen({ kind: 'run-seen', at: world.now, run: 'd2', detail: '' });
    world.settle();
    // Its first leg needs nobody.
    expect(world.state.runs[world.state.indexOf.get('d2')!]!.phase).toBe('busy');
    const left = started({ devices: 2, gate, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }] });
    left.happen({ ...skip(), at: left.now });
    done(left);
    expect(left.state.runs[0]).toMatchObject({ outcome: 'skipped', met: false });
    expect(left.state.runs[1]).toMatchObject({ outcome: 'not-begun', cause: 'needed-run' });
    const there = started({ devices: 2, gate, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }] });
    there.happen({ kind: 'run-skipped', at: there.now, run: 'd1', by: 'Barrow', reason: 'there already' });
    there.settle();
    expect(there.state.runs[0]).toMatchObject({ outcome: 'skipped', met: true });
    expect(there.state.runs[1]!.phase).toBe('busy');
  });

  it('is said of who was away too often, and of whom others wait for', () => {
    const world = started();
    const gone: RolloutEvent = { kind: 'run-absent', at: 0, run: 'd1', cause: 'unreachable', detail: 'silent' };
    for (let n = 0; n < 5; n++) {
      expect(check(world.state, gone)).toBeNull();
      world.happen(gone);
      world.happen({ kind: 'run-seen', at: world.now, run: 'd1', detail: '' });
      world.settle();
    }
    expect(check(world.state, gone)).toBe('sw-1 was not there 5 times');
    const needed = started({ devices: 2, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }] });
    expect(check(needed.state, gone)).toBe('others wait for sw-1');
  });
});

describe('what a person says', () => {
  it('is theirs, whatever they are called: what is left out by a word is not there already', () => {
    const world = started({ devices: 2, first: 0, atOnce: 1, gate });
    world.happen({ ...skip('d2'), by: 'Barrow' } as RolloutEvent);
    world.settle();
    const [left] = world.state.runs.filter((r) => r.outcome === 'skipped');
    expect(left).toMatchObject({ met: false });
  });

  it('is refused where it was said already, or has to wait', () => {
    const world = started({ devices: 2, gate });
    world.state = apply(world.state, skip());
    expect(checkWord(world.state, skip())).toBe('sw-1 is to be left out already');
    expect(checkWord(world.state, skip('d2'))).toBeNull();
    const stopped = started({ devices: 2, gate, each: [{ passage: passage(undefined, nineSteps(), true) }] });
    upTo(stopped, 'checks');
    failed(stopped, 'settings-changed');
    stopped.happen({ ...stop, at: stopped.now });
    expect(stopped.state.phase).toBe('stopping');
    expect(checkWord(stopped.state, takeBack())).toBe('the rollout is being stopped: say it when it has ended');
    expect(checkWord(stopped.state, retry())).toBe('the rollout is being stopped: retry when it has ended');
    // What a journal of before says still folds.
    expect(check(stopped.state, retry())).toBeNull();
    expect(checkWord(world.state, { kind: 'step-done', at: 0, run: 'd1', step: 'preflight' })).toBeNull();
  });

  it('is not to retry who is verified, nor who needs one that has to be retried', () => {
    const world = started({ devices: 2, gate, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }] });
    failed(world, 'image-damaged');
    world.settle();
    expect(world.state.runs[1]).toMatchObject({
      outcome: 'not-begun',
      cause: 'needed-run',
      detail: 'sw-1 has to be done first, and has ended failed',
    });
    expect(checkWord(world.state, retry('d2'))).toBe('sw-2 needs sw-1: retry that one, and this goes on with it');
    expect(checkWord(world.state, retry())).toBeNull();
    expect(checkWord(world.state, { kind: 'step-done', at: 0, run: 'd2', step: 'preflight' })).toBeNull();
    world.happen(retry());
    world.finish();
    expect(world.state.runs.map((r) => r.outcome)).toEqual(['verified', 'verified']);
    expect(checkWord(world.state, retry())).toBe('sw-1 has ended verified: there is nothing to retry');
    expect(checkWord(world.state, release())).toBe('sw-1 holds nothing');
  });

  it('is to retry first what another needs, who was left out meanwhile', () => {
    const needs = [{ leg: 0, device: 'd1' }];
    const world = started({ devices: 3, atOnce: 1, gate, each: [{ site: 'a' }, { needs, site: 'a' }, { site: 'b' }] });
    world.happen({ ...skip('d2'), at: world.now });
    world.settle();
    failed(world, 'image-damaged');
    expect(world.state.runs.map((r) => r.outcome)).toEqual(['failed', 'skipped', null]);
    expect(checkWord(world.state, retry('d2'))).toBe('sw-2 needs sw-1: retry that one first');
    world.happen(retry());
    world.settle();
    // It is under way again.
    expect(checkWord(world.state, retry('d2'))).toBeNull();
  });

  it('has who failed taken back, but not while the rollout is being stopped', () => {
    const world = started({ devices: 2, atOnce: 1, gate, each: [{ passage: passage(undefined, nineSteps(), true) }] });
    upTo(world, 'checks');
    failed(world, 'settings-changed');
    expect(world.state.phase).toBe('running');
    expect(checkWord(world.state, takeBack())).toBeNull();
  });

  it('has the device of who is taken back in hand again, and lets go what it guards when it is seen', () => {
    const world = started({ devices: 2, gate, each: [{ passage: passage(undefined, nineSteps(), true), under: ['d1', 'd9'] }] });
    upTo(world, 'reboot');
    failed(world, 'never-returned');
    expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'failed' });
    expect(world.ledger.holdersOf('up:d9')).toHaveLength(1);
    expect(world.ledger.holdersOf('device:d1')).toEqual([]);
    world.happen({ kind: 'held', at: world.now, by: person, reason: '' });
    world.happen({ ...takeBack(), at: world.now });
    expect(world.ledger.holdersOf('device:d1')).toEqual([{ rollout: 'r-test', run: 'd1' }]);
    expect(world.state.runs[0]!.claims).toContainEqual({ key: 'device:d1', mode: 'exclusive' });
    expect(world.state.runs[0]!.claims).toContainEqual({ key: 'up:d9', mode: 'shared' });
    const seen = started({ devices: 2, gate, each: [{ under: ['d1', 'd9'] }] });
    upTo(seen, 'reboot');
    failed(seen, 'never-returned');
    seen.happen({ ...release(), at: seen.now });
    expect(seen.ledger.holdersOf('up:d9')).toEqual([]);
  });

  it('of who has something set aside waits until that is back, and is told while it waits', () => {
    const world = started({ each: [{ passage: passage(undefined, withSides(nineSteps())) }] });
    upTo(world, 'activate');
    failed(world, 'image-refused');
    expect(namedAt(world.state, 0).step).toBe('put-back');
    expect(world.state.runs[0]).toMatchObject({ phase: 'busy', ending: { outcome: 'failed' } });
    failed(world, 'unreachable');
    expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'failed', cause: 'image-refused' });
    expect(world.state.runs[0]!.detail).toBe('so\nwhat was set aside could not be put back: so');
    const waiting = started({ devices: 2, atOnce: 1 });
    expect(whyWaiting(waiting.state, 1, waiting.ledger, ({ run }) => run, waiting.now, waiting.now)?.text).toContain('waits for');
  });
});

describe('what cannot follow', () => {
  it('is told by where the device is instead', () => {
    const table: Record<string, string> = {
      waiting: 'waiting for its turn',
      parked: 'between two stretches',
      ready: 'between two steps',
      busy: 'in the middle of a step',
      armed: 'armed, and waits for its own hour',
      lost: 'waiting to be taken up again',
      asking: 'being asked what is true',
      broken: 'broken, and to be taken back',
    };
    for (const [phase, words] of Object.entries(table)) {
      const { state } = started();
      state.runs[0]!.phase = phase as 'busy';
      expect(check(state, { kind: 'run-seen', at: 0, run: 'd1', detail: '' })).toBe(`sw-1 is ${words}`);
    }
    const { state } = started();
    state.runs[0]!.phase = 'absent';
    expect(check(state, { kind: 'step-done', at: 0, run: 'd1', step: 'preflight' })).toBe('sw-1 is not there');
  });

  it('is told by how the rollout and the wave stand', () => {
    const world = started({ devices: 2, first: 1 });
    world.happen({ ...stop, at: world.now });
    expect(world.state.phase).toBe('stopping');
    expect(check(world.state, { kind: 'held', at: 0, by: person, reason: '' })).toBe('the rollout is being stopped');
    const { state } = started({ devices: 2, first: 1 });
    expect(check(state, { kind: 'wave-ended', at: 0, wave: 1 })).toBe('wave 2 is waiting');
    expect(check(state, { kind: 'gate-passed', at: 0, wave: 8 })).toBe('there are 2 waves, and none with the number 9');
    expect(check(state, { kind: 'approved', at: 0, wave: 8, by: person })).toBe('there are 2 waves, and none with the number 9');
  });

  it('is that who is being taken back is not there: it was begun with', () => {
    const { state } = started({ wayBack: true, each: [{ passage: passage(undefined, nineSteps(), true) }] });
    const absent: RolloutEvent = { kind: 'run-absent', at: 0, run: 'd1', cause: 'unreachable', detail: '' };
    expect(check(state, absent)).toBeNull();
    state.runs[0]!.rung = 0;
    expect(check(state, absent)).toBe('sw-1 was begun with');
  });

  it('is never a note that is about no device', () => {
    const noted: RolloutEvent = { kind: 'noted', at: 0, by: person, text: 'x' };
    expect(checkWord(started().state, noted)).toBeNull();
    expect(checkWord(started().state, { ...noted, run: undefined })).toBeNull();
  });
});
