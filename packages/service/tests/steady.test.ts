import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

const hour = 3_600_000;
const clocks = vi.hoisted(() => ({ uptime: 1000 }));
vi.mock('node:os', () => ({ uptime: () => clocks.uptime }));
// Another file may have loaded it before, with the true clock of the machine.
vi.resetModules();
const { resync, steadyNow, wallIsOff } = await import('../src/steady.js');

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

  it('begins anew with the time of day', () => {
    vi.setSystemTime(Date.now() - hour);
    resync();
    expect(wallIsOff()).toBe(0);
  });
});
