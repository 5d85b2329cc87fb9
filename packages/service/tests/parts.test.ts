import { describe, expect, it } from 'vitest';
import { makePassage, type LiveEvent, type Report, type RolloutEvent, type RolloutState } from '@barrow/core';
import { loadFamilies, wayOf } from '@barrow/families';
import { Live } from '../src/live.js';
import { reportCsv } from '../src/report/csv.js';
import { reportPage } from '../src/report/html.js';
import { follow, traceOf } from '../src/runner/trail.js';
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
  const step = (kind: 'step-begun' | 'step-done', at: number, facts?: Record<string, unknown>): RolloutEvent =>
    kind === 'step-begun' ? { kind, at, run: 'd', step: 'reboot', attempt: 1 } : { kind, at, run: 'd', step: 'reboot', facts };
  it('keeps when a step was first begun, however often it is begun again, and its facts', () => {
    const trails = new Map();
    const state = (legs: number) => ({ indexOf: new Map([['d', 0]]), runs: [{ legs }] }) as unknown as RolloutState;
    for (const event of [step('step-begun', 5), step('step-begun', 9), step('step-done', 12, { sentAt: 7 })])
      follow(trails, event, state(0));
    expect(traceOf(trails, 'd', 'reboot')).toEqual({ begunAt: 5, endedAt: 12, facts: { sentAt: 7 } });
    // A leg that is behind it stays behind it.
    follow(trails, { kind: 'run-retried', at: 20, run: 'd', by: 'a' }, state(1));
    expect(traceOf(trails, 'd', 'reboot')).toBeDefined();
    follow(trails, { kind: 'run-retried', at: 20, run: 'd', by: 'a' }, state(0));
    expect(traceOf(trails, 'd', 'reboot')).toBeUndefined();
  });
});

describe('durations', () => {
  const way = wayOf(loadFamilies().get('tarnbrook-access')!, 'system')!;
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
    cause: { code: 'no-space', what: 'What <b>happened</b>.', next: 'Look.' },
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
  };
  const totals = { verified: 0, failed: 1, withdrawn: 0, skipped: 0, recovered: 0, 'not-begun': 0, waiting: 0, 'under-way': 0 };
  const report: Report = {
    rollout: {
      id: 'r',
      name: '<script>x</script>',
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
    expect(end).toBe('');
  });
  it('as a page escapes everything that came from elsewhere', () => {
    const page = reportPage(report);
    for (const harm of ['<script>', '<img src=x', '<b>happened']) expect(page).not.toContain(harm);
    expect(page).toContain('&lt;script&gt;');
    expect(page).toContain('0 of 1');
  });
});
