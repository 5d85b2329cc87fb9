import { describe, expect, it } from 'vitest';
import { makePassage, type JournalEntry, type LiveEvent, type Report, type RolloutEvent } from '@barrow/core';
import { loadFamilies, wayOf } from '@barrow/families';
import { Live } from '../src/live.js';
import { reportCsv } from '../src/report/csv.js';
import { reportPage } from '../src/report/html.js';
import { traceOf, trailOf, Trails } from '../src/runner/trail.js';
import { hideSecrets } from '../src/touch/secrets.js';

describe('secrets of settings', () => {
  const families = loadFamilies();
  it.each([
    ['tarnbrook-access', 'watchword tide-7731', 'watchword ‹hidden›'],
    ['tarnbrook-access', '-watchword tide-7731', '-watchword ‹hidden›'],
    ['tarnbrook-access', ' watchword tide-7731', ' watchword ‹hidden›'],
    ['tarnbrook-access', 'port 1 lan 10', 'port 1 lan 10'],
    ['wendlock-branch', 'peer dunmoor word slack-water', 'peer dunmoor word ‹hidden›'],
    ['wendlock-branch', 'one\n+peer a word b\ntwo', 'one\n+peer a word ‹hidden›\ntwo'],
  ])('of %s in %j are hidden', (family, text, shown) => expect(hideSecrets(text, families.get(family)!)).toBe(shown));
});

describe('the trail of a run', () => {
  const begun = (at: number, step = 'reboot', leg = 0): RolloutEvent => ({
    ...{ kind: 'step-begun', at, run: 'd', step, attempt: 1 },
    ...(leg > 0 ? { leg } : {}),
  });
  const done = (at: number, facts: Record<string, unknown>): RolloutEvent => ({ kind: 'step-done', at, run: 'd', step: 'reboot', facts });
  const retried: RolloutEvent = { kind: 'run-retried', at: 20, run: 'd', by: 'a' };
  const entries = (...events: RolloutEvent[]): JournalEntry[] => events.map((event, i) => ({ seq: i + 1, rollout: 'r', event }));
  const once = [begun(5), begun(9), done(12, { sentAt: 7 })];

  it('keeps when a step was first begun, however often it is begun again, and its facts', () => {
    expect(traceOf(trailOf(entries(...once), 1), 'reboot')).toEqual({ begunAt: 5, endedAt: 12, facts: { sentAt: 7 } });
  });

  it('keeps of a run that begins anew what is of the legs behind it, and nothing else', () => {
    const second = [...once, begun(14, 'transfer', 1), retried];
    const on = trailOf(entries(...second, begun(30, 'preflight', 1)), 2);
    expect([traceOf(on, 'reboot')?.begunAt, traceOf(on, 'transfer', 1), traceOf(on, 'preflight', 1)?.begunAt]).toEqual([5, undefined, 30]);
    const all = trailOf(entries(...second, begun(30, 'preflight')), 2);
    expect([traceOf(all, 'reboot'), traceOf(all, 'transfer', 1)]).toEqual([undefined, undefined]);
  });

  it('forgets what was tried to take it back when that is asked for again', () => {
    const back = [...once, begun(14, 'fall-back', 1), { kind: 'take-back-asked', at: 20, run: 'd', by: 'a' } as const];
    const trail = trailOf(entries(...back), 1);
    expect([traceOf(trail, 'reboot')?.begunAt, traceOf(trail, 'fall-back', 1)]).toEqual([5, undefined]);
  });

  it('is read once, with what happens meanwhile and after, and let go when the run has ended', async () => {
    const kept = entries(...once);
    let reads = 0;
    let release = (): void => undefined;
    const waiting = new Promise<void>((resolve) => (release = resolve));
    const trails = new Trails(
      () => 1,
      async () => {
        reads++;
        const all = kept.slice(0, 2);
        await waiting;
        return all;
      },
    );
    const two = [trails.of('d'), trails.of('d')];
    // One that was read already, and one that was not; and one of somebody else.
    trails.follow('d', kept[1]!, false);
    trails.follow('d', kept[2]!, false);
    trails.follow('e', kept[2]!, false);
    release();
    const [one, other] = await Promise.all(two);
    expect(one).toBe(other);
    expect(traceOf(one!, 'reboot')).toEqual({ begunAt: 5, endedAt: 12, facts: { sentAt: 7 } });
    trails.follow('d', { seq: 4, rollout: 'r', event: begun(40, 'return') }, false);
    expect(traceOf(await trails.of('d'), 'return')?.begunAt).toBe(40);
    expect(reads).toBe(1);
    trails.follow('d', { seq: 5, rollout: 'r', event: begun(50, 'checks') }, true);
    await trails.of('d');
    expect(reads).toBe(2);
  });
});

describe('durations', () => {
  const way = wayOf(loadFamilies().get('tarnbrook-access')!, 'system', '4.2.1')!;
  const durations = (bytes: number, timeScale: number): Record<string, number> => {
    const leg = { image: 'a', component: 'system', from: '1', to: '2', bytes, way };
    return Object.fromEntries(makePassage([leg], timeScale).steps.map((s) => [s.step, s.typicalMs]));
  };
  it('grow with the image for the transfer only, and shrink with the time scale', () => {
    const small = durations(0, 1);
    const large = durations(10 * 1024 * 1024, 1);
    expect(large['transfer']! - small['transfer']!).toBe(220_000);
    expect({ ...large, transfer: 0 }).toEqual({ ...small, transfer: 0 });
    expect(durations(0, 10)['return']).toBe(Math.round(small['return']! / 10));
  });
});

describe('live events', () => {
  it('reach everybody who listens, until they leave', () => {
    const live = new Live();
    const [one, two]: [LiveEvent[], LiveEvent[]] = [[], []];
    const leave = live.listen((e) => one.push(e));
    live.listen((e) => two.push(e));
    live.changed('devices');
    leave();
    live.changed('images');
    expect([one.length, two.length]).toEqual([1, 2]);
  });
});

describe('a report', () => {
  const run: Report['runs'][number] = {
    device: 'd',
    name: '=HYPERLINK("x")',
    address: '127.40.1.1',
    site: '<img src=x onerror=alert(1)>',
    serial: 'a,b',
    outcome: 'failed',
    cause: { code: 'no-space', what: 'What <b>happened</b>.', next: 'Look at `barrow <i>x</i>`.' },
    detail: '"quoted"\nand a second line',
    before: '4.2.1',
    after: null,
    target: '4.3.0',
    image: 'a'.repeat(64),
    digestOnDevice: null,
    backup: null,
    begunAt: null,
    endedAt: null,
    downMs: null,
    steps: [],
    checks: [],
    attempts: 1,
    tried: [],
    rungs: [
      {
        text: 'waited for once more',
        for: { cause: { code: 'never-returned', what: 'It is <b>away</b>.', next: 'Go there.' }, detail: '<img src=y>' },
        by: '<script>',
        begunAt: '2026-11-23T08:00:00.000Z',
        endedAt: null,
        failed: null,
        unsure: null,
      },
    ],
  };
  const totals = { verified: 0, failed: 1, withdrawn: 0, skipped: 0, recovered: 0, 'not-begun': 0, waiting: 0, 'under-way': 0 };
  const report: Report = {
    rollout: {
      id: 'r',
      name: '<script>x</script>',
      begins: null,
      trouble: null,
      phase: 'ended',
      heldBecause: null,
      heldBy: null,
      createdAt: '',
      createdBy: '',
      startedAt: null,
      startedBy: null,
      endedAt: null,
      devices: 1,
      totals,
    },
    madeAt: '2026-11-23T08:00:00.000Z',
    images: [],
    runs: [run],
    leftOut: [],
    deeds: [],
  };
  it('in CSV quotes what must be quoted (RFC 4180) and starts no formula', () => {
    const [head, line, end] = reportCsv(report).split('\r\n');
    expect(head!.split(',')[0]).toBe('name');
    expect(line).toContain(`"'=HYPERLINK(""x"")"`);
    expect(line).toContain('"a,b"');
    expect(line!.endsWith(',waited for once more: not ended')).toBe(true);
    expect(end).toBe('');
  });
  it('as a page escapes everything that came from elsewhere', () => {
    const page = reportPage(report);
    for (const harm of ['<script>', '<img src=x', '<img src=y', '<b>happened', '<b>away']) expect(page).not.toContain(harm);
    expect(page).toContain('&lt;script&gt;');
    expect(page).toContain('0 of 1');
    // A command is set as one, without its backticks.
    expect(page).toContain('Look at <code>barrow &lt;i&gt;x&lt;/i&gt;</code>.');
  });
});
