import { describe, expect, it } from 'vitest';
import type { Rollout, RolloutChanges, RunView, TargetPreview } from '@barrow/core';
import {
  soakChange,
  soakValue,
  soakWord,
  approvalDoes,
  wouldDo,
  foretoldText,
  isAtRest,
  localTime,
  octets,
  paceOf,
  previewText,
  totalsOf,
  waveText,
  withChanges,
} from '@barrow/client';

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
    const totals = { verified: 12, failed: 1, withdrawn: 0, skipped: 0, recovered: 0, 'not-begun': 1, waiting: 0, 'under-way': 2 };
    expect(totalsOf({ totals, devices: 16 })).toBe('12 of 16 verified, 1 failed, 1 not-begun, 2 under way');
  });
});

describe('the phase of a wave', () => {
  const soak = { judged: false, worse: null };
  const soaksUntil = '2026-11-27T22:00:00Z';
  const wave = { phase: 'soaking', totals: { verified: 2 }, soak, soaksUntil } as const;
  it.each([
    ['waiting', { phase: 'waiting', soaksUntil: null }, 'running', 'waiting'],
    ['never opened', { phase: 'waiting', soaksUntil: null }, 'ended', 'not opened'],
    ['soaking', {}, 'running', 'soaking'],
    ['judged', { soak: { judged: true, worse: null } }, 'running', 'soak ended'],
    ['without a soak', { soaksUntil: null }, 'running', 'ended'],
    ['soaking when the rollout was stopped', {}, 'ended', 'ended'],
    ['with all verified', { phase: 'passed', soaksUntil: null }, 'running', 'passed'],
    ['with a failed device', { phase: 'passed', soaksUntil: null, totals: { failed: 1 } }, 'running', 'ended, 1 failed'],
  ] as const)('of one that is %s', (_, of, rollout, text) => expect(waveText({ ...wave, ...of } as never, rollout)).toBe(text));
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
  const run = { phase: 'busy', rung: null, stepBegunAt: new Date(begun).toISOString(), stepIndex: 0, passage: 0, asks: null } as const;
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
    for (const other of [
      { phase: 'parked' as const },
      { stepBegunAt: null },
      { passage: 1 },
      { rung: { means: 'wait' } as never },
      { asks: 'x' },
    ])
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

describe('what a word would do', () => {
  const run = (name: string, more: Partial<RunView>): RunView =>
    ({ name, outcome: null, phase: 'waiting', pastReturn: false, takeBack: null, cutsOff: null, ...more }) as RunView;
  const past = run('p', { phase: 'busy', pastReturn: true });
  const busy = run('b', { phase: 'busy' });
  const idle = [run('w', {}), run('k', { phase: 'parked' })];
  const failed = run('f', { phase: 'ended', outcome: 'failed' });
  const of = (runs: readonly RunView[], heldBecause: string | null = null) => ({ runs: [...runs], phase: 'running' as const, heldBecause });

  it('says who goes on, who finishes a step, and who is left', () => {
    expect(wouldDo('hold', of([past, busy, ...idle, failed]))).toEqual([
      'Go on to their end, since to stop there would harm them: 1 device (p).',
      'Finish the step in hand, then rest: 1 device (b).',
      'Are not begun until you say continue: 2 devices (w, k).',
      'Nothing is undone.',
    ]);
    expect(wouldDo('stop', of([past, busy, ...idle]))).toEqual([
      'Go on to their end, since to stop there would harm them: 1 device (p).',
      'Finish the step in hand, then end withdrawn: 1 device (b).',
      'End withdrawn, as they are: 2 devices (w, k).',
      'It cannot be continued then; who was withdrawn can be retried.',
    ]);
    expect(wouldDo('stop', of([failed]))).toEqual(['It cannot be continued then; who was withdrawn can be retried.']);
  });

  it('says what it accepts and forgives to go on', () => {
    expect(wouldDo('continue', of([failed, ...idle], '1 failed in wave 1'))).toEqual([
      'Accepts why it is held: 1 failed in wave 1.',
      'Forgives, and leaves as they are: 1 device (f).',
      'Goes on with 2 devices (w, k).',
    ]);
    expect(wouldDo('continue', of([failed]))).toEqual(['Forgives, and leaves as they are: 1 device (f).', 'Nobody is left to go on with.']);
  });

  it.each([
    ['skip', idle[0]!, 'w is left as it is. Who needs it is not begun. It can be retried.'],
    ['skip', busy, 'b is left as it is, as soon as the step in hand has ended. Who needs it is not begun. It can be retried.'],
    ['skip', past, 'p is past its point of no return: it cannot be left out.'],
    ['take-over', past, 'p is past its point of no return: Barrow takes it to its end.'],
    ['take-back', failed, 'f cannot be taken back now.'],
    ['take-back', run('f', { takeBack: 'taken back by its other slot' }), 'f is taken back by its other slot, and looked at then.'],
    [
      'take-back',
      run('f', { cutsOff: ['g'] }),
      'If you accept that others are cut off, it is started anew by cutting its power where that does not help: g loses power with it.',
    ],
    ['release', failed, 'What guards f is let go: what it hangs on may go down again. Say so only when it neither writes nor is down.'],
    [
      'retry',
      failed,
      'f is begun anew, from the first image that it was not verified on. What an earlier attempt brought is compared again, and not brought again.',
    ],
  ] as const)('%s of one says what becomes of it', (word, one, text) => expect(wouldDo(word, of([one]), one)).toEqual([text]));
});

describe('what the word does that a gate waits for', () => {
  const wave = (index: number, more: object = {}) => ({
    ...{
      index,
      name: index === 0 ? 'early' : 'rest',
      phase: 'soaking',
      approvedBy: null,
      heldBack: null,
      soaksUntil: null,
      gate: { approval: true },
    },
    ...{ totals: index === 0 ? { verified: 2, failed: 1 } : {}, ...more },
  });
  const of = (first: object, second: object = {}) =>
    ({
      waves: [wave(0, first), wave(1, { phase: 'waiting', ...second })],
      runs: ['a', 'b', 'c'].map((name) => ({ name, wave: 1, outcome: name === 'c' ? 'skipped' : null })),
    }) as unknown as Rollout;
  const stands = 'Wave 1 (early) has 2 verified, 1 failed.';

  it.each([
    [
      'while it is open',
      of({ phase: 'open' }),
      0,
      [stands, 'As soon as it has ended, and its gate asks for nothing else, wave 2 (rest) is opened: 2 devices (a, b).'],
    ],
    [
      'while it soaks',
      of({ soaksUntil: '2026-11-27T22:00:01Z' }),
      0,
      [stands, 'When it has soaked, and nothing got worse, wave 2 (rest) is opened: 2 devices (a, b).'],
    ],
    ['when it has soaked', of({ soaksUntil: '2026-11-27T21:59:59Z' }), 0, [stands, 'Now wave 2 (rest) is opened: 2 devices (a, b).']],
    ['when nothing else is asked', of({}), 0, [stands, 'Now wave 2 (rest) is opened: 2 devices (a, b).']],
    [
      'when the next one is held back',
      of({}, { heldBack: { by: 'ana', reason: '' } }),
      0,
      [
        stands,
        'Now wave 2 (rest) is opened: 2 devices (a, b).',
        'That one is held back by ana: it is not opened before that is taken back.',
      ],
    ],
    ['when it was given', of({ approvedBy: 'ana' }), 0, [stands, 'It has its word already, from ana.']],
    ['when none is asked', of({ gate: { approval: false } }), 0, [stands, 'Its gate asks for no word.']],
    ['of the last one', of({}), 1, ['It is the last one: nobody waits for its word.']],
    ['of none', of({}), 7, ['There is no wave 8.']],
  ] as const)('is told %s', (_, rollout, index, told) =>
    expect(approvalDoes(rollout, index, Date.parse('2026-11-27T22:00:00Z'))).toEqual(told),
  );
});

describe('what a soak has shown, in words', () => {
  it('is short', () => {
    expect(soakWord([])).toBe('nothing got worse');
    expect(soakWord([{ verdict: 'unknown' }], 0)).toBe('Barrow cannot say whether anything got worse');
    expect(soakWord([{ verdict: 'told' }])).toBe('otherwise than before, and no harm');
    expect(soakWord([{ verdict: 'told' }, { verdict: 'unknown' }])).toBe('nothing measured got worse; some devices could not be measured');
    expect(soakWord([{ verdict: 'worse' }, { verdict: 'unknown' }])).toBe('1 thing got worse');
    expect(soakWord([{ verdict: 'worse' }, { verdict: 'worse' }])).toBe('2 things got worse');
  });

  it('has values in the units that people read', () => {
    expect(['free memory', 'load of the processor', 'round trip', 'errors'].map((m) => soakValue(m, 2048.26))).toEqual([
      '2.0 MB',
      '2048 %',
      '2048 ms',
      '2048.3',
    ]);
    expect(
      soakChange('free memory', [
        [0, 10_240],
        [5, 5120],
      ]),
    ).toBe('10.0 MB → 5.0 MB');
    expect(
      soakChange('ports that come and go', [
        [0, 1],
        [5, 0],
        [9, 2],
      ]),
    ).toBe('3 in all');
  });
});
