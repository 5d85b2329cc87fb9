import { describe, expect, it } from 'vitest';
import { localTime, octets, totalsOf, isAtRest } from '@barrow/client';

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
