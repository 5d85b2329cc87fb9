import { describe, expect, it } from 'vitest';
import { check, type RolloutEvent, type RunState } from '@barrow/core';
import { started } from './course.js';
import { passage } from './plans.js';

type Phase = RunState['phase'];
const phases: readonly Phase[] = ['waiting', 'parked', 'absent', 'ready', 'busy', 'armed', 'lost', 'asking', 'broken', 'ended'];
const at = 0;
const run = 'd1';
const by = 'somebody';
const reason = '';
const here = { step: 'preflight' } as const;
/** What may happen to a device that is at its first step, and where it has to be for that. */
const table: readonly [event: RolloutEvent, may: readonly Phase[]][] = [
  [{ kind: 'stretch-entered', at, run, stretch: 0, attempt: 1, claims: [] }, ['waiting', 'parked', 'broken']],
  [{ kind: 'step-begun', at, run, ...here, attempt: 1 }, ['waiting', 'parked', 'ready', 'armed', 'lost']],
  // What is told of a step of who has ended came too late to matter.
  [{ kind: 'step-done', at, run, ...here }, ['busy', 'ended']],
  [{ kind: 'step-failed', at, run, ...here, cause: 'image-damaged', detail: '' }, ['busy', 'asking', 'ended']],
  [{ kind: 'reconcile-begun', at, run, ...here }, ['lost']],
  [{ kind: 'reconciled', at, run, ...here, truth: 'done', detail: '' }, ['asking', 'ended']],
  [{ kind: 'skip-asked', at, run, by, reason }, ['waiting', 'parked', 'absent', 'ready', 'busy', 'lost', 'asking', 'broken']],
  [{ kind: 'run-skipped', at, run, by, reason }, ['waiting', 'parked', 'absent', 'ready', 'busy']],
  [{ kind: 'run-withdrawn', at, run, reason }, ['waiting', 'parked', 'absent', 'ready', 'busy', 'lost']],
  [{ kind: 'leg-skipped', at, run, leg: 0, reason }, ['busy']],
  [{ kind: 'leg-proven', at, run, leg: 0, reason }, ['busy']],
  [{ kind: 'run-needless', at, run, need: 'd2', detail: '' }, ['waiting', 'parked']],
  [{ kind: 'run-absent', at, run, cause: 'unreachable', detail: '' }, ['busy']],
  [{ kind: 'run-seen', at, run, detail: '' }, ['absent']],
  [{ kind: 'run-missed', at, run }, ['absent']],
  [{ kind: 'taken-early', at, run, detail: '' }, ['armed']],
  [{ kind: 'run-given-up', at, run, reason }, ['broken']],
  [{ kind: 'run-retried', at, run, by }, ['ended']],
  [{ kind: 'run-released', at, run, by, reason }, ['ended']],
];

describe('what may happen to a device', () => {
  it.each(table.map(([event, may]) => [event.kind, event, may] as const))('%s: only where it can', (_, event, may) => {
    const { state } = started({ each: [{ passage: passage(['1.0.0', '1.1.0', '1.2.0']) }] });
    state.stranded.add(0);
    Object.assign(state.runs[0]!, { outcome: 'failed', claims: [{ key: 'up:d1', mode: 'shared' }] });
    const admitted = phases.filter((phase) => {
      state.runs[0]!.phase = phase;
      return check(state, event) === null;
    });
    expect(admitted).toEqual(phases.filter((phase) => may.includes(phase)));
  });
});
