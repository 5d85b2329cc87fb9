import { describe, expect, it } from 'vitest';
import type { Rollout, RolloutChanges, TargetPreview } from '@barrow/core';
import { foretoldText, isAtRest, localTime, octets, paceOf, previewText, totalsOf, withChanges } from '@barrow/client';

describe('words that the command line and the console share', () => {
  it.each([
    [0, '0 B'],
    [1023, '1023 B'],
    [1024, '1.0 KiB'],
    [2_097_383, '2.0 MiB'],
  ])('%d octets are %s', (bytes, text) => expect(octets(bytes)).toBe(text));

  it('a moment has date and time of one zone, and its date only when it is not today', () => {
    const at = new Date(2026, 10, 23, 0, 5, 9);
    expect(localTime(at.toISOString(), new Date(2026, 10, 23, 23, 59))).toBe('00:05:09');
    expect(localTime(at.toISOString(), new Date(2026, 10, 24, 0, 1))).toBe('2026-11-23 00:05:09');
    expect(localTime(null)).toBe('–');
  });

  it('a rollout is told by what is not nothing', () => {
    const totals = { verified: 12, failed: 1, withdrawn: 0, skipped: 0, recovered: 0, 'not-begun': 1, waiting: 0, 'under-way': 0 };
    expect(totalsOf({ totals, devices: 14 })).toBe('12 of 14 verified, 1 failed, 1 not-begun');
  });
});

describe('what would follow from a target', () => {
  const nothing = { there: 0, oneImage: 0, moreImages: 0, newer: 0, pinned: 0, notReached: [], remarks: [] };
  const text = (p: Partial<TargetPreview>) => previewText({ version: '4.3.0', scope: 'site eelgate', devices: 0, ...nothing, ...p });
  it('is told for all of them in one sentence, then who cannot get there and why', () => {
    expect(
      text({
        ...{ devices: 14, there: 1, oneImage: 5, moreImages: 2, newer: 1, pinned: 1, remarks: ['it is a beta'] },
        notReached: [
          { why: 'no image', devices: 3, names: ['a', 'b', 'c'] },
          { why: 'no way', devices: 1, names: ['d'] },
        ],
      }),
    ).toEqual([
      '4.3.0 for 14 devices (site eelgate): 1 runs it already, 5 take one image, 2 take more than one, 1 runs something newer, 4 cannot get there, 1 is pinned.',
      'a, b, c: no image.',
      'd: no way.',
      'It is a beta.',
    ]);
  });
  it('names a few of many, and says when nobody is meant', () => {
    expect(text({ devices: 9, notReached: [{ why: 'no image', devices: 9, names: ['a', 'b', 'c', 'd', 'e'] }] })[1]).toBe(
      'a, b, c and 6 more: no image.',
    );
    expect(text({})).toEqual(['4.3.0 for 0 devices (site eelgate).', expect.stringMatching(/^Nobody is meant/) as string]);
    expect(text({ devices: 1, oneImage: 1 })).toEqual(['4.3.0 for 1 device (site eelgate): 1 takes one image.']);
  });
});

describe('how long a step takes', () => {
  const step = (seen: { mostMs: number; count: number } | null) =>
    [{ steps: [{ usualMs: 60_000, seen }], rungs: [] }] as unknown as Rollout['passages'];
  const begun = Date.parse('2026-11-27T22:00:00Z');
  const run = { phase: 'busy', rung: null, stepBegunAt: new Date(begun).toISOString(), stepIndex: 0, passage: 0 } as const;
  it.each([
    [30_000, null, '30 s, usually 1 min', false, false],
    [90_000, null, '1 min 30 s, usually 1 min', true, false],
    [121_000, null, 'slow: 2 min 1 s, usually 1 min', true, true],
    [90_000, 100_000, '1 min 30 s, usually 1 min, at most 1 min 40 s until now', true, false],
    [101_000, 100_000, 'slower than ever here: 1 min 41 s, usually 1 min, at most 1 min 40 s until now', true, true],
  ])('%d ms, seen at most %s, is told as %s', (ms, mostMs, text, isLate, isSlow) => {
    expect(paceOf(run, step(mostMs === null ? null : { mostMs, count: 4 }), begun + ms)).toEqual({ text, isLate, isSlow });
  });
  it('is told of nobody who waits, mends, or is at no step', () => {
    for (const other of [{ phase: 'parked' as const }, { stepBegunAt: null }, { passage: 1 }, { rung: { means: 'wait' } as never }])
      expect(paceOf({ ...run, ...other }, step(null), begun)).toBeNull();
  });
});

describe('a rollout with what has changed', () => {
  it('has the runs that changed in their places, and all else as it is now', () => {
    const runs = ['a', 'b', 'c'].map((id) => ({ id, phase: 'waiting' }));
    const before = { id: 'r', phase: 'running', remarks: ['x'], stand: 'e.1', runs } as unknown as Rollout;
    const changes = { id: 'r', phase: 'held', stand: 'e.2', runs: [{ id: 'b', phase: 'busy' }] } as unknown as RolloutChanges;
    const after = withChanges(before, changes);
    expect(after).toMatchObject({ phase: 'held', stand: 'e.2', remarks: ['x'] });
    expect(after.runs.map((r) => r.phase)).toEqual(['waiting', 'busy', 'waiting']);
    expect(before.runs.map((r) => r.phase)).toEqual(['waiting', 'waiting', 'waiting']);
  });
});

describe('a rollout at rest', () => {
  type At = Parameters<typeof isAtRest>[0];
  const rollout = (phase: At['phase'], runs: { phase: string; pastReturn?: boolean }[], heldBy: string | null = null): At => ({
    phase,
    heldBy,
    runs: runs.map((r) => ({ pastReturn: false, ...r })) as unknown as At['runs'],
  });

  it('has ended, or is held with nothing that goes on by itself', () => {
    expect(isAtRest(rollout('ended', []))).toBe(true);
    for (const phase of ['planned', 'running', 'stopping'] as const)
      expect(isAtRest(rollout(phase, [{ phase: 'waiting' }])), phase).toBe(false);
    expect(isAtRest(rollout('held', [{ phase: 'waiting' }, { phase: 'parked' }, { phase: 'ended' }, { phase: 'ready' }]))).toBe(true);
    for (const phase of ['busy', 'asking', 'lost']) expect(isAtRest(rollout('held', [{ phase }])), phase).toBe(false);
  });

  it('is not one in which somebody is past the point of no return between two steps', () => {
    expect(isAtRest(rollout('held', [{ phase: 'ready', pastReturn: true }]))).toBe(false);
  });

  it('is one in which who failed waits for a person, and not one in which Barrow takes it back', () => {
    const broken = [{ phase: 'broken', pastReturn: true }];
    expect(isAtRest(rollout('held', broken, 'somebody'))).toBe(true);
    expect(isAtRest(rollout('held', broken, 'Barrow'))).toBe(false);
  });
});

describe('the end that is foretold', () => {
  const now = new Date('2026-11-28T22:00:00Z');
  const told = { endsAt: '2026-11-28T23:10:00Z', plannedEndsAt: '2026-11-28T23:10:10Z', approvals: [], stuck: null, held: false };
  const at = localTime(told.endsAt, now);
  it.each([
    [told, `It ends about ${at}: as rehearsed.`],
    [{ ...told, plannedEndsAt: '2026-11-28T23:05:00Z' }, `It ends about ${at}: 5 min later than rehearsed.`],
    [{ ...told, plannedEndsAt: '2026-11-28T23:12:00Z' }, `It ends about ${at}: 2 min earlier than rehearsed.`],
    [
      { ...told, held: true, approvals: ['first', 'rest'] },
      `It ends about ${at}, if it goes on now and if the wave first and the wave rest is approved at once: as rehearsed.`,
    ],
    [{ ...told, stuck: 'its last window is over' }, 'As it stands it does not come to its end: its last window is over.'],
  ])('is said with what it hangs on', (view, words) => expect(foretoldText(view, now)).toBe(words));
});
