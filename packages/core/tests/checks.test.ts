import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addressesOf,
  causes,
  checkConfiguration,
  checkNextBoot,
  checkRestart,
  checkSerial,
  checkVersion,
  compareConfigurations,
  countAddresses,
  duration,
  normaliseConfiguration,
  RangeMalformed,
  rangeOfNoDevices,
  rangeTester,
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
  const ask = (over: object) =>
    checkRestart({ before, after: after({}), rebootSentAt: hour, seenSilent: true, versionMoved: true, timeScale: 1, ...over });

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
  it('is a running time that is shorter than before, though longer than since the restart: our own clock was away', () => {
    expect(ask({ after: after({ agentUptime: 3 * hour }) }).result).toBe('passed');
    // At the very moment of the restart, and one tick older than it.
    expect(ask({ before: { ...before, agentUptime: hour / 2 }, after: after({ agentUptime: hour }) }).result).toBe('passed');
    expect(ask({ before: { ...before, agentUptime: hour / 2 }, after: after({ agentUptime: hour + 10 }) }).result).toBe('failed');
    expect(ask({ before: { ...before, agentUptime: 3 * hour }, after: after({ agentUptime: 3 * hour }) }).result).toBe('failed');
  });
  it('goes by the time of the device, which may run faster than ours', () => {
    const slow = { before: { ...before, agentUptime: 0 }, after: after({ agentUptime: 10 * hour }) };
    expect(ask(slow).result).toBe('failed');
    expect(ask({ ...slow, timeScale: 10 }).result).toBe('passed');
  });
  it('is, where neither boots nor a running time are told, another version after a silence', () => {
    for (const untold of [{ before: { ...before, agentUptime: null } }, { after: after({ agentUptime: null }) }]) {
      expect(ask(untold).result).toBe('passed');
      expect(ask({ ...untold, seenSilent: false }).result).toBe('failed');
      const same = ask({ ...untold, versionMoved: false });
      expect(same).toMatchObject({ result: 'failed', cause: 'restart-not-proven' });
      expect(same.evidence).toContain('it tells neither boots nor a running time');
      expect(ask(untold).evidence).toContain('it runs another version than before');
    }
    // Boots that are counted decide, whatever else is not told.
    const counts = { before: { ...before, agentUptime: null, bootCount: 7 }, versionMoved: false, seenSilent: false };
    expect(ask({ ...counts, after: after({ agentUptime: null, bootCount: 8 }) }).result).toBe('passed');
    expect(ask({ ...counts, versionMoved: true, seenSilent: true, after: after({ agentUptime: null, bootCount: 7 }) }).result).toBe(
      'failed',
    );
  });
  it('wraps at 2^32 hundredths of a second, to the tick', () => {
    const at = (agentUptime: number) => ask({ before: { ...before, agentUptime } });
    expect(sysUpTimeWrap).toBe(42_949_672_960);
    expect(at(sysUpTimeWrap - 2 * hour).result).toBe('failed');
    expect(at(sysUpTimeWrap - 2 * hour - 10).result).toBe('passed');
    // A running time that went on has not wrapped, however long it was.
    expect(
      ask({ before: { ...before, agentUptime: sysUpTimeWrap - hour }, after: after({ agentUptime: 2 * hour }) }).evidence.join(),
    ).toMatch(/wrapped/);
  });
  it('tells what it was found by', () => {
    expect(ask({})).toEqual({
      name: 'restart',
      result: 'passed',
      before: 'up 90 d',
      after: 'up 1 min',
      evidence: ['sysUpTime was 90 d, is 1 min', 'snmpEngineBoots went from 5 to 6', 'the device was silent in between'],
      cause: null,
    });
    const counted = { before: { ...before, bootCount: 7 }, after: after({ bootCount: 7, engineBoots: 5 }), seenSilent: false };
    expect(ask(counted)).toEqual({
      name: 'restart',
      result: 'failed',
      before: 'up 90 d',
      after: 'up 1 min',
      evidence: ['the device counts 7 boots before, 7 after', 'sysUpTime was 90 d, is 1 min', 'the device was not seen silent in between'],
      cause: 'restart-not-proven',
    });
    const nothing = ask({
      before: { readAt: 0, agentUptime: null, bootCount: 3, engineBoots: null },
      after: after({ agentUptime: null, bootCount: null }),
    });
    expect(nothing).toMatchObject({ before: 'not known', after: 'not known' });
    expect(nothing.evidence).toEqual(['the device was silent in between', 'it runs another version than before']);
  });
});

describe('the checks after an upgrade', () => {
  const scheme = {
    patterns: ['[Vv]?(?P<a>\\d+)\\.(?P<b>\\d+)'],
    order: [
      { part: 'a', absent: 'first' as const },
      { part: 'b', absent: 'first' as const },
    ],
    write: '{a}.{b}',
  };
  it.each([
    [checkSerial('S1', 'S1'), { name: 'serial', result: 'passed', before: 'S1', after: 'S1', evidence: [], cause: null }],
    [checkSerial('S1', 'S2'), { name: 'serial', result: 'failed', before: 'S1', after: 'S2', evidence: [], cause: 'another-device' }],
    [checkSerial('S1', null), { name: 'serial', result: 'failed', before: 'S1', after: 'not told', evidence: [], cause: 'another-device' }],
    [
      checkVersion(scheme, '1.0', '2.0', 'V2.0'),
      { name: 'version', result: 'passed', before: '1.0', after: 'V2.0', evidence: [], cause: null },
    ],
    [
      checkVersion(scheme, '1.0', '2.0', '1.0'),
      { name: 'version', result: 'failed', before: '1.0', after: '1.0', evidence: ['the target is 2.0'], cause: 'old-version' },
    ],
    [
      checkVersion(scheme, '1.0', '2.0', null),
      { name: 'version', result: 'failed', before: '1.0', after: 'not told', evidence: ['the target is 2.0'], cause: 'old-version' },
    ],
    [
      checkNextBoot(scheme, '1.0', '2.0', 'v2.0'),
      { name: 'next boot', result: 'passed', before: '1.0', after: 'v2.0', evidence: [], cause: null },
    ],
    [
      checkNextBoot(scheme, '1.0', '2.0', '1.0'),
      { name: 'next boot', result: 'failed', before: '1.0', after: '1.0', evidence: [], cause: 'next-boot-not-saved' },
    ],
    [
      checkNextBoot(scheme, '1.0', '2.0', null),
      { name: 'next boot', result: 'failed', before: '1.0', after: 'not told', evidence: [], cause: 'next-boot-not-saved' },
    ],
  ])('%#: compares, tells both sides, and names the cause', (made, expected) => expect(made).toEqual(expected));
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
    expect(check).toEqual({
      name: 'configuration',
      result: 'failed',
      before: '3 lines',
      after: '1 lines gone, 1 new',
      evidence: ['-name a', '+name factory'],
      cause: 'settings-changed',
    });
    const same = checkConfiguration('name a\nport 1\n', 'name a\nport 1\n', rules).check;
    expect(same).toEqual({ name: 'configuration', result: 'passed', before: '2 lines', after: 'the same', evidence: [], cause: null });
    const long = checkConfiguration(Array.from({ length: 90 }, (_, i) => `a${i}\n`).join(''), '', rules).check;
    expect(long.evidence.length).toBe(40);
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

describe('ranges by arithmetic', () => {
  const octet = fc.integer({ min: 0, max: 255 });
  const range = fc.tuple(octet, octet, octet).map(([c, a, b]) => `127.40.${c % 3}.${Math.min(a, b)}-${Math.max(a, b)}`);
  it('are counted, listed and tested alike, whatever overlaps and is left out', () => {
    fc.assert(
      fc.property(fc.array(range, { minLength: 1, maxLength: 6 }), fc.array(range, { maxLength: 6 }), (ranges, exclude) => {
        const last = (text: string): [string, number, number] => {
          const match = /^(127\.40\.\d+)\.(\d+)-(\d+)$/.exec(text)!;
          return [match[1]!, Number(match[2]), Number(match[3])];
        };
        // The plain way: one by one.
        const all = new Set<string>();
        const out = exclude.map(last);
        for (const [net, a, b] of ranges.map(last))
          for (let n = a; n <= b; n++) if (!out.some(([o, x, y]) => o === net && n >= x && n <= y)) all.add(`${net}.${n}`);
        expect(new Set(addressesOf(ranges, exclude))).toEqual(all);
        expect(countAddresses(ranges, exclude)).toBe(all.size);
        const has = rangeTester(ranges, exclude);
        for (let c = 0; c < 3; c++) for (let n = 0; n < 256; n += 5) expect(has(`127.40.${c}.${n}`)).toBe(all.has(`127.40.${c}.${n}`));
      }),
      { numRuns: 60 },
    );
  });
  it('cost the same for large ones: two hundred of a million addresses, with two hundred left out', () => {
    const large = Array.from({ length: 200 }, (_, i) => `${i + 1}.0.0.0/12`);
    expect(
      countAddresses(
        large,
        large.slice(1).map((l) => l.replace('/12', '/13')),
      ),
    ).toBe(2 ** 20 - 2 + 199 * (2 ** 19 + 1 - 1));
    expect(() => addressesOf(large)).toThrow(/209714800 addresses together/);
  });
  it.each(['169.254.169.254', '169.254.0.0/16', '224.0.0.1-224.0.0.9', '0.0.0.0/8', '255.255.255.255'])(
    '%s is where no device is',
    (text) => expect(rangeOfNoDevices(['127.40.1.1', text])).toBe(text),
  );
  it('leaves all others alone', () => expect(rangeOfNoDevices(['127.40.1.0/24', '::1', '169.253.0.1-169.254.0.1'])).toBeNull());
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
    [0, '0 s'],
    [-5, '0 s'],
    [499, '499 ms'],
    [500, '1 s'],
    [999, '1 s'],
    [59_400, '59 s'],
    [60_000, '1 min'],
    [3_661_000, '1 h 1 min'],
    [86_400_000, '1 d'],
    [86_340_000, '23 h 59 min'],
    [2 * day + 59_000, '2 d'],
  ])('%d ms is %s', (ms, text) => expect(duration(ms)).toBe(text));
  it('every cause says what happened and what to look at next, once', () => {
    expect(new Set(causes.map((c) => c.code)).size).toBe(causes.length);
    for (const c of causes) {
      expect(c.what).toMatch(/^[A-Z].*\.$/);
      expect(c.next.length).toBeGreaterThan(20);
    }
  });
});
