import { describe, expect, it } from 'vitest';
import { isRolloutEvent, rolloutEventSchema, type RolloutEvent } from '@barrow/core';

const at = 5;
const by = 'somebody';
const run = 'd1';
const claims = [
  { key: 'up:x', mode: 'shared' },
  { key: 'device:x', mode: 'exclusive' },
] as const;
/** One of each kind, with all that it needs, and apart from that what it may tell besides. */
const table: readonly [event: RolloutEvent, more?: object][] = [
  [{ kind: 'rollout-started', at, by }, { accepted: ['resets'] }],
  [{ kind: 'wave-opened', at, wave: 0 }],
  [{ kind: 'wave-ended', at, wave: 0 }],
  [{ kind: 'soak-ended', at, wave: 0 }],
  [{ kind: 'soak-judged', at, wave: 0, worse: null, findings: [], looks: 3 }, { worse: 'free memory falls' }],
  [{ kind: 'wave-held', at, wave: 0, by, reason: '' }],
  [{ kind: 'wave-freed', at, wave: 0, by }],
  [{ kind: 'gate-passed', at, wave: 0 }],
  [{ kind: 'stretch-entered', at, run, stretch: 0, attempt: 1, claims: [...claims] }],
  [{ kind: 'step-begun', at, run, step: 'backup', attempt: 1 }, { leg: 1 }],
  [
    { kind: 'step-done', at, run, step: 'backup' },
    { leg: 1, facts: { bytes: 3 } },
  ],
  [
    { kind: 'step-failed', at, run, step: 'backup', cause: 'unreachable', detail: '' },
    { leg: 1, facts: {} },
  ],
  [{ kind: 'reconcile-begun', at, run, step: 'reboot' }, { leg: 1 }],
  [
    { kind: 'reconciled', at, run, step: 'reboot', truth: 'done', detail: '' },
    { leg: 1, truth: 'not-done' },
  ],
  [{ kind: 'skip-asked', at, run, by, reason: '' }],
  [{ kind: 'run-skipped', at, run, by, reason: '' }],
  [{ kind: 'leg-skipped', at, run, leg: 1, reason: '' }],
  [{ kind: 'leg-proven', at, run, leg: 1, reason: '' }, { facts: { checks: [] } }],
  [{ kind: 'run-withdrawn', at, run, reason: '' }],
  [{ kind: 'run-absent', at, run, cause: 'unreachable', detail: '' }],
  [{ kind: 'run-seen', at, run, detail: '' }],
  [{ kind: 'taken-early', at, run, detail: '' }],
  [{ kind: 'run-missed', at, run }],
  [{ kind: 'run-needless', at, run, need: 'd2', detail: '' }],
  [{ kind: 'run-released', at, run, by, reason: '' }],
  [{ kind: 'run-retried', at, run, by }],
  [{ kind: 'take-back-asked', at, run, by }],
  [{ kind: 'run-given-up', at, run, reason: '' }],
  [{ kind: 'held', at, by, reason: '' }],
  [{ kind: 'continued', at, by }],
  [{ kind: 'approved', at, by, wave: 0 }],
  [{ kind: 'stop-asked', at, by }],
  [{ kind: 'rollout-ended', at }],
  [{ kind: 'service-stopping', at }],
  [{ kind: 'service-started', at }],
  [{ kind: 'person-asked', at, run, text: '' }],
  [{ kind: 'person-answered', at, run, by }],
  [{ kind: 'noted', at, by, text: '' }, { run }],
];

describe('what a journal may hold', () => {
  it('is each kind of event, whole, and none that lacks something or has it of another kind', () => {
    expect(table.map(([event]) => event.kind).sort()).toEqual(rolloutEventSchema.options.map((o) => o.shape.kind.value).sort());
    for (const [event, more = {}] of table) {
      const whole = { ...event, ...more };
      expect(rolloutEventSchema.parse(event)).toStrictEqual(event);
      expect(rolloutEventSchema.parse(whole)).toStrictEqual(whole);
      for (const key of Object.keys(event)) {
        const less = Object.fromEntries(Object.entries(event).filter(([name]) => name !== key));
        expect(rolloutEventSchema.safeParse(less).success, `${event.kind} without ${key}`).toBe(false);
      }
      for (const key of Object.keys(whole))
        expect(rolloutEventSchema.safeParse({ ...whole, [key]: true }).success, `${event.kind} with another ${key}`).toBe(false);
    }
    const odd = [{ key: 'up:x', mode: 'both' }];
    expect(rolloutEventSchema.safeParse({ ...table[8]![0], claims: odd }).success).toBe(false);
    expect(rolloutEventSchema.safeParse({ ...table[9]![0], leg: 0 }).success).toBe(false);
  });

  it('is told by its kind alone where its chain holds it', () => {
    for (const [event] of table) expect(isRolloutEvent(event)).toBe(true);
    for (const other of [null, undefined, 'held', {}, { kind: 'dreamt' }, 5]) expect(isRolloutEvent(other)).toBe(false);
  });
});
