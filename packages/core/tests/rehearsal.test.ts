import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { rehearse, firstSteps } from '@barrow/core';
import { passage, planOf, typicalMs } from './plans.js';

const whole = firstSteps.reduce((sum, s) => sum + typicalMs[s], 0);

describe('a rehearsal', () => {
  it('takes the first wave, the soak, and then as many rounds as the limit asks for', () => {
    const r = rehearse(planOf({ devices: 7, first: 1, atOnce: 3 }), 0);
    expect(r.endsAt).toBe(whole + 60_000 + 2 * whole);
    expect(r.mostAtOnce).toBe(3);
    expect(r.waves).toEqual([
      { wave: 0, opensAt: 0, endsAt: whole },
      { wave: 1, opensAt: whole + 60_000, endsAt: whole + 60_000 + 2 * whole },
    ]);
  });

  it('tells when each device is down, and for how long', () => {
    const r = rehearse(planOf({ devices: 1, first: 0 }), 5000);
    const downFrom = 5000 + firstSteps.slice(0, firstSteps.indexOf('reboot')).reduce((sum, s) => sum + typicalMs[s], 0);
    expect(r.runs[0]).toMatchObject({
      beginsAt: 5000,
      endsAt: 5000 + whole,
      downFrom,
      downUntil: downFrom + typicalMs.reboot + typicalMs.return,
      downs: 1,
      downMs: typicalMs.reboot + typicalMs.return,
    });
    expect(r.mostDown).toBe(1);
  });

  it('tells of two images how often it is down, and how long in all', () => {
    const r = rehearse(planOf({ devices: 1, first: 0, each: [{ passage: passage(['4.2.1', '4.3.0', '5.0.0']) }] }), 0);
    expect(r).toMatchObject({ endsAt: 2 * whole, mostDown: 1 });
    expect(r.runs[0]).toMatchObject({ downs: 2, downMs: 2 * (typicalMs.reboot + typicalMs.return) });
    expect(r.runs[0]!.downUntil! - r.runs[0]!.downFrom!).toBe(whole + typicalMs.reboot + typicalMs.return);
  });

  it('keeps every limit and comes within a twentieth of the bound that the limits allow', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 60 }), fc.integer({ min: 1, max: 8 }), (devices, atOnce) => {
        const r = rehearse(planOf({ devices, first: 0, atOnce }), 0);
        const bound = Math.ceil(devices / atOnce) * whole;
        expect(r.mostAtOnce).toBe(Math.min(devices, atOnce));
        expect(r.runs.length).toBe(devices);
        expect(r.endsAt).toBeGreaterThanOrEqual(bound);
        expect(r.endsAt).toBeLessThanOrEqual(bound * 1.05);
      }),
      { numRuns: 60 },
    );
  });

  it("says which gates wait for a person's word", () => {
    expect(rehearse(planOf({ gate: { soakMs: 0, failureLimit: 1, approval: true } }), 0).approvals).toEqual([0]);
  });
});
