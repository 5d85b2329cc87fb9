import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addressesOf,
  causes,
  checkConfiguration,
  checkRestart,
  compareConfigurations,
  duration,
  normaliseConfiguration,
  RangeMalformed,
  recordFromSnmp,
  safeText,
  sysUpTimeWrap,
  type RunningTime,
} from '@barrow/core';

const hour = 3_600_000;
const day = 24 * hour;

describe('the proof of a restart', () => {
  const before: RunningTime = { readAt: 0, agentUptime: 90 * day, bootCount: null, engineBoots: 5 };
  const after = (over: Partial<RunningTime>): RunningTime => ({
    readAt: 2 * hour,
    agentUptime: 60_000,
    bootCount: null,
    engineBoots: 6,
    ...over,
  });
  const ask = (over: object) => checkRestart({ before, after: after({}), rebootSentAt: hour, seenSilent: true, timeScale: 1, ...over });

  it('is a restarted sysUpTime together with a silence', () => {
    expect(ask({}).result).toBe('passed');
  });
  it('is not an agent that alone restarted', () => {
    expect(ask({ seenSilent: false }).result).toBe('failed');
  });
  it('is not a sysUpTime that went on', () => {
    expect(ask({ after: after({ agentUptime: 90 * day + 2 * hour }) }).result).toBe('failed');
  });
  it('is not a sysUpTime that wrapped by itself after 497 days', () => {
    const check = ask({ before: { ...before, agentUptime: sysUpTimeWrap - hour } });
    expect(check.result).toBe('failed');
    expect(check.evidence.join()).toMatch(/wrapped by itself/);
  });
  it("is the device's own boot count when it has one, whatever the agent says", () => {
    expect(
      ask({ before: { ...before, bootCount: 7 }, after: after({ bootCount: 8, agentUptime: 91 * day }), seenSilent: false }).result,
    ).toBe('passed');
    expect(ask({ before: { ...before, bootCount: 7 }, after: after({ bootCount: 7 }) }).result).toBe('failed');
  });
  it('is not disturbed by snmpEngineBoots that fell', () => {
    expect(ask({ after: after({ engineBoots: 1 }) }).result).toBe('passed');
  });
});

describe('configurations', () => {
  const rules = { ignoreLines: ['^! told after '] };
  it('are the same apart from lines that change by themselves, line ends and trailing space', () => {
    expect(compareConfigurations('! told after 5 s\nname a\nport 1\n', 'name a  \r\nport 1\r\n! told after 9 s\r\n\n', rules).same).toBe(
      true,
    );
  });
  it('show what is gone and what is new', () => {
    const { check, difference } = checkConfiguration('name a\nport 1\nport 2\n', 'name factory\nport 1\nport 2\n', rules);
    expect(check).toMatchObject({ result: 'failed', cause: 'settings-changed', after: '1 lines gone, 1 new' });
    expect(difference.lines).toEqual(['-name a', '+name factory', ' port 1', ' port 2']);
  });
  it('are never different from themselves, and normalising twice is normalising once', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ maxLength: 20 }), { maxLength: 30 }), (lines) => {
        const text = lines.join('\n');
        expect(compareConfigurations(text, text, rules).same).toBe(true);
        const once = normaliseConfiguration(text, rules);
        expect(normaliseConfiguration(once, rules)).toBe(once);
      }),
    );
  });
});

describe('ranges', () => {
  it.each([
    [['127.40.1.7'], [], ['127.40.1.7']],
    [['127.40.1.1-3'], ['127.40.1.2'], ['127.40.1.1', '127.40.1.3']],
    [['127.40.1.254-127.40.2.1'], [], ['127.40.1.254', '127.40.1.255', '127.40.2.0', '127.40.2.1']],
    [['127.40.1.8/30', '127.40.1.9'], [], ['127.40.1.9', '127.40.1.10']],
  ])('%j without %j', (ranges, exclude, expected) => {
    expect(addressesOf(ranges, exclude)).toEqual(expected);
  });
  it.each(['127.40.1', '127.40.1.256', '127.40.1.9-127.40.1.1', '127.40.1.0/33', '127.40.1.1-2-3', 'quay', '127.0.0.0/8', ''])(
    'refuses "%s"',
    (text) => {
      expect(() => addressesOf([text])).toThrow(RangeMalformed);
    },
  );
});

describe('what a device says', () => {
  it('cannot move a cursor or hide a line', () => {
    expect(safeText('a\u001b[2Jb\u0007\rc\u202ed')).toBe('a\\x1b[2Jb\\x07c\\x202ed');
    expect(safeText('x'.repeat(5000)).length).toBeLessThan(4200);
  });
  it('becomes a record, or nothing, never a guess', () => {
    expect(recordFromSnmp(new Map())).toMatchObject({ serial: null, firmware: null, mac: null, agentUptime: null });
    const entity = '1.3.6.1.2.1.47.1.1.1.1';
    const raw = new Map<string, string | number>([
      [`${entity}.5.2`, 9],
      [`${entity}.11.2`, 'MODULE'],
      [`${entity}.5.7`, 3],
      [`${entity}.11.7`, 'CHASSIS'],
      ['1.3.6.1.2.1.2.2.1.6.1', '0x06174b000100'],
      ['1.3.6.1.2.1.1.3.0', 4200],
    ]);
    expect(recordFromSnmp(raw)).toMatchObject({ serial: 'CHASSIS', mac: '06:17:4b:00:01:00', agentUptime: 42_000 });
  });
});

describe('small words', () => {
  it.each([
    [400, '400 ms'],
    [42_000, '42 s'],
    [125_000, '2 min 5 s'],
    [3_600_000, '1 h'],
    [90 * hour, '3 d 18 h'],
  ])('%d ms is %s', (ms, text) => expect(duration(ms)).toBe(text));
  it('every cause says what happened and what to look at next, once', () => {
    expect(new Set(causes.map((c) => c.code)).size).toBe(causes.length);
    for (const c of causes) {
      expect(c.what).toMatch(/^[A-Z].*\.$/);
      expect(c.next.length).toBeGreaterThan(20);
    }
  });
});
