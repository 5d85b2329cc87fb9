import { expect, it } from 'vitest';
import type { JournalEntry, RolloutEvent, StepName } from '@barrow/core';
import { earlierTraceOf, traceOf, trailOf, type Facts } from '../src/runner/trail.js';

const run = 'd1';
const done = (step: StepName, facts: Facts, leg = 0): RolloutEvent[] => [
  { kind: 'step-begun', at: 1, run, step, leg, attempt: 1 },
  { kind: 'step-done', at: 2, run, step, leg, facts },
];
const failed = (step: StepName, facts: Facts, leg = 0): RolloutEvent[] => [
  { kind: 'step-begun', at: 1, run, step, leg, attempt: 1 },
  { kind: 'step-failed', at: 2, run, step, leg, cause: 'ports-down', detail: '', facts },
];
const anew: RolloutEvent = { kind: 'run-retried', at: 3, run, by: 'ana' };
const trail = (...events: RolloutEvent[]) =>
  trailOf(
    events.map((event, seq) => ({ seq, event }) as unknown as JournalEntry),
    2,
  );

it('of one that is begun anew, what was seen before the change is kept apart, however often it is only looked at again', () => {
  const first = [...done('preflight', { firmware: '1' }), ...done('reboot', { saw: 'all' }), ...failed('checks', {})];
  const found = trail(...first, anew, ...failed('preflight', { checks: [1] }), anew, ...failed('preflight', { checks: [2] }));
  expect(earlierTraceOf(found, 'preflight')?.facts).toEqual({ firmware: '1' });
  expect(earlierTraceOf(found, 'reboot')?.facts).toEqual({ saw: 'all' });
  expect(traceOf(found, 'preflight')?.facts).toEqual({ checks: [2] });
  expect(traceOf(found, 'reboot')).toBeUndefined();
});

it('an attempt that went further takes the place of the one before it', () => {
  const attempt = (n: string) => [...done('preflight', { n }), ...failed('reboot', { n })];
  const found = trail(...attempt('1'), anew, ...attempt('2'), anew, ...failed('preflight', {}));
  expect(earlierTraceOf(found, 'preflight')?.facts).toEqual({ n: '2' });
});

it('who was never changed has nothing that was seen before; a leg that is behind keeps its own', () => {
  expect(earlierTraceOf(trail(...failed('preflight', {}), anew, ...failed('preflight', {})), 'preflight')).toBeUndefined();
  const second = trail(...done('preflight', { leg: 1 }), ...done('checks', { leg: 1 }), ...done('preflight', { leg: 2 }, 1), anew);
  const begun = trail(
    ...done('preflight', { leg: 1 }),
    ...done('checks', { leg: 1 }),
    ...done('preflight', {}, 1),
    anew,
    ...failed('preflight', {}, 1),
  );
  expect(traceOf(second, 'checks')?.facts).toEqual({ leg: 1 });
  expect(traceOf(begun, 'checks')?.facts).toEqual({ leg: 1 });
  expect(earlierTraceOf(begun, 'checks')).toBeUndefined();
});

it('of one that failed when it was looked at anew, and is taken back, what was seen before its change counts again', () => {
  const word: RolloutEvent = { kind: 'take-back-asked', at: 4, run, by: 'ana' };
  const first = [...done('preflight', { firmware: '1' }), ...done('backup', { backup: 'b1' }), ...failed('checks', {})];
  const found = trail(...first, anew, ...failed('preflight', {}), word);
  expect(traceOf(found, 'preflight')?.facts).toEqual({ firmware: '1' });
  expect(traceOf(found, 'backup')?.facts).toEqual({ backup: 'b1' });
  expect(earlierTraceOf(found, 'preflight')).toBeUndefined();
  // An attempt that went further has seen for itself.
  const later = trail(...first, anew, ...done('preflight', { firmware: '2' }), ...failed('reboot', {}), word);
  expect(traceOf(later, 'preflight')?.facts).toEqual({ firmware: '2' });
  expect(traceOf(later, 'backup')).toBeUndefined();
});

it('what was compared anew stands beside what the earlier attempt found, as its checks', () => {
  const begun: RolloutEvent = { kind: 'step-begun', at: 4, run, step: 'preflight', leg: 0, attempt: 1 };
  const proven: RolloutEvent = { kind: 'leg-proven', at: 5, run, leg: 0, reason: '', facts: { checks: ['all'] } };
  const found = trail(...done('preflight', { firmware: '1' }), ...failed('checks', { checks: [] }), anew, begun, proven);
  expect(traceOf(found, 'preflight')?.facts).toEqual({ firmware: '1' });
  expect(traceOf(found, 'checks')).toEqual({ begunAt: 4, endedAt: 5, facts: { checks: ['all'] } });
  expect(earlierTraceOf(found, 'checks')).toBeUndefined();
});
