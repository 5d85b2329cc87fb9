import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  apply,
  decide,
  fitsAt,
  foretell,
  isZone,
  Ledger,
  opensAt,
  rehearse,
  spanAt,
  spansOf,
  tooLate,
  whyWaiting,
  windowText,
  type Spans,
  type WindowRule,
} from '@barrow/core';
import { namedAt } from './full-scan.js';
import { nineSteps, passage, planOf, typicalMs } from './plans.js';
import { World } from './world.js';

const hour = 3_600_000;
const at = (text: string): number => Date.parse(text);
const shown = (spans: Spans): string[][] => spans.map((span) => span.map((t) => new Date(t).toISOString().slice(0, 16)));
const night: WindowRule = { zone: 'Europe/London', days: [], from: 22 * 60, to: 4 * 60 };

describe('windows of a day', () => {
  it('fall on each night, over midnight, the one of yesterday too while it is open', () => {
    expect(shown(spansOf(night, at('2026-11-26T01:00Z'), at('2026-11-27T23:00Z')))).toEqual([
      ['2026-11-25T22:00', '2026-11-26T04:00'],
      ['2026-11-26T22:00', '2026-11-27T04:00'],
      ['2026-11-27T22:00', '2026-11-28T04:00'],
    ]);
  });

  it('begin on the days that were said, whatever day they end on', () => {
    const weekend = { ...night, zone: 'UTC', days: [6, 7] };
    expect(shown(spansOf(weekend, at('2026-11-25T00:00Z'), at('2026-12-06T00:00Z')))).toEqual([
      ['2026-11-28T22:00', '2026-11-29T04:00'],
      ['2026-11-29T22:00', '2026-11-30T04:00'],
      ['2026-12-05T22:00', '2026-12-06T04:00'],
    ]);
    expect(windowText(weekend)).toBe('22:00–04:00 on Sat, Sun (UTC)');
    expect(windowText(night)).toBe('22:00–04:00 (Europe/London)');
  });

  it('begin on single days, over the change of the clocks too, and on no others', () => {
    const dated: WindowRule = { ...night, dates: ['2026-10-24', '2026-11-28'] };
    expect(shown(spansOf(dated, at('2026-10-01T00:00Z'), at('2026-12-31T00:00Z')))).toEqual([
      ['2026-10-24T21:00', '2026-10-25T04:00'],
      ['2026-11-28T22:00', '2026-11-29T04:00'],
    ]);
    expect(spansOf(dated, at('2026-11-29T04:00Z'), at('2027-12-31T00:00Z'))).toEqual([]);
    expect(windowText(dated)).toBe('22:00–04:00 on 2026-10-24, 2026-11-28 (Europe/London)');
  });

  it('are as long as the clock shows on most nights, and an hour more or less when it is set', () => {
    const lasting = (day: string): number[] => spansOf(night, at(`${day}T12:00Z`), at(`${day}T23:00Z`)).map(([a, b]) => (b - a) / hour);
    // In London the clocks go forward on 29 March 2026 and back on 25 October.
    expect([lasting('2026-03-27'), lasting('2026-03-28'), lasting('2026-10-24')]).toEqual([[6], [5], [7]]);
  });

  it('begin after the hour that does not exist, and end after the one that comes twice', () => {
    const early = { ...night, from: 60 + 30, to: 3 * 60 };
    expect(shown(spansOf(early, at('2026-03-29T00:00Z'), at('2026-03-29T12:00Z')))).toEqual([['2026-03-29T01:30', '2026-03-29T02:00']]);
    const twice = { ...night, from: 0, to: 60 + 30 };
    expect(shown(spansOf(twice, at('2026-10-25T00:00Z'), at('2026-10-25T12:00Z')))).toEqual([['2026-10-24T23:00', '2026-10-25T01:30']]);
  });

  it('of whole days are one span without a gap', () => {
    const always = { ...night, from: 0, to: 0 };
    expect(spansOf(always, at('2026-11-25T00:00Z'), at('2026-12-02T00:00Z'))).toHaveLength(1);
  });

  it('are apart from each other, in order, and agree with the clock on the wall in their zone', () => {
    const rules = fc.record({
      zone: fc.constantFrom('Europe/London', 'America/St_Johns', 'Australia/Lord_Howe', 'UTC', 'Asia/Kathmandu'),
      days: fc.uniqueArray(fc.integer({ min: 1, max: 7 })),
      from: fc.integer({ min: 0, max: 1439 }),
      to: fc.integer({ min: 0, max: 1439 }),
    });
    const first = at('2026-01-01T00:00Z');
    fc.assert(
      fc.property(rules, fc.integer({ min: 0, max: 360 }), fc.integer({ min: 1, max: 30 }), (rule, day, days) => {
        const [after, before] = [first + day * 24 * hour, first + (day + days) * 24 * hour];
        const spans = spansOf(rule, after, before);
        spans.forEach(([a, b], i) => {
          expect(b).toBeGreaterThan(a);
          if (i > 0) expect(a).toBeGreaterThan(spans[i - 1]![1]);
          expect(b > after && a < before).toBe(true);
        });
        const wall = (t: number): number => {
          const parts = new Intl.DateTimeFormat('en-GB', {
            timeZone: rule.zone,
            hour: '2-digit',
            minute: '2-digit',
            hourCycle: 'h23',
          }).format(t);
          return Number(parts.slice(0, 2)) * 60 + Number(parts.slice(3));
        };
        // On days without a change of the clock the ends are what was said.
        for (const [a, b] of spans) {
          const change = new Set([a - 26 * hour, a, b, b + 26 * hour].map((t) => (wall(t) * 60_000 - t) % (24 * hour))).size > 1;
          if (!change && b - a < 24 * hour) expect([wall(a), wall(b)]).toEqual([rule.from, rule.to]);
        }
      }),
      { numRuns: 80 },
    );
  });

  it('know their zones', () => {
    expect([isZone('Europe/London'), isZone('Nowhere/At-All'), isZone('')]).toEqual([true, false, false]);
  });
});

describe('what fits into a span', () => {
  const spans: Spans = [
    [10, 20],
    [30, 60],
  ];
  it('begins at once, in a later one, or never', () => {
    expect([fitsAt(spans, 12, 8), fitsAt(spans, 12, 9), fitsAt(spans, 5, 10), fitsAt(spans, 31, 30), fitsAt(spans, 60, 1)]).toEqual([
      12,
      30,
      10,
      null,
      null,
    ]);
    expect([spanAt(spans, 9), spanAt(spans, 10), spanAt(spans, 20), spanAt(spans, 59)]).toEqual([null, [10, 20], null, [30, 60]]);
  });
});

const down = ['activate', 'confirm-next-boot', 'reboot', 'return', 'checks'].reduce((sum, s) => sum + typicalMs[s as 'checks']!, 0);

describe('a rollout that is to be done by a moment', () => {
  const started = (doneBy: number, shape: Parameters<typeof planOf>[0] = {}): World => {
    const made = new World(planOf({ devices: 3, first: 0, atOnce: 9, ...shape }), new Ledger(), [], doneBy);
    made.settle();
    return made;
  };
  const done = (w: World, times: number, id: string): void => {
    for (let n = 0; n < times; n++) {
      w.happen({ kind: 'step-done', at: w.now, run: id, ...namedAt(w.state, w.state.indexOf.get(id)!) });
      w.settle();
    }
  };
  const at = (w: World, id: string): number => w.state.indexOf.get(id)!;
  const phases = (w: World) => ['d1', 'd2', 'd3'].map((id) => w.state.runs[at(w, id)]!.phase);

  it('begins to take down only who would be back by then, and holds when nobody would, with nothing in hand', () => {
    const w = started(hour);
    for (const id of ['d1', 'd2', 'd3']) done(w, 3, id);
    w.now += hour - down;
    for (const id of ['d1', 'd2']) done(w, 1, id);
    expect(phases(w)).toEqual(['busy', 'busy', 'busy']);
    w.now += 1;
    done(w, 1, 'd3');
    // What is in hand is not stopped by it, and nobody else is held up meanwhile.
    expect(w.state.phase).toBe('running');
    expect(phases(w)).toEqual(['busy', 'busy', 'parked']);
    expect(whyWaiting(w.state, at(w, 'd3'), w.ledger, (h) => h.run, w.now)).toEqual({
      text: 'is not begun: it would not be back by when all is to be done',
      until: 1_000_000 + hour,
    });
    expect(foretell(w.state, w.now).stuck).toBe(tooLate);
    for (const id of ['d1', 'd2']) done(w, 5, id);
    expect(w.state).toMatchObject({ phase: 'held', heldBy: 'Barrow', heldBecause: tooLate });
    // A person who goes on with it knows what time it is; Barrow by itself does not.
    expect(apply(structuredClone(w.state), { kind: 'continued', at: w.now, by: 'Barrow' }).doneBy).toBe(1_000_000 + hour);
    w.happen({ kind: 'continued', at: w.now, by: 'ana' });
    // Nobody is too late any more, and who was is looked at again.
    expect([w.ledger.isTooLate(w.state), w.ledger.isTooLate(w.state)]).toEqual([false, false]);
    w.settle();
    expect(phases(w)[2]).toBe('busy');
    done(w, 5, 'd3');
    expect(w.state.runs.map((r) => r.outcome)).toEqual(['verified', 'verified', 'verified']);
  });

  it('goes on for who waits for a window that opens before then, and holds when that is behind it', () => {
    const opens = 1_000_000 + down / 2;
    const short = passage(undefined, {
      ...{ name: 'at once', component: 'system', pointOfNoReturn: 'reboot' },
      stretches: [{ name: 'change', steps: ['reboot', 'return'].map((step) => ({ step, usualMs: 10 })) }],
    });
    const window = { name: 'night', window: { text: 'a test', spans: [[opens, opens + hour]] as const } };
    const w = started(down - 1, { devices: 2, each: [{}, { passage: short, window }] });
    done(w, 4, 'd1');
    expect(w.state).toMatchObject({ phase: 'running' });
    expect(w.state.runs.map((r) => r.phase).sort()).toEqual(['parked', 'waiting']);
    w.now = opens;
    w.settle();
    done(w, 2, 'd2');
    expect(w.state).toMatchObject({ phase: 'held', heldBecause: tooLate });
  });

  it('counts the way back with what it does, and what only prepares not at all', () => {
    const back = { wayBack: true, each: [0, 1, 2].map(() => ({ passage: passage(undefined, nineSteps(), true) })) };
    for (const [shape, phase] of [
      [{}, 'busy'],
      [back, 'parked'],
    ] as const) {
      const w = started(hour, { ...shape, devices: 1 });
      w.now += hour - down;
      done(w, 4, 'd1');
      expect(w.state.runs[0]!.phase, JSON.stringify(shape).slice(0, 20)).toBe(phase);
    }
  });
});

describe('a rollout with a window', () => {
  const start = 1_000_000;
  const window = (spans: Spans) => ({ text: 'a test', spans });
  const started = (spans: Spans, shape: Parameters<typeof planOf>[0] = {}): World => {
    const plan = planOf({ devices: 2, first: 0, each: [{ site: 'a' }], window: window(spans), ...shape });
    const made = new World(plan);
    made.settle();
    return made;
  };
  const done = (w: World, times: number, id = 'd1'): void => {
    for (let n = 0; n < times; n++) {
      w.happen({ kind: 'step-done', at: w.now, run: id, ...namedAt(w.state, w.state.indexOf.get(id)!) });
      w.settle();
    }
  };
  const why = (w: World, index = 0) => whyWaiting(w.state, index, w.ledger, (h) => h.run, w.now);

  it('prepares before it, and goes down only in it; the wait is said, with its end', () => {
    const w = started([[start + 5 * hour, start + 6 * hour]]);
    done(w, 4);
    expect(w.state.runs[0]!.phase).toBe('parked');
    expect(why(w)).toEqual({ text: 'waits for its window', until: start + 5 * hour });
    expect(w.decide()).toContainEqual({ kind: 'wake', at: start + 5 * hour });
    w.now = start + 5 * hour - 1;
    w.settle();
    expect(w.state.runs[0]!.phase).toBe('parked');
    w.now++;
    w.settle();
    expect(namedAt(w.state, 0).step).toBe('activate');
  });

  it('does not begin what would not end in it, with its way back where the plan has one, and takes the next', () => {
    const late = start + hour - down + 1;
    for (const [wayBack, begins] of [
      [false, start + hour - down],
      [true, start + hour - 2 * down],
    ] as const) {
      const spans: Spans = [
        [start, start + hour],
        [start + 10 * hour, start + 20 * hour],
      ];
      const w = started(spans, { wayBack, each: [{ site: 'a', passage: passage(undefined, nineSteps(), true) }] });
      w.now = late;
      done(w, 4);
      expect(why(w)?.until, String(wayBack)).toBe(start + 10 * hour);
      w.now = start + 10 * hour;
      w.settle();
      expect(namedAt(w.state, 0).step).toBe('activate');
      const in_ = started(spans, { wayBack, each: [{ site: 'a', passage: passage(undefined, nineSteps(), true) }] });
      in_.now = Math.max(start, begins - hour / 2);
      done(in_, 4);
      expect(in_.state.runs[0]!.phase).toBe('busy');
    }
  });

  it('lets others go on that need no window now, and never opens one for what mends', () => {
    const w = started([[start, start + hour]], { wayBack: true, atOnce: 1 });
    done(w, 8);
    w.now = start + 2 * hour;
    w.happen({ kind: 'step-failed', at: w.now, run: 'd1', ...namedAt(w.state, 0), cause: 'settings-changed', detail: '' });
    w.settle();
    expect(w.state.runs[0]).toMatchObject({ phase: 'busy', rung: 1 });
  });

  it('is held when its last window is over and somebody still waits for one; nothing else is stopped by that', () => {
    const w = started([[start, start + hour]]);
    w.now = start + 2 * hour;
    done(w, 4);
    expect(w.state).toMatchObject({
      phase: 'held',
      heldBy: 'Barrow',
      heldBecause: 'its last window is over, and devices still wait for one',
    });
    expect(why(w)?.text).toBe('waits: the rollout is held');
  });

  it('is rehearsed through its windows, or says that it never ends', () => {
    const spans: Spans = [
      [start + 5 * hour, start + 6 * hour],
      [start + 29 * hour, start + 30 * hour],
    ];
    const plan = (s: Spans) => planOf({ devices: 12, first: 0, atOnce: 1, window: window(s) });
    const played = rehearse(plan(spans), start);
    expect(played.stuck).toBeNull();
    for (const run of played.runs) expect(spanAt(spans, run.downFrom!), run.name).not.toBeNull();
    for (const run of played.runs) expect(spanAt(spans, run.downUntil! - 1), run.name).not.toBeNull();
    expect(rehearse(plan([[start, start + 1000]]), start)).toMatchObject({
      stuck: expect.stringContaining('last window is over') as string,
    });
  });

  it('waits for the clock on the wall, whatever the clock of waits shows', () => {
    const w = started([[start + 5 * hour, start + 6 * hour]]);
    done(w, 4);
    const wall = start + 5 * hour;
    expect(decide(w.state, w.ledger, w.now, wall - hour)).toContainEqual({ kind: 'wake', at: w.now + hour });
    expect(decide(w.state, w.ledger, w.now, wall)).toContainEqual(expect.objectContaining({ kind: 'enter-stretch', run: 'd1' }) as object);
    expect(opensAt(w.plan, w.plan.runs[0]!, 2, wall)).toBe(wall);
    expect(opensAt(w.plan, w.plan.runs[0]!, 0, 0)).toBe(0);
  });
});
