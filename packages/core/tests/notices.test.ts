import { describe, expect, it } from 'vitest';
import {
  apply,
  check,
  fold,
  gatheredFor,
  initialState,
  isOverdue,
  legSteps,
  noticeOf,
  occasionKinds,
  occasionOf,
  toldOfText,
  usualKinds,
  type Occasion,
  type RolloutEvent,
  type RolloutState,
} from '@barrow/core';
import { nineSteps, passage, planOf } from './plans.js';

const at = 5000;
/** What is told of the last of some events. */
const toldOf = (state: RolloutState, ...events: RolloutEvent[]): Occasion | null => {
  let occasion: Occasion | null = null;
  for (const event of events) {
    state = apply(state, event);
    occasion = occasionOf(state, event);
  }
  return occasion;
};
const failing: RolloutEvent[] = [
  { kind: 'rollout-started', at, by: 'a' },
  { kind: 'wave-opened', at, wave: 0 },
  { kind: 'step-begun', at, run: 'd1', step: 'preflight', attempt: 1 },
];

describe('what somebody may want to be told of', () => {
  const plan = planOf({ devices: 2, first: 1, gate: { soakMs: 0, failureLimit: 1, approval: true } });

  it('is a device that failed, not one that is being tried', () => {
    expect(toldOf(initialState(plan), ...failing)).toBeNull();
    const failed: RolloutEvent = { kind: 'step-failed', at: at + 1, run: 'd1', step: 'preflight', cause: 'no-space', detail: 'full' };
    const told = toldOf(initialState(plan), ...failing, failed);
    expect(told).toEqual({ kind: 'failed', device: 'sw-1', text: expect.stringMatching(/^sw-1 failed: .*[^.]$/) as string });
  });

  it('is a hold of Barrow, and not one of a person; an approval that is wanted; and the end, in numbers', () => {
    const running = fold(plan, failing.slice(0, 2));
    const held = (by: string): Occasion | null => toldOf(structuredClone(running), { kind: 'held', at, by, reason: '2 failed in wave 1' });
    expect(held('Barrow')).toEqual({ kind: 'held', device: null, text: '2 failed in wave 1' });
    expect(held('ana')).toBeNull();
    expect(occasionOf(running, { kind: 'wave-ended', at, wave: 0 })?.text).toBe('wave 1 (first) has ended, and the next waits for a word');
    expect(occasionOf(running, { kind: 'wave-ended', at, wave: 1 })).toBeNull();
    running.runs[0]!.outcome = 'verified';
    running.runs[1]!.outcome = 'not-begun';
    expect(occasionOf(running, { kind: 'rollout-ended', at })?.text).toBe('1 of 2 verified, 1 not-begun');
  });

  it('is a hand that is waited for, with what it is to do', () => {
    const [first, ...more] = nineSteps().stretches;
    const way = {
      ...nineSteps(),
      stretches: [{ name: 'seat', steps: [{ step: 'by-hand', usualMs: 1, words: 'Put it in the cradle' }] }, first!, ...more],
    };
    const byHand = planOf({ devices: 1, first: 0, each: [{ passage: passage(undefined, way) }] });
    const begun: RolloutEvent = { kind: 'step-begun', at, run: 'd1', step: 'by-hand', leg: 0, attempt: 1 };
    expect(toldOf(initialState(byHand), ...failing.slice(0, 2), begun)).toEqual({
      kind: 'wanted',
      device: 'sw-1',
      text: 'sw-1 waits for a hand: Put it in the cradle',
    });
  });
});

describe('what is asked of a person', () => {
  const asked: RolloutEvent = { kind: 'person-asked', at, run: 'd1', text: 'Which code stands on it?\nFour digits.' };
  it('is told of, by its first line, while its device is in the middle of a step', () => {
    const plan = planOf({ devices: 1, first: 0 });
    expect(toldOf(initialState(plan), ...failing, asked)).toEqual({
      kind: 'wanted',
      device: 'sw-1',
      text: 'sw-1 waits for an answer: Which code stands on it?',
    });
    const answered: RolloutEvent = { kind: 'person-answered', at, run: 'd1', by: 'ana' };
    expect(toldOf(initialState(plan), ...failing, asked, answered)).toBeNull();
    for (const event of [asked, answered]) expect(check(fold(plan, failing.slice(0, 2)), event)).toMatch(/^sw-1 is waiting for its turn/);
  });
});

describe('the night sheet', () => {
  const plan = planOf({ devices: 1, first: 0 });
  const done = (step: string): RolloutEvent => ({ kind: 'step-done', at, run: 'd1', step });
  it('is told of when a device has ended a part of its way, and waits longest for others', () => {
    const begun = fold(plan, [
      { kind: 'rollout-started', at, by: 'a' },
      { kind: 'wave-opened', at, wave: 0 },
    ]);
    const most = legSteps(plan.passages[0]!);
    const steps = plan.passages[0]!.steps.slice(0, most).map((s) => s.step);
    const told = steps.flatMap((step, i) => {
      const occasion = toldOf(begun, { kind: 'step-begun', at, run: 'd1', step, attempt: 1 }, done(step));
      return occasion === null ? [] : [[i, occasion.kind, occasion.text]];
    });
    const ends = plan.passages[0]!.stretches.flatMap((s) => (s.to > most ? [] : [s.to - 1]));
    expect(told.map(([i]) => i)).toEqual(ends);
    expect(told.at(-1)).toEqual([ends.at(-1), 'sheet', 'sw-1 has ended verified']);
    expect(told[0]!.slice(1)).toEqual(['sheet', 'sw-1 has ended a part of its way']);
    expect(occasionKinds.map(gatheredFor).filter((ms) => ms >= gatheredFor('sheet'))).toEqual([gatheredFor('sheet')]);
    expect(noticeOf('x', [{ kind: 'sheet', device: 'sw-1', text: 'sw-1 has ended verified' }]).subject).toBe('"x": the night sheet');
  });
  it('is no part of everything, unless somebody says so', () => {
    expect(toldOfText(usualKinds)).toBe('everything');
    expect(toldOfText(occasionKinds)).toBe('everything, with the night sheet');
    expect(toldOfText(['sheet', 'ended'])).toBe('sheet, ended');
  });
});

describe('a message', () => {
  const failed = (n: number): Occasion => ({ kind: 'failed', device: `sw-${n}`, text: `sw-${n} failed: no space` });
  it('is one for all that was to be told, the gravest first, and names some of many', () => {
    const many = Array.from({ length: 60 }, (_, n) => failed(n + 1));
    const notice = noticeOf('the night', [...many, { kind: 'held', device: null, text: '60 failed' }]);
    expect([notice.kind, notice.subject, notice.lines.length]).toEqual(['held', '"the night" is held', 22]);
    expect([notice.lines[0], notice.lines[1], notice.lines.at(-1)]).toEqual(['60 failed.', 'sw-1 failed: no space.', 'And 40 more.']);
  });
  it.each([
    [[failed(1)], '"n": sw-1 has failed'],
    [[failed(1), failed(2)], '"n": 2 devices have failed'],
    [[{ kind: 'wanted', device: null, text: 'x' }], '"n" waits for a person'],
    [[{ kind: 'overdue', device: null, text: 'x' }], '"n" takes longer than it should'],
    [[{ kind: 'ended', device: null, text: 'x' }, failed(1)], '"n": sw-1 has failed'],
    [[{ kind: 'ended', device: null, text: 'x' }], '"n" has ended'],
  ] as [Occasion[], string][])('of %j is called %s', (occasions, subject) => expect(noticeOf('n', occasions).subject).toBe(subject));
});

describe('a rollout that takes far longer than it was rehearsed', () => {
  const minute = 60_000;
  it.each([
    ['a short one, ten minutes after its end', { end: 5 * minute, now: 15 * minute, timeScale: 1 }, false],
    ['the same, a moment later', { end: 5 * minute, now: 15 * minute + 1, timeScale: 1 }, true],
    ['a long one, by less than a fifth of the whole', { end: 300 * minute, now: 360 * minute, timeScale: 1 }, false],
    ['a long one, by more', { end: 300 * minute, now: 360 * minute + 1, timeScale: 1 }, true],
    ['one of devices whose time runs fast, within a minute of ours', { end: minute, now: 2 * minute, timeScale: 100 }, false],
    ['the same, a moment later', { end: minute, now: 2 * minute + 1, timeScale: 100 }, true],
  ])('%s', (_, of, overdue) => {
    expect(isOverdue({ startedAt: 0, ...of })).toBe(overdue);
  });
});
