import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

const hour = 3_600_000;
const clocks = vi.hoisted(() => ({ uptime: 1000 }));
vi.mock('node:os', () => ({ uptime: () => clocks.uptime }));
// Another file may have loaded it before, with the true clock of the machine.
vi.resetModules();
const { goOnFrom, resync, steadyBegin, steadyNow, wallIsOff, whileMeasured } = await import('../src/steady.js');

describe('the clock of durations', () => {
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ['Date', 'performance'] });
    resync();
  });
  afterEach(() => vi.useRealTimers());
  const pass = (ms: number): void => {
    vi.advanceTimersByTime(ms);
    clocks.uptime += ms / 1000;
  };

  it('goes on by what passed when the time of day is set back or ahead', () => {
    const before = steadyNow();
    pass(5000);
    vi.setSystemTime(Date.now() - hour);
    expect(steadyNow() - before).toBe(5000);
    expect(wallIsOff()).toBe(-hour);
    pass(1000);
    vi.setSystemTime(Date.now() + 3 * hour);
    expect(steadyNow() - before).toBe(6000);
    expect(wallIsOff()).toBe(2 * hour);
  });

  it('has slept when the machine has', () => {
    const before = steadyNow();
    clocks.uptime += hour / 1000;
    expect(steadyNow() - before).toBe(hour);
  });

  it('takes no coarse tick of the machine for a sleep', () => {
    const before = steadyNow();
    clocks.uptime += 1;
    expect(steadyNow() - before).toBe(0);
  });

  it('begins anew with the time of day, and not while something is measured', () => {
    vi.setSystemTime(Date.now() - hour);
    resync();
    expect(wallIsOff()).toBe(0);
    let measured = true;
    whileMeasured(() => measured);
    vi.setSystemTime(Date.now() - hour);
    expect(resync()).toBe(false);
    expect(wallIsOff()).toBe(-hour);
    measured = false;
    expect(resync()).toBe(true);
    expect(wallIsOff()).toBe(0);
  });

  it.each([-2, 2])('goes on in the next service, though the clock was set by %i h meanwhile', (hours) => {
    const begin = steadyBegin('this start');
    pass(60_000);
    const told = steadyNow();
    // The next one begins with the time of day, as it is by then.
    vi.setSystemTime(Date.now() + hours * hour);
    pass(5000);
    resync();
    goOnFrom(begin, 'this start', told);
    expect(steadyNow() - told).toBe(5000);
  });

  it('goes on by the time of day when the machine was started anew, and never before what was told', () => {
    const begin = steadyBegin('this start');
    pass(60_000);
    const told = steadyNow();
    vi.setSystemTime(Date.now() + hour);
    resync();
    goOnFrom(begin, 'another start', told);
    expect(steadyNow() - told).toBe(hour);
    vi.setSystemTime(Date.now() - 2 * hour);
    resync();
    goOnFrom(begin, 'another start', told);
    expect(steadyNow()).toBe(told);
    resync();
    goOnFrom(null, null, told);
    expect(steadyNow()).toBe(told);
  });
});
