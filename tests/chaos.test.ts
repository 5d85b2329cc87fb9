import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ChaosHouse, Dice } from './support/chaos.js';

describe('a night in which anything may happen', () => {
  let house: ChaosHouse;
  beforeAll(async () => {
    house = await ChaosHouse.build(144);
  });
  afterAll(() => house?.remove());

  it('harms nobody, and every device is explained', async () => {
    const night = await house.night(2);
    expect(night.harm, night.deeds.join('\n')).toEqual([]);
    expect(Object.values(night.outcomes).reduce((sum, n) => sum + n, 0)).toBe(night.devices);
  });

  // Of another night, which is told to have done this harm and no other.
  it('tells harm where there is some: a choice too many, a restart in a write, another version, a torn image', async () => {
    let name = '';
    let verified = false;
    const { harm } = await house.night(4, (fleet, runs) => {
      const run = runs.find((r) => r.outcome === 'verified') ?? runs[0]!;
      name = run.name;
      verified = run.outcome === 'verified';
      const machine = fleet.machine(name);
      for (let n = 0; n < 9; n++) machine.choose(machine.persistent.nextBoot);
      machine.counters.restartsInWrite++;
      machine.running = { ...machine.running, version: '0.0.1' };
      const next = machine.persistent.store.findIndex((s) => s.name === machine.persistent.nextBoot);
      machine.persistent.store[next] = { ...machine.persistent.store[next]!, fault: 'torn write' };
      machine.state = 'dead';
    });
    expect(harm.map((h) => h.slice(name.length + 1).replace(/[\d.]+/g, 'n'))).toEqual([
      'was activated n times in n steps',
      'was restarted while it wrote',
      ...(verified ? ['is said to run n, and runs n'] : []),
      'would start what is torn write',
      'is dark',
    ]);
  });

  it('is the same for the same seed', () => {
    const [one, two] = [new Dice(7), new Dice(7)];
    expect(Array.from({ length: 20 }, () => one.between(0, 99))).toEqual(Array.from({ length: 20 }, () => two.between(0, 99)));
    expect(new Dice(8).next()).not.toBe(new Dice(7).next());
  });
});
