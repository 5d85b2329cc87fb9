import { expect, it } from 'vitest';
import { CauseError, type PlannedStep } from '@barrow/core';
import { reconcile } from '../src/runner/reconcile.js';
import type { StepContext } from '../src/runner/steps/step.js';

/** A device that answers, and of whose restart nobody saw whether it was sent. */
const answering = (record: () => Promise<{ gives: Record<string, string> }>): StepContext =>
  ({
    context: { options: { timeScale: 1000 } },
    family: { versions: { patterns: ['(?P<major>\\d+)'], order: [{ part: 'major' }] }, procedures: {} },
    leg: { from: '1', to: '2', component: 'system' },
    run: {},
    steps: [],
    trail: { get: () => undefined },
    signal: new AbortController().signal,
    alive: () => Promise.resolve({ answers: true, system: null }),
    once: record,
  }) as unknown as StepContext;
const reboot = { step: 'reboot', leg: 0, down: true } as unknown as PlannedStep;

it.each(['login-slow', 'sessions-full', 'unreachable'] as const)(
  'who answers and lets nobody in (%s) may have restarted: it is not restarted once more',
  async (code) => {
    const step = answering(() => Promise.reject(new CauseError(code, 'no word')));
    expect(await reconcile(step, reboot)).toMatchObject({ truth: 'done', detail: expect.stringContaining('no word') as string });
  },
);

it.each(['login-refused', 'credential-suspended'] as const)('a login that is refused (%s) tells nothing', async (code) => {
  await expect(
    reconcile(
      answering(() => Promise.reject(new CauseError(code, ''))),
      reboot,
    ),
  ).rejects.toMatchObject({ code });
});

it('who runs what it ran before is told not to have restarted', async () => {
  const step = answering(() => Promise.resolve({ gives: { firmware: '1' } }));
  expect(await reconcile(step, reboot)).toMatchObject({ truth: 'not-done' });
});
